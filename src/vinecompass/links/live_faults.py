"""Faults that befall a robot while it drives: put between the simulator and the navigator, one at a time."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from vinecompass.errors import InputError
from vinecompass.runs import Scan, Track
from vinecompass.simulation import Simulator

__all__ = ["LIVE_FAULTS", "LiveFault"]

LIVE_FAULTS = {
    "scanner dead": "no new scan",
    "half blind": "one half of the beams gives no reading",
    "odometry frozen": "the odometry says that the robot stands",
    "wheels slip": "the floor under the wheels carries only a tenth",
    "carried away": "the robot is put down elsewhere",
    "clock jump": "the robot's clock jumps by 30 s",
    "late data": "scans and odometry come half a second late",
}
"""What can befall it, by name."""
CLEAR_OF_PEOPLE = 1.5
"""Metres from the nearest person within which no robot is put down."""


@dataclass
class LiveFault:
    """One fault, from a time on, for some seconds.

    Parameters
    ----------
    kind : str
        One of `LIVE_FAULTS`.
    begin : float
        Seconds of simulated time.
    duration : float
        Seconds; `inf` is for good.
    place : array_like, (3,), optional
        Where a robot that is carried away is put down, in the site frame.

    Raises
    ------
    InputError
        There is no such fault, or it lacks its place.
    """

    kind: str
    begin: float
    duration: float = np.inf
    place: tuple[float, float, float] | None = None
    _scan: Scan | None = field(default=None, init=False, repr=False)
    _kept: list[tuple[float, Scan, Track]] = field(default_factory=list, init=False, repr=False)
    _frozen: NDArray[np.float64] | None = field(default=None, init=False, repr=False)
    _done: bool = field(default=False, init=False, repr=False)

    def __post_init__(self) -> None:
        if self.kind not in LIVE_FAULTS:
            raise InputError("is not a fault known here", key="fault", value=self.kind, expected=", ".join(LIVE_FAULTS))
        if self.kind == "carried away" and self.place is None:
            raise InputError("is missing", key="place", expected="x, y, heading where the robot is put down")

    def spoil(self, t: float, scan: Scan, odometry: Track, simulator: Simulator) -> tuple[float, Scan, Track]:
        """Return now, the last scan and the odometry as the navigator gets them."""
        active = self.begin <= t < self.begin + self.duration
        if self.kind == "late data":
            self._kept.append((t, scan, odometry))
            if not active:
                return t, scan, odometry
            old = [row for row in self._kept if row[0] <= t - 0.5] or self._kept[:1]
            return t, old[-1][1], old[-1][2]
        if self.kind == "wheels slip":
            simulator.grip_factor = 0.1 if active else 1.0
        if not active:
            self._scan = scan
            # A clock that has jumped stays where it is.
            later = 30.0 if self.kind == "clock jump" and t >= self.begin + self.duration else 0.0
            return self._shifted(t, scan, odometry, later)
        if self.kind == "scanner dead" and self._scan is not None:
            return t, self._scan, odometry
        if self.kind == "half blind":
            ranges = scan.ranges.copy()
            ranges[: len(ranges) // 2] = np.nan
            return t, replace(scan, ranges=ranges), odometry
        if self.kind == "odometry frozen":
            if self._frozen is None:
                self._frozen = odometry.poses[-1].copy()
            return t, scan, Track(odometry.t, np.tile(self._frozen, (len(odometry.t), 1)))
        if self.kind == "carried away" and not self._done and self.place is not None:
            # Whoever carries it puts it down on nobody.
            x, y, _ = self.place
            if all(np.hypot(each.x - x, each.y - y) > CLEAR_OF_PEOPLE for each in simulator.people):
                simulator.put_down(self.place)
                self._done = True
        return self._shifted(t, scan, odometry, 30.0 if self.kind == "clock jump" else 0.0)

    @staticmethod
    def _shifted(t: float, scan: Scan, odometry: Track, later: float) -> tuple[float, Scan, Track]:
        return t + later, replace(scan, t=scan.t + later), Track(odometry.t + later, odometry.poses)
