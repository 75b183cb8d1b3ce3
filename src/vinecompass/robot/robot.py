"""The robot file: body, drive and sensors, validated."""

from __future__ import annotations

from functools import cached_property
from pathlib import Path
from typing import Literal

import numpy as np
import shapely
from numpy.typing import NDArray
from pydantic import Field, model_validator

from vinecompass.files import Model, NotNegative, Number, Positive, Whole, read_model
from vinecompass.robot.lidar import Lidar

__all__ = ["Body", "Drive", "Inertial", "Robot", "WheelSensor", "read_robot"]


class Body(Model):
    """The outline that must not touch anything, in the body frame (origin midway between the driven wheels)."""

    outline: list[tuple[Number, Number]] | None = Field(None, description="[[x, y], ...] of 3 corners or more, m")
    radius: Positive | None = Field(None, description="radius of a round body, m")

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


class Drive(Model):
    """What the wheels can do. Speeds in m/s and rad/s, accelerations in m/s2 and rad/s2, all positive."""

    kind: Literal["differential"] = Field(description='"differential", the drive supported so far')
    track_width: Positive = Field(description="distance between the driven wheels, m")
    wheel_radius: Positive = Field(description="m")
    top_speed: Positive = Field(description="forward, m/s")
    reverse_speed: NotNegative = Field(description="backward, m/s, 0 where it never reverses")
    top_turn_rate: Positive = Field(description="rad/s")
    acceleration: Positive = Field(description="speeding up, m/s2")
    braking: Positive = Field(description="slowing down, m/s2")
    turn_acceleration: Positive = Field(description="rad/s2")


class WheelSensor(Model):
    """Wheel encoders: both wheels' angles, `rate` times a second."""

    rate: Positive = Field(50.0, description="Hz")
    ticks_per_turn: Whole = Field(2048, description="a whole number")


class Inertial(Model):
    """An IMU: turn rate and the two accelerations in the plane."""

    rate: Positive = Field(100.0, description="Hz")
    turn_rate_noise: NotNegative = Field(0.004, description="rad/s")
    turn_rate_bias: Number = Field(0.0, description="rad/s")
    acceleration_noise: NotNegative = Field(0.06, description="m/s2")
    acceleration_bias: tuple[Number, Number] = Field((0.0, 0.0), description="[x, y], m/s2")


class Robot(Model):
    """A wheeled robot. `read_robot` makes one from a ``robot.toml``."""

    name: str = Field(description="a name")
    body: Body = Field(description="a [body] table")
    drive: Drive = Field(description="a [drive] table")
    lidar: list[Lidar] = Field(min_length=1, max_length=1, description="one [[lidar]] table")
    wheels: WheelSensor = Field(default_factory=WheelSensor, description="a [wheels] table")
    imu: Inertial = Field(default_factory=Inertial, description="an [imu] table")

    @property
    def scanner(self) -> Lidar:
        """The lidar whose readings are the ``scans`` stream."""
        return self.lidar[0]


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
