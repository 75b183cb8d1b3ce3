"""Safety, below everything else: no command is let through that could not be braked before something seen."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from math import atan2, hypot, radians

import numpy as np
import shapely
from numpy.typing import ArrayLike, NDArray

from vinecompass.contact import Walking, first_run_into, shape_of
from vinecompass.costs import CostMap
from vinecompass.following import share_in_company
from vinecompass.geometry import inverse, transform_points, wrap_heading
from vinecompass.motion import Command, braked_on_its_curve, limit_command, limits_of
from vinecompass.navigation.mission.mission_log import MissionLog
from vinecompass.robot import Robot
from vinecompass.settings import SafetySettings

__all__ = ["Safety"]

FloatArray = NDArray[np.float64]
SHARES_TRIED = [
    *((share, share) for share in (1.0, 0.75, 0.5, 0.35, 0.2, 0.1)),
    (0.5, 0.0),
    (0.2, 0.0),
    (0.0, 0.5),
    (0.0, 0.2),
]
"""Shares of a command's speed and turn rate that are tried: its own curve, slower; then only one of the two.

Beside a wall a body often cannot turn as it would, because its tail swings out, and yet drive on a little.
"""
SPACING = 0.03
"""Metres that a point of the body moves at most between two poses at which it is looked at."""
DRIFT = 0.08, 0.06
"""m/s and rad/s off what was commanded from which the body is taken to drift, as its wheels slip."""
MARGIN_SHARES = (1.0, 0.5, 0.25, 0.0)
"""Shares of the margin that are kept, each for the points that have not come within it yet."""
FULL_MARGIN_SPEED, LEAST_SHARE = 0.3, 0.5
"""m/s of the body's fastest point from which the whole margin is kept, and what is kept of it by one that creeps.

Where body and room are nearly alike, creeping is the only way to get out or on.
"""

LEFT_BEHIND = radians(120.0)
"""Bearing off the robot's course from which it leaves a person behind, and needs not go slower for them."""


class Safety:
    """Lets commands through, or less of them, or none.

    Parameters
    ----------
    robot : Robot
    settings : SafetySettings, optional
    log : MissionLog, optional
        Where each intervention is noted with its numbers.
    """

    def __init__(self, robot: Robot, *, settings: SafetySettings | None = None, log: MissionLog | None = None) -> None:
        self._robot = robot
        self._limits = limits_of(robot.drive)
        self._settings = settings or SafetySettings()
        self._log = log if log is not None else MissionLog()
        self._outer_radius = robot.widened(self._settings.margin).body.outer_radius
        # Each person is a ring of points.
        angles = np.linspace(0.0, 2.0 * np.pi, 12, endpoint=False)
        self._ring = np.column_stack([np.cos(angles), np.sin(angles)])
        # A margin that something has come into already still leaves a part of it, and the body. Each outline counts
        # from a speed of the body's fastest point on.
        self._outlines = [
            (
                FULL_MARGIN_SPEED * share if share > LEAST_SHARE else 0.0,
                shape_of(robot.widened(share * self._settings.margin).body),
            )
            for share in MARGIN_SHARES
        ]

    def stop(self, t: float, current: Command, duration: float, rule: str) -> Command:
        """Return the controlled stop, braking on its curve, and note why."""
        given = braked_on_its_curve(current, duration, self._limits)
        if not current.standing:
            self._log.intervene(t, duration, rule, current, given, {"speed_m_per_s": current.speed})
        return given

    def check(
        self,
        t: float,
        wanted: Command,
        current: Command,
        points: FloatArray,
        *,
        duration: float,
        pose: ArrayLike | None = None,
        floor: CostMap | None = None,
        people: Sequence[Walking] = (),
        measured: FloatArray | None = None,
        unseen: Callable[[FloatArray, float], bool] | None = None,
    ) -> Command:
        """Return what may be done of a wanted command.

        Parameters
        ----------
        t : float
            Now, s.
        wanted, current : Command
        points : array, (N, 2)
            What the scanner sees, in the body frame, m.
        duration : float
            Of the command, s.
        pose : array_like, (3,), optional
            In the site frame: what slow zones and people need.
        floor : CostMap, optional
            Whose slow zones cap the speed.
        people : sequence of Walking, optional
        measured : array, (3,), optional
            The body's velocity by the odometry.
        unseen : callable, optional
            As in `Situation`: tells whether a motion leads over floor that was not seen.
        """
        drift = None
        if measured is not None:
            off = measured - current.velocity
            drift = off if np.hypot(off[0], off[1]) > DRIFT[0] or abs(off[2]) > DRIFT[1] else None
        rule = ""
        asked = limit_command(wanted, current, duration, self._limits)
        command = asked
        cap, why, numbers = self.cap(pose, floor, people, heading_for=command)
        pace = float(np.hypot(command.speed, command.sideways))
        if pace > cap:
            command = limit_command(command.scaled(cap / pace), current, duration, self._limits)
            rule = why
        if people and pose is not None:
            points = np.vstack([points, self._where_people_will_be(np.asarray(pose, dtype=float), people)])
        safe, stopped_by, point = self._stoppable(command, current, points, duration, drift, unseen)
        if safe != command:
            rule = stopped_by
            numbers = {} if point < 0 else {"ahead_m": float(points[point, 0]), "left_m": float(points[point, 1])}
        if rule and safe != asked:
            self._log.intervene(t, duration, rule, wanted, safe, numbers)
        return safe

    def _stoppable(
        self,
        wanted: Command,
        current: Command,
        points: FloatArray,
        duration: float,
        drift: FloatArray | None,
        unseen: Callable[[FloatArray, float], bool] | None,
    ) -> tuple[Command, str, int]:
        """Return the greatest part of a command from which the robot can stop before it touches a point.

        Nor does it come over floor that was not seen. Besides, by which rule the whole command fails, and the point
        that it would touch, -1 if that is not the reason.

        `drift` is what the body does besides what it is told, as on wet floor: the command must be safe with it and
        without. If no part is safe, it brakes on its curve.
        """
        limits, delay, rule, point = self._limits, self._settings.delay, "", -1
        for share, turn_share in SHARES_TRIED:
            part = Command(
                share * wanted.speed, turn_rate=turn_share * wanted.turn_rate, sideways=share * wanted.sideways
            )
            command = limit_command(part, current, duration, limits)
            pace = hypot(command.speed, command.sideways)
            fastest = max(pace, abs(command.turn_rate) * self._outer_radius, 1e-6)
            # Braking from v takes v / b seconds and half the way that v would make in that time.
            reach = (
                delay + duration + 0.5 * max(pace / limits.braking, abs(command.turn_rate) / limits.turn_acceleration)
            )
            velocities = [command.velocity]
            if drift is not None and not command.standing:
                velocities.append(command.velocity + drift)
            touched = (
                first_run_into(outline, points, velocity, reach, spacing=SPACING)
                for counts_from, outline in self._outlines
                if counts_from <= fastest
                for velocity in velocities
            )
            hit = next((index for index in touched if index >= 0), -1)
            if hit >= 0:
                point = point if rule else hit
                rule = rule or "brakes before something seen"
            elif unseen is not None and not command.standing and unseen(command.velocity, reach):
                rule = rule or "has not seen the floor there"
            else:
                return command, rule, point
        return braked_on_its_curve(current, duration, limits), rule, point

    def cap(
        self, pose: ArrayLike | None, floor: CostMap | None, people: Sequence[Walking], *, heading_for: Command
    ) -> tuple[float, str, dict[str, float]]:
        """Return the highest speed here, m/s (`inf` if no rule caps it), the rule that says so, and its numbers.

        A person counts whom the command leads towards or beside, not one whom the robot leaves behind.
        """
        s = self._settings
        if pose is None:
            return float("inf"), "", {}
        here = np.asarray(pose, dtype=float)
        cap, rule = float("inf"), ""
        numbers: dict[str, float] = {}
        if floor is not None and floor.top_speeds is not None:
            zone = float(floor.grid.values_at(here[None, :2], floor.top_speeds, np.inf)[0])
            if zone < cap:
                cap, rule, numbers = zone, "in a slow zone", {"zone_m_per_s": zone}

        def from_afar(gap: float) -> float:
            """Return the speed, m/s, that it can still brake to `people_speed` before it is as near as that counts."""
            return float(np.sqrt(s.people_speed**2 + 2.0 * self._limits.braking * max(gap - distance, 0.0)))

        distance = share_in_company(here, people) * s.people_distance
        course = float(here[2]) + (atan2(heading_for.sideways, heading_for.speed) if not heading_for.standing else 0.0)
        for person in people:
            middles = float(np.hypot(here[0] - person.x, here[1] - person.y))
            bearing = abs(wrap_heading(atan2(person.y - here[1], person.x - here[0]) - course))
            if bearing > LEFT_BEHIND:
                continue
            if from_afar(middles - self._outer_radius - person.radius) >= self._limits.top_speed:
                continue
            body = shapely.Polygon(transform_points(here, self._robot.body.polygon))
            gap = float(body.distance(shapely.Point(person.x, person.y))) - person.radius
            near = from_afar(gap)
            if near < cap:
                cap, rule = near, "near a person"
                numbers = {"gap_m": gap, "cap_m_per_s": near}
        return cap, rule, numbers

    def _where_people_will_be(self, pose: FloatArray, people: Sequence[Walking]) -> FloatArray:
        """Return points about each person now and within the next second, in the body frame."""
        rows = Walking.rows(people)
        # Safety keeps its margin to the points as to all others.
        reach = rows[:, 2] + self._settings.people_margin - self._settings.margin
        rings = reach[:, None, None] * self._ring
        moments = [rows[:, None, :2] + ahead * rows[:, None, 3:] + rings for ahead in (0.0, 0.4, 0.8)]
        return transform_points(inverse(pose), np.concatenate(moments).reshape(-1, 2))
