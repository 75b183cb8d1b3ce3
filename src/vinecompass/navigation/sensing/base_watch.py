"""Compares what was commanded, what the odometry says, and what the scans show: bases are not as their files say."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, field
from math import atan2

import numpy as np
from numpy.typing import NDArray

from vinecompass.geometry import relative, wrap_heading
from vinecompass.localization import Estimate
from vinecompass.odometry import ScanMotionWatch

__all__ = ["BaseWatch"]

FloatArray = NDArray[np.float64]
JUDGED_OVER = 1.0
"""Seconds of driving over which what was commanded is compared with the odometry."""
ASTRAY_FOR = 3.0
"""Seconds for which it counts as turning otherwise than it is told once it did."""
LEAST_SPEED, LEAST_PACE_OFF = 0.15, 0.2
"""m/s commanded from which speeds are compared, and the share by which they must differ to be told."""
BACKWARDS = 0.1
"""m/s against what is told from which a base goes the wrong way."""
LEAST_TURN_OFF, LEAST_TURN_SHARE = 0.2, 0.3
"""rad/s, and the share of what is told, by which the turn rate must differ, besides what comes of the pace, for a wheel
not to do its part."""
PLAINLY_OFF = 0.5
"""Radians by which it has turned otherwise than told that are told of at once."""
DISOBEYED, OF_LAST = 7, 6
"""Marks in the last so many spans from which it cannot be driven at all: one for turning less than it is told, as on
wet floor, two for turning farther or the other way."""
LEAST_TURN_RATE = 0.3
"""rad/s commanded from which turning is compared though it does not drive."""
JUDGED_WAY, LONGEST = 1.2, 8.0
"""Metres of way over which the odometry is compared with the scans, twice, and the seconds that they may take."""
LEAST_WAY_OFF, LEAST_TURNED = 0.08, np.radians(5.0)
"""Share of a way by which the two must differ to be told, and radians by which their directions must."""


@dataclass
class _Sums:
    """What was commanded and what was measured, summed over some seconds; and whether the delay was known all along."""

    seconds: float = 0.0
    delay_known: bool = True
    told: FloatArray = field(default_factory=lambda: np.zeros(3))
    made: FloatArray = field(default_factory=lambda: np.zeros(3))


class BaseWatch:
    """Tells, once for each kind, by how much the base differs from what its file says.

    What differs is driven with all the same: the loop closes over it, and safety minds what the body truly does. A
    base that turns otherwise than told again and again, as with a blocked wheel, is not: where it goes nobody knows.

    Attributes
    ----------
    tried : bool
        Whether it has gone once as it was told, by the odometry.
    """

    def __init__(self) -> None:
        self._sums = _Sums()
        self._from: tuple[float, FloatArray, FloatArray] | None = None
        self._before: tuple[float, float] | None = None
        self.tried = False
        self._told: set[str] = set()
        self._astray_until = -np.inf
        self._astray = ""
        self._paces_off = 0
        self._disobeyed: deque[int] = deque(maxlen=OF_LAST)
        self._scans = ScanMotionWatch()

    @property
    def disobeys(self) -> str:
        """Why the base cannot be driven; empty if it can."""
        return f"{self._astray}, again and again" if sum(self._disobeyed) >= DISOBEYED else self._scans.wrong

    @property
    def suspected(self) -> str:
        """How the scans move otherwise than the odometry says, if they do; empty if they do not."""
        return self._scans.suspected

    def put_right(self) -> None:
        """Try the base again: someone has seen to it."""
        self._disobeyed.clear()
        self._scans.put_right()

    def see(self, t: float, odometry: FloatArray, points: NDArray[np.floating]) -> list[str]:
        """Take in what a scan hit ``(N, 2)``, in the body frame, m, and the odometry's pose; return what is new."""
        self._scans.take(t, odometry, points)
        if not self._scans.suspected:
            return []
        self._astray_until = t + ASTRAY_FOR
        self._astray = self._scans.suspected
        return self._once(self._astray, self._astray)

    def astray(self, t: float) -> str:
        """Tell how the base moves otherwise than told, on wet floor or with a blocked wheel; empty if it does not.

        Such a base is driven slowly: what it does next is hardly known.
        """
        return self._astray if t < self._astray_until else ""

    def drive(
        self, t: float, elapsed: float, commanded: FloatArray, measured: FloatArray, *, delay_known: bool
    ) -> list[str]:
        """Take in the seconds until now with what was in force and the odometry's velocity ``(3,)``.

        As long as the base's delay is not known, a turn that comes late looks much like one that is not made: then it
        must be so twice.

        Returns
        -------
        list of str
            What is found out for the first time.
        """
        drives = float(np.hypot(commanded[0], commanded[1])) >= LEAST_SPEED
        if not drives and abs(commanded[2]) < LEAST_TURN_RATE:
            self._sums = _Sums()
            return []
        sums = self._sums
        sums.seconds += elapsed
        sums.delay_known &= delay_known
        sums.told += elapsed * commanded
        sums.made += elapsed * measured
        if sums.seconds < JUDGED_OVER and abs(sums.made[2] - sums.told[2]) < PLAINLY_OFF:
            return []
        self._sums = _Sums()
        told, made = sums.told / sums.seconds, sums.made / sums.seconds
        wanted = float(np.hypot(told[0], told[1]))
        ahead = float(told[:2] @ made[:2])
        pace = float(np.copysign(np.hypot(made[0], made[1]), ahead))
        found = []
        # Twice: while it speeds up, a delay that is not known yet looks much the same.
        off = drives and abs(pace / max(wanted, LEAST_SPEED) - 1.0) > LEAST_PACE_OFF
        self._paces_off = self._paces_off + 1 if off else 0
        if self._paces_off > 1:
            found += self._once("pace", f"the base goes {pace:.2f} m/s where it is told {wanted:.2f}")
        least_off = max(LEAST_TURN_OFF, LEAST_TURN_SHARE * abs(told[2]))
        by_pace = told[2] * min(abs(pace) / wanted, 1.0) if drives else told[2]
        backwards = drives and pace < -BACKWARDS
        disobeyed = backwards or (abs(made[2] - by_pace) > least_off and abs(made[2] - told[2]) > least_off)
        lags = not backwards and made[2] * told[2] > 0.0 and abs(made[2]) < abs(told[2])
        once_before = len(self._disobeyed) > 0 and self._disobeyed[-1] > 0
        may_be_late = (lags or backwards) and not sums.delay_known and not once_before
        self._disobeyed.append((1 if lags else 2) if disobeyed else 0)
        self.tried |= not disobeyed
        if disobeyed and not may_be_late:
            self._astray_until = t + ASTRAY_FOR
            turns = f"the base turns at {made[2]:.2f} rad/s where it is told {told[2]:.2f}"
            other_way = made[2] * told[2] < 0.0 and abs(told[2]) > LEAST_TURN_OFF
            why = "it turns the other way, as with a wheel that sticks" if other_way else "a wheel slips or sticks"
            self._astray = (
                f"the base goes {pace:.2f} m/s where it is told {wanted:.2f}" if backwards else f"{turns}: {why}"
            )
            found += self._once("turn", self._astray)
        return found

    def locate(self, estimate: Estimate, odometry: FloatArray) -> list[str]:
        """Take in an estimate with the odometry's pose ``(3,)`` at its stamp; return what is new."""
        if not estimate.settled:
            self._from = self._before = None
            return []
        if self._from is None or estimate.t - self._from[0] > LONGEST:
            self._from = estimate.t, estimate.pose, odometry
            return []
        _, seen_from, odometry_from = self._from
        seen, told = relative(estimate.pose, seen_from), relative(odometry, odometry_from)
        way = float(np.hypot(told[0], told[1]))
        if way < JUDGED_WAY:
            return []
        share = float(np.hypot(seen[0], seen[1])) / way
        turned = wrap_heading(atan2(told[1], told[0]) - atan2(seen[1], seen[0]))
        before, self._before = self._before, (share, turned)
        self._from = estimate.t, estimate.pose, odometry
        if before is None:
            return []
        found = []
        # Both ways must say the same: a single one may come of a pose that was put right meanwhile.
        if min(share, before[0]) > 1.0 + LEAST_WAY_OFF or max(share, before[0]) < 1.0 - LEAST_WAY_OFF:
            mean = 0.5 * (share + before[0])
            text = f"the scans show {mean:.2f} m for each metre of the odometry: slip, or a wheel radius that is wrong"
            found += self._once("scale", text)
        if min(turned, before[1]) > LEAST_TURNED or max(turned, before[1]) < -LEAST_TURNED:
            degrees = float(np.degrees(0.5 * (turned + before[1])))
            side = "left" if degrees > 0.0 else "right"
            text = f"the scanner points {abs(degrees):.0f} degrees farther to the {side} than its mount says"
            found += self._once("mount", text)
        return found

    def _once(self, kind: str, text: str) -> list[str]:
        if kind in self._told:
            return []
        self._told.add(kind)
        return [text]
