"""A planar lidar: where it is mounted, where each beam points and when it fires."""

from __future__ import annotations

from functools import cached_property
from typing import Annotated

import numpy as np
from annotated_types import Ge, Le
from numpy.typing import NDArray
from pydantic import Field, Strict, model_validator

from vinecompass.files import Fraction, Model, Near, NotNegative, Number, Rate, Size
from vinecompass.robot.placed_beams import on_beams

__all__ = ["Lidar"]

FloatArray = NDArray[np.float64]
Offset = Annotated[float, Strict(), Ge(-1e11), Le(1e11)]
"""Seconds between two clocks, one of which may count since 1970."""
LONGEST_SWEEP = 1.05
"""Times its period that a sweep may last: rates are filed as round numbers."""


class Lidar(Model):
    """One ``[[lidar]]`` of a robot file. It spins `rate` turns a second, from its first beam to its last.

    A scanner that spins clockwise, or hangs upside down, has its last beam at the smaller angle. One that fires all
    beams at once, or whose driver lists them against its spin, says so by its `sweep_time`.
    """

    name: str = Field(description="a name for the sensor's frame")
    mount: tuple[Near, Near, Number] = Field(description="[x, y, heading_deg] on the body, m and degrees")
    first_beam_deg: Number = Field(description="angle of the first beam in the sensor's frame, degrees")
    last_beam_deg: Number = Field(description="angle of the last beam, degrees; below first_beam_deg if clockwise")
    beams: Annotated[int, Strict(), Ge(2), Le(100_000)] = Field(description="a whole number of beams, 2 to 100,000")
    nearest: NotNegative = Field(description="shortest range measured, m")
    farthest: Size = Field(description="longest range measured, m, above nearest")
    rate: Rate = Field(description="scans a second, Hz")
    sweep_time: Number | None = Field(
        None,
        description="from its first beam to its last, s: 0 if all fire at once, negative if the last one fires first; "
        "if left out, as long as a turn by that angle takes at this rate",
    )
    range_noise: NotNegative = Field(0.01, description="standard deviation of a range at 0 m, m")
    range_noise_per_metre: NotNegative = Field(0.0, description="what each metre of range adds to it, m/m")
    dropout: Fraction = Field(0.0, description="share of beams without a reading, 0 to 1")
    delay: NotNegative = Field(0.0, description="from the last beam of a scan until it is handed over, s")
    jitter: NotNegative = Field(0.0, description="by how much that varies, s")
    stamp_offset: Offset = Field(0.0, description="what its clock is behind the robot's, added to its stamps, s")

    @model_validator(mode="after")
    def _ordered(self) -> Lidar:
        if self.farthest <= self.nearest:
            raise ValueError(f"farthest = {self.farthest} is not above nearest = {self.nearest}")
        if not 0.0 < abs(self.last_beam_deg - self.first_beam_deg) <= 360.0:
            raise ValueError("first_beam_deg and last_beam_deg must differ, by 360 degrees at most")
        if self.sweep_time is not None and abs(self.sweep_time) > LONGEST_SWEEP / self.rate:
            raise ValueError(f"sweep_time = {self.sweep_time} is longer than rate = {self.rate} leaves for a scan")
        return self

    @cached_property
    def mount_pose(self) -> FloatArray:
        """The sensor's pose ``(3,)`` in the body frame, m and radians."""
        x, y, heading_deg = self.mount
        return np.array([x, y, np.radians(heading_deg)])

    @cached_property
    def beam_angles(self) -> FloatArray:
        """The direction of each beam ``(beams,)`` in the sensor frame, radians."""
        return np.radians(np.linspace(self.first_beam_deg, self.last_beam_deg, self.beams))

    @property
    def view(self) -> tuple[float, float]:
        """The middle of what it sees and half of that, radians, in the sensor frame."""
        low, high = sorted((self.first_beam_deg, self.last_beam_deg))
        return float(np.radians(0.5 * (low + high))), float(np.radians(0.5 * (high - low)))

    def beam_numbers(self, angles: FloatArray) -> FloatArray:
        """Return where angles ``(N,)``, radians, lie among the beams: 2.5 is midway between two of them."""
        first, step = self.beam_angles[0], self.beam_angles[1] - self.beam_angles[0]
        around = abs(2.0 * np.pi / step)
        return np.asarray(np.mod((angles - first) / step + 0.5, around) - 0.5)

    def on_beams(self, ranges: FloatArray, angles: FloatArray) -> FloatArray:
        """Return the readings of one scan, at any angles, as a range for each beam.

        A scanner that does not spin steadily has another number of readings each turn.

        Parameters
        ----------
        ranges, angles : array (N,)
            Any number of them, in metres and in radians in the sensor frame.

        Returns
        -------
        array (beams,)
            `nan` where no reading lies within half a beam.
        """
        return on_beams(ranges, self.beam_numbers(angles), self.beams)

    def read(self, ranges: NDArray[np.floating]) -> NDArray[np.bool_]:
        """Return which ranges ``(...)`` are readings: within the lidar's reach, or `inf`, nothing there."""
        return self.returned(ranges) | np.isposinf(ranges)

    def returned(self, ranges: NDArray[np.floating]) -> NDArray[np.bool_]:
        """Return which ranges ``(...)`` are of something within the lidar's reach, the ends of which count."""
        return np.asarray((ranges >= self.nearest) & (ranges <= self.farthest))

    @cached_property
    def beam_delays(self) -> FloatArray:
        """How long after the scan's stamp, which is that of the beam fired first, each one fires ``(beams,)``, s."""
        delays = self.sweep_seconds * np.linspace(0.0, 1.0, self.beams)
        return np.asarray(delays - min(self.sweep_seconds, 0.0))

    @property
    def sweep_seconds(self) -> float:
        """From its first beam to its last, s, negative if the last one fires first: as filed, or as it spins."""
        if self.sweep_time is not None:
            return self.sweep_time
        return abs(self.last_beam_deg - self.first_beam_deg) / (360.0 * self.rate)
