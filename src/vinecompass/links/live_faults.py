"""Faults that befall a robot while it drives: put between the simulator and the navigator, one at a time."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from vinecompass.errors import InputError
from vinecompass.robot import Lidar
from vinecompass.runs import Scan, Track
from vinecompass.simulation import Simulator

__all__ = ["LIVE_FAULTS", "LiveFault"]

Ranges = NDArray[np.float32]

Beams = Callable[[Ranges, Lidar, np.random.Generator], Ranges]
"""What becomes of a scan's ranges."""


def _beams(part: slice | Callable[[Ranges, np.random.Generator], NDArray[np.bool_]], low: float, high: float) -> Beams:
    """Return what lets some of a scan's beams read something between two ranges, m."""

    def spoil(ranges: Ranges, lidar: Lidar, rng: np.random.Generator) -> Ranges:
        spoilt = ranges.copy()
        chosen = np.zeros(len(ranges), bool)
        chosen[part if isinstance(part, slice) else part(ranges, rng)] = True
        spoilt[chosen] = rng.uniform(low, min(high, lidar.farthest), np.count_nonzero(chosen)) if low < high else low
        return spoilt

    return spoil


def _share(share: float) -> Callable[[Ranges, np.random.Generator], NDArray[np.bool_]]:
    return lambda ranges, rng: rng.random(len(ranges)) < share


ALL, FIRST_BEAMS = slice(None), slice(0, 70)
BEAM_FAULTS: dict[str, tuple[str, Beams]] = {
    "half blind": (
        "one half of the beams gives no reading",
        lambda ranges, lidar, rng: np.where(np.arange(len(ranges)) < len(ranges) // 2, np.float32(np.nan), ranges),
    ),
    "covered": ("something covers the scanner: all beams end at 0.02 m", _beams(ALL, 0.02, 0.02)),
    "no echo": ("no beam comes back: all ranges are beyond the farthest", _beams(ALL, 1e3, 1e3)),
    "zeros": ("a tenth of the beams reads 0", _beams(_share(0.1), 0.0, 0.0)),
    "spikes": ("one beam in fifty ends anywhere", _beams(_share(0.02), 0.1, np.inf)),
    "dirty sector": ("the first 70 beams end at 0.05 to 0.3 m, on dirt", _beams(FIRST_BEAMS, 0.05, 0.3)),
    "sun": ("low sun: the first 70 beams end anywhere", _beams(FIRST_BEAMS, 0.1, np.inf)),
    "black surfaces": (
        "what is farther than 3 m away sends nothing back",
        _beams(lambda ranges, rng: ranges > 3.0, np.inf, np.inf),
    ),
}
"""What can befall a scanner, by name: in words, and what becomes of the ranges."""
LIVE_FAULTS = {
    "scanner dead": "no new scan",
    **{name: words for name, (words, _) in BEAM_FAULTS.items()},
    "odometry frozen": "the odometry says that the robot stands",
    "wheels slip": "the floor under the wheels carries only a tenth",
    "carried away": "the robot is put down elsewhere",
    "clock jump": "the robot's clock jumps by 30 s",
    "late data": "scans and odometry come half a second late",
}
"""All that can befall a robot, by name."""
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
        if self.kind in BEAM_FAULTS:
            _, spoilt = BEAM_FAULTS[self.kind]
            # A scan that is handed over twice is the same both times.
            rng = np.random.default_rng(round(1e3 * scan.t))
            return t, replace(scan, ranges=spoilt(scan.ranges, simulator.robot.scanner, rng)), odometry
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
