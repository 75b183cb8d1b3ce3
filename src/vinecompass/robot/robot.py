"""The robot file: body, drive and sensors, validated."""

from __future__ import annotations

from functools import cached_property
from pathlib import Path
from typing import Literal

import numpy as np
import shapely
from numpy.typing import NDArray
from pydantic import Field, model_validator

from vinecompass.door import checked
from vinecompass.files import (
    Model,
    Near,
    NotNegative,
    Number,
    Positive,
    Rate,
    Size,
    Speed,
    Whole,
    find_named,
    read_model,
)
from vinecompass.robot.lidar import Lidar

MOST_CORNERS = 200
"""Of a body, each of which is asked for what it touches."""

__all__ = ["Body", "Drive", "Inertial", "OmniWheel", "Positioning", "Robot", "WheelSensor", "read_robot"]


class Body(Model):
    """The outline that must not touch anything, in the body frame (origin midway between the driven wheels)."""

    outline: list[tuple[Near, Near]] | None = Field(
        None, max_length=MOST_CORNERS, description="[[x, y], ...] of 3 corners or more, m"
    )
    radius: Size | None = Field(None, description="radius of a round body, m")

    @model_validator(mode="after")
    def _one_shape(self) -> Body:
        if (self.outline is None) == (self.radius is None):
            raise ValueError("give either outline or radius")
        if self.outline is not None:
            shape = shapely.Polygon(self.outline) if len(self.outline) >= 3 else shapely.Polygon()
            if shape.is_empty or not shape.is_valid or not shape.contains(shapely.Point(0.0, 0.0)):
                raise ValueError("outline must be a polygon that does not cross itself and holds the origin")
        return self

    @cached_property
    def polygon(self) -> NDArray[np.float64]:
        """The corners ``(N, 2)``, m; a round body as the 24-gon drawn about its circle, so never too small."""
        if self.outline is not None:
            return np.array(self.outline)
        assert self.radius is not None
        angles = np.arange(24) * (2.0 * np.pi / 24)
        return self.radius / np.cos(np.pi / 24) * np.stack([np.cos(angles), np.sin(angles)], axis=-1)

    @cached_property
    def inner_radius(self) -> float:
        """Distance from the origin to the nearest side: whatever is closer is touched at every heading, m."""
        return float(shapely.Polygon(self.polygon).exterior.distance(shapely.Point(0.0, 0.0)))

    @cached_property
    def outer_radius(self) -> float:
        """Distance from the origin to the farthest corner: whatever is farther is touched at no heading, m."""
        return float(np.hypot(*self.polygon.T).max())

    @cached_property
    def covering_discs(self) -> tuple[NDArray[np.float64], float]:
        """The middles ``(D, 2)`` and the radius of equal discs along the x axis that cover the outline, m."""
        low, high = self.polygon.min(axis=0), self.polygon.max(axis=0)
        length, width = high - low
        count = max(int(np.ceil(1.5 * length / width)), 1)
        part = length / count
        x = low[0] + part * (np.arange(count) + 0.5)
        y = 0.5 * (low[1] + high[1])
        return np.column_stack([x, np.full(count, y)]), float(np.hypot(0.5 * part, 0.5 * width))


class OmniWheel(Model):
    """One ``[[drive.wheel]]`` of an omni drive: a wheel with free rollers about its rim."""

    name: str = Field(description="a name, the wheel's column in the wheels table")
    position: tuple[Near, Near] = Field(description="[x, y] on the body, m")
    direction_deg: Number = Field(description="where it rolls to when its angle grows, degrees from the body's x axis")
    roller_deg: Number = Field(0.0, gt=-80.0, lt=80.0, description="how the rollers are set: 0, or 45 or -45 degrees")

    @cached_property
    def rolling(self) -> NDArray[np.float64]:
        """The speed of its rim from the body's velocity ``(3,)``, by (m/s, m/s, rad/s), in m/s."""
        (x, y), roller = self.position, np.radians(self.roller_deg)
        angle = np.radians(self.direction_deg) + roller
        return np.array([np.cos(angle), np.sin(angle), x * np.sin(angle) - y * np.cos(angle)]) / np.cos(roller)


class Drive(Model):
    """What the wheels can do. Speeds in m/s and rad/s, accelerations in m/s2 and rad/s2, all positive.

    A differential drive has a `track_width`; a car also a `wheelbase` and a `turning_radius`, the track width being
    that of its rear wheels; an omni drive has three ``[[drive.wheel]]`` tables or more.
    """

    kind: Literal["differential", "omni", "car"] = Field(description='"differential", "omni" or "car"')
    wheel_radius: Size = Field(description="m")
    wheel_difference: Number = Field(
        0.0, gt=-0.5, lt=0.5, description="by what share the right wheel is larger than the left one"
    )
    track_width: Size | None = Field(None, description="distance between the driven wheels, m")
    wheelbase: Size | None = Field(None, description="distance from the rear to the front axle of a car, m")
    turning_radius: Size | None = Field(None, description="least radius a car can turn on, m")
    wheels: tuple[OmniWheel, ...] = Field((), alias="wheel", description="a table for each wheel of an omni drive")
    top_speed: Speed = Field(description="forward, m/s")
    reverse_speed: NotNegative = Field(description="backward, m/s, 0 where it never reverses")
    top_turn_rate: Speed = Field(description="rad/s")
    acceleration: Speed = Field(description="speeding up, m/s2")
    braking: Speed = Field(description="slowing down, m/s2")
    turn_acceleration: Speed = Field(description="rad/s2")
    delay: NotNegative = Field(0.0, description="from a command to its effect, s")
    lag: NotNegative = Field(0.0, description="time constant with which the base follows what it is told, s")
    least_speed: NotNegative = Field(0.0, description="below it the base stands, m/s")
    least_turn_rate: NotNegative = Field(0.0, description="below it a standing base does not turn, rad/s")

    @model_validator(mode="after")
    def _has_what_its_kind_needs(self) -> Drive:
        needed = {
            "differential": {"track_width"},
            "car": {"track_width", "wheelbase", "turning_radius"},
            "omni": {"wheels"},
        }
        given = {key for key in ("track_width", "wheelbase", "turning_radius", "wheels") if getattr(self, key)}
        for key in sorted(needed[self.kind] ^ given):
            name = "[[drive.wheel]]" if key == "wheels" else key
            if key in given:
                raise ValueError(f"a drive of kind {self.kind} has no {name}")
            raise ValueError(f"a drive of kind {self.kind} needs {name}: {type(self).model_fields[key].description}")
        if self.kind == "omni" and self.wheel_difference != 0.0:
            raise ValueError("a drive of kind omni has no wheel_difference")
        if self.kind == "omni" and np.linalg.matrix_rank([wheel.rolling for wheel in self.wheels], tol=1e-6) < 3:
            raise ValueError("the wheels of an omni drive must be able to push ahead, sideways and round")
        return self

    @property
    def wheel_names(self) -> tuple[str, ...]:
        """The wheels in the order of the ``wheels`` stream: left and right, or as an omni drive names them."""
        return tuple(wheel.name for wheel in self.wheels) or ("left", "right")

    @property
    def steered(self) -> bool:
        """Whether its wheels stream tells a steering angle: it has a front axle some way from the rear one."""
        return self.wheelbase is not None


class WheelSensor(Model):
    """Wheel encoders: each wheel's angle, `rate` times a second; and how wheels creep even on dry floor."""

    rate: Rate = Field(50.0, description="Hz")
    ticks_per_turn: Whole = Field(2048, description="a whole number")
    slip: NotNegative = Field(
        0.004, description="standard deviation of each wheel's slip on dry floor, a share of its speed"
    )
    slip_time: Positive = Field(0.6, description="how long such a slip lasts, s")
    scale_spread: Positive = Field(
        0.003, description="doubt about how far a turn of each wheel goes, and about the track width, a share"
    )
    delay: NotNegative = Field(0.0, description="from a reading until it is handed over, s")
    jitter: NotNegative = Field(0.0, description="by how much that varies, s")


class Inertial(Model):
    """An IMU: turn rate and the two accelerations in the plane, each the mean since the reading before."""

    mount: tuple[Near, Near, Number] = Field(
        (0.0, 0.0, 0.0), description="[x, y, heading_deg] on the body, m and degrees"
    )
    rate: Rate = Field(100.0, description="Hz")
    turn_rate_noise: NotNegative = Field(0.004, description="rad/s")
    turn_rate_bias: Number = Field(0.0, description="rad/s")
    turn_rate_bias_spread: Positive = Field(0.01, description="doubt about that bias, rad/s")
    turn_rate_bias_walk: NotNegative = Field(3e-6, description="how far that bias wanders in 1 s, rad/s")
    turn_rate_scale: Positive = Field(1.0, description="what it reads for each rad/s of true turn rate")
    turn_rate_scale_spread: Positive = Field(0.01, description="doubt about that scale, a share")
    acceleration_noise: NotNegative = Field(0.06, description="m/s2")
    acceleration_bias: tuple[Number, Number] = Field((0.0, 0.0), description="[x, y], m/s2")
    acceleration_bias_spread: Positive = Field(0.05, description="doubt about that bias, m/s2")
    delay: NotNegative = Field(0.0, description="from a reading until it is handed over, s")
    jitter: NotNegative = Field(0.0, description="by how much that varies, s")

    @cached_property
    def mount_pose(self) -> NDArray[np.float64]:
        """The sensor's pose ``(3,)`` in the body frame, m and radians."""
        x, y, heading_deg = self.mount
        return np.array([x, y, np.radians(heading_deg)])


class Positioning(Model):
    """A sensor of absolute position in the site: a satellite receiver, or beacons."""

    mount: tuple[Near, Near] = Field((0.0, 0.0), description="[x, y] of the antenna on the body, m")
    rate: Rate = Field(5.0, description="Hz")
    noise: Positive = Field(0.05, description="standard deviation of x and of y, m")


class Robot(Model):
    """A wheeled robot. `read_robot` makes one from a ``robot.toml``."""

    name: str = Field(description="a name")
    body: Body = Field(description="a [body] table")
    drive: Drive = Field(description="a [drive] table")
    lidars: list[Lidar] = Field(alias="lidar", min_length=1, max_length=1, description="one [[lidar]] table")
    wheels: WheelSensor = Field(default_factory=WheelSensor, description="a [wheels] table")
    imu: Inertial = Field(default_factory=Inertial, description="an [imu] table")
    position: Positioning | None = Field(None, description="a [position] table")

    @property
    def scanner(self) -> Lidar:
        """The first lidar, whose readings are the ``scans`` stream."""
        return self.lidars[0]

    @property
    def farthest(self) -> float:
        """The longest range that one of its lidars measures, m."""
        return max(lidar.farthest for lidar in self.lidars)

    def within_body(self, lidar: Lidar) -> NDArray[np.float64]:
        """Return the range ``(beams,)`` within which each beam is still over the robot's own body, m.

        What ends there is dirt, or a part of the robot, and no obstacle. 0 where a beam begins off the body.
        """
        body = shapely.Polygon(self.body.polygon)
        x, y, heading = lidar.mount_pose
        origin, angles = shapely.Point(x, y), heading + lidar.beam_angles
        if not body.contains(origin):
            return np.zeros(lidar.beams)
        far = 2.0 * self.body.outer_radius
        ends = np.column_stack([x + far * np.cos(angles), y + far * np.sin(angles)])
        beams = shapely.linestrings(np.stack([np.broadcast_to([x, y], ends.shape), ends], axis=1))
        # The first edge that a beam meets: beyond it, over a hollow of the outline, something may stand.
        return np.asarray(shapely.distance(origin, shapely.intersection(beams, body.exterior)))

    def find_lidar(self, name: str) -> Lidar:
        """Return the lidar of a name, as scans carry it; the first one for an empty name.

        Raises
        ------
        InputError
            It has none of that name.
        """
        return find_named(self.lidars, name, kind="lidar", where=self.name) if name else self.scanner

    def widened(self, margin: float) -> Robot:
        """Return the robot with its body wider by a margin on every side, m."""
        wider = shapely.Polygon(self.body.polygon).buffer(margin, join_style="mitre")
        outline = [(float(x), float(y)) for x, y in wider.exterior.coords[:-1]]
        return self.model_copy(update={"body": Body(outline=outline)})


@checked
def read_robot(path: str | Path) -> Robot:
    """Read a robot file.

    Parameters
    ----------
    path : path-like
        A ``robot.toml``.

    Raises
    ------
    InputError
        The file is missing, not TOML, or a key is missing, unknown, of the wrong type or out of range.

    Examples
    --------
    >>> from vinecompass import demo_file
    >>> read_robot(demo_file("robot.toml")).name
    'Tendril'
    """
    return read_model(path, Robot, kind="robot")
