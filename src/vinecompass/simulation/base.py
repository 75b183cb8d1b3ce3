"""The simulated base: it does what it is told, a little late, on wheels that slip; what it touches stops it."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.contact import shape_of
from vinecompass.contact.kernels import touches
from vinecompass.errors import InputError
from vinecompass.geometry import transform_points, wrap_angle
from vinecompass.motion import Command, done_of, limits_of, wheel_places, wheel_radii
from vinecompass.robot import Robot
from vinecompass.simulation.kernels import move_body
from vinecompass.simulation.site import Site

__all__ = ["TIME_STEP", "BasePath", "SimulatedBase"]

FloatArray = NDArray[np.float64]
TIME_STEP = 0.01
"""Seconds between two steps of the body's motion."""


class Tyres(NamedTuple):
    """The wheels of a base: their radii ``(wheels,)``, m; the slip of a dry one, a share of its speed, and how long it
    lasts, s."""

    radii: FloatArray
    slip: float
    slip_time: float


class BaseState(NamedTuple):
    """Where a base is and how it moves, changed in place as it goes on.

    Parameters
    ----------
    pose : array, (3,)
        Of the body in the site frame; the heading runs on beyond pi.
    asked, reached : array, (3,)
        The velocity that the base asks of its wheels by now of what it was told to do, and the one that they have
        reached of that.
    velocity : array, (3,)
        The body's own.
    angles, slips, wanders : array, (wheels,)
        How far each wheel has turned, radians; its slip, a share of its speed; and the noise in that.
    """

    pose: FloatArray
    asked: FloatArray
    reached: FloatArray
    velocity: FloatArray
    angles: FloatArray
    slips: FloatArray
    wanders: FloatArray


class BasePath(NamedTuple):
    """What became of a base in each time step: body's poses, wheels' angles, body's velocities."""

    poses: FloatArray
    angles: FloatArray
    velocities: FloatArray


class SimulatedBase:
    """A base in a site.

    Parameters
    ----------
    site : Site
    robot : Robot
    start : array_like, (3,)
        In the site frame.
    rng : Generator

    Attributes
    ----------
    grip_factor : float
        What the grip of all floor is multiplied by.

    Raises
    ------
    InputError
        The body does not fit where it starts.
    """

    def __init__(self, site: Site, robot: Robot, start: ArrayLike, rng: np.random.Generator) -> None:
        self._site = site
        self._robot = robot
        self._rng = rng
        self._limits = limits_of(robot.drive)
        self._wheel_places = wheel_places(robot.drive)
        self._tyres = Tyres(wheel_radii(robot.drive), robot.wheels.slip, robot.wheels.slip_time)
        self._body = shape_of(robot.body)
        wheels = len(self._limits.rolling)
        self._state = BaseState(
            pose=np.array(start, dtype=float),
            asked=np.zeros(3),
            reached=np.zeros(3),
            velocity=np.zeros(3),
            angles=np.zeros(wheels),
            slips=np.zeros(wheels),
            wanders=rng.normal(size=wheels),
        )
        self._told: list[tuple[float, FloatArray]] = [(0.0, np.zeros(3))]
        self.grip_factor = 1.0
        self._need_room()

    @property
    def pose(self) -> FloatArray:
        """The body's pose ``(3,)`` in the site frame."""
        return np.array([*self._state.pose[:2], wrap_angle(self._state.pose[2])])

    @property
    def velocity(self) -> FloatArray:
        """The body's velocity ``(3,)``: ahead, to the left, m/s, and turn rate, rad/s."""
        return self._state.velocity.copy()

    def use(self, site: Site) -> None:
        """Go on in another site."""
        self._site = site

    @property
    def outline(self) -> FloatArray:
        """The body's corners ``(N, 2)`` in the site frame, m."""
        return np.asarray(transform_points(self._state.pose, self._body.outline))

    def put_down(self, pose: ArrayLike) -> None:
        """Carry the base to another pose ``(3,)``, where it stands."""
        self._state.pose[:] = np.asarray(pose, dtype=float)
        self._state.velocity[:] = 0.0
        self._need_room()

    def go_on(self, t: float, command: Command, steps: int, people: FloatArray) -> tuple[BasePath, int]:
        """Hold a command for some time steps from `t` on; return what became of it, and in how many it touched.

        People ``(P, 5)`` stop the body as walls do.
        """
        wheels = len(self._limits.rolling)
        path = BasePath(np.empty((steps, 3)), np.empty((steps, wheels)), np.empty((steps, 3)))
        contacts = move_body(
            self._state,
            self._limits,
            self._tyres,
            self._targets(t, command, steps),
            self._grips(),
            self._rng.normal(size=(steps, wheels)),
            TIME_STEP,
            self._body,
            self._site.segments,
            people,
            path,
        )
        return path, int(contacts)

    def _need_room(self) -> None:
        """Raise `InputError` where the body does not fit."""
        x, y, heading = self._state.pose
        if touches(self._body, x, y, heading, self._site.segments, np.zeros((0, 5))):
            raise InputError(
                f"the body of {self._robot.name} touches a wall or solid there",
                key="start",
                value=[round(float(x), 3), round(float(y), 3), round(float(np.degrees(heading)), 1)],
                expected="a pose [x, y, heading_deg] on free floor",
            )

    def _targets(self, t: float, command: Command, steps: int) -> FloatArray:
        """Return the velocity wanted in each time step ``(steps, 3)``: a command comes into effect after its delay."""
        self._told.append((t, done_of(command, self._robot.drive).velocity))
        targets = np.empty((steps, 3))
        for step in range(steps):
            middle = t + TIME_STEP * (step + 0.5) - self._limits.delay
            while len(self._told) > 1 and self._told[1][0] <= middle:
                self._told.pop(0)
            targets[step] = self._told[0][1]
        return targets

    def _grips(self) -> FloatArray:
        places = transform_points(self._state.pose, self._wheel_places)
        return self.grip_factor * np.array([self._site.grip_at(x, y) for x, y in places.tolist()])
