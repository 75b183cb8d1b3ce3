"""Watches what comes in: a robot is not driven by scans, odometry or clocks that cannot be trusted."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vinecompass.geometry import relative
from vinecompass.motion import Command
from vinecompass.runs import Scan, Track
from vinecompass.settings import SafetySettings

__all__ = ["InputWatch"]

FROZEN_TIME = 1.0
"""Seconds of commands without any motion in the odometry after which the odometry is not believed."""
FROZEN_SHARE = 0.1
"""Share of what was commanded below which the odometry counts as standing still."""
LONGEST_STEP = 1.0
"""Seconds between two steps beyond which the clock is said to have jumped."""
CALM = 0.3
"""Seconds for which all must be well before it drives on."""
FROZEN_MOTION, FROZEN_PROBE = (0.1, 0.2), (0.02, 0.04)
"""Metres or radians commanded without a move after which odometry is found frozen; and again, once it was."""
PROBE_AFTER = 3.0
"""Seconds after which odometry that stood still is given another chance: a standing robot cannot tell."""
OVER_AFTER = 4.0
"""Seconds without trouble after which it counts as over, and the next as another one."""


class InputWatch:
    """Tells in each cycle whether scan, odometry and clock can be driven by.

    Parameters
    ----------
    settings : SafetySettings
    """

    def __init__(self, settings: SafetySettings) -> None:
        self._settings = settings
        self._t = self._scan_t = -np.inf
        self._trouble = ""
        self._trouble_t = -np.inf
        self._trouble_since = -np.inf
        self._ranges: NDArray[np.float32] | None = None
        self._same_since = -np.inf
        self._scans_frozen = False
        self._odometry_frozen_until = -np.inf
        self._suspected = False
        self._asked = 0.0
        self._asked_turn = 0.0
        self._asked_time = 0.0
        self._asked_from: NDArray[np.float64] | None = None

    @property
    def lasting(self) -> float:
        """Seconds for which there has been trouble, short pauses included; 0 if there is none."""
        return max(self._trouble_t - self._trouble_since, 0.0) if not self._over(self._t) else 0.0

    def _over(self, t: float) -> bool:
        """Tell whether the last trouble is over: not while odometry that stood still has not moved since."""
        return t - self._trouble_t > OVER_AFTER and not self._suspected

    def trouble(self, t: float, scan: Scan, odometry: Track, command: Command) -> str:
        """Return why the robot must not be driven now, or an empty text.

        Parameters
        ----------
        t : float
            Now, s.
        scan : Scan
            The last whole one.
        odometry : Track
            In the track frame.
        command : Command
            In force since the last cycle.
        """
        step = t - self._t
        jumped = bool(np.isfinite(self._t)) and not 0.0 < step <= LONGEST_STEP
        another = jumped or self._over(t)
        found = self._look(t, scan, odometry, command, step, jumped)
        if found:
            if another:
                self._trouble_since = t
            self._trouble = found
            self._trouble_t = t
        elif t - self._trouble_t < CALM:
            found = self._trouble
        self._t = t
        return found

    def _look(self, t: float, scan: Scan, odometry: Track, command: Command, step: float, jumped: bool) -> str:
        s = self._settings
        if not np.isfinite(t):
            return f"the clock says {t}"
        if jumped:
            self._same_since = self._scan_t = -np.inf
            return f"the clock jumped by {step:.2f} s"
        scan_age, odometry_age = t - scan.t, t - float(odometry.t[-1])
        if not -1e-6 <= scan_age <= s.stale_after:
            return f"the scan is {scan_age:.2f} s old, {s.stale_after:g} s allowed"
        if not -1e-6 <= odometry_age <= s.stale_after:
            return f"the odometry is {odometry_age:.2f} s old, {s.stale_after:g} s allowed"
        if not np.all(np.isfinite(odometry.poses[-1])):
            return "the odometry is not a number"
        return (
            self._blind(scan) or self._frozen_scan(scan, command) or self._frozen_odometry(t, odometry, command, step)
        )

    def _blind(self, scan: Scan) -> str:
        silent = int(np.count_nonzero(np.isnan(scan.ranges)))
        if silent > (1.0 - self._settings.least_beams) * len(scan.ranges):
            return f"{silent} of {len(scan.ranges)} beams give no reading"
        return ""

    def _frozen_scan(self, scan: Scan, command: Command) -> str:
        """Noise never repeats while the robot moves: the very same scan again is an old one with a new stamp."""
        if scan.t != self._scan_t:
            self._scan_t = scan.t
            if self._ranges is None or not np.array_equal(self._ranges, scan.ranges, equal_nan=True):
                self._ranges = scan.ranges
                self._same_since = scan.t
                self._scans_frozen = False
        same_for = scan.t - self._same_since
        self._scans_frozen |= same_for > self._settings.stale_after and not command.standing
        return f"the scanner has sent the same scan for {same_for:.1f} s" if self._scans_frozen else ""

    def _frozen_odometry(self, t: float, odometry: Track, command: Command, step: float) -> str:
        here = odometry.poses[-1]
        if t < self._odometry_frozen_until <= t + PROBE_AFTER:
            return self._trouble
        if self._asked_from is None or not np.isfinite(step) or (command.standing and not self._suspected):
            self._ask_anew(here)
            return ""
        self._asked += float(np.hypot(command.speed, command.sideways)) * step
        self._asked_turn += abs(command.turn_rate) * step
        self._asked_time += step if not command.standing else 0.0
        moved = relative(here, self._asked_from)
        way, turned = float(np.hypot(moved[0], moved[1])), abs(float(moved[2]))
        if way > FROZEN_SHARE * self._asked + 1e-4 or turned > FROZEN_SHARE * self._asked_turn + 1e-4:
            self._ask_anew(here)
            self._suspected = False
            return ""
        least_way, least_turn = FROZEN_PROBE if self._suspected else FROZEN_MOTION
        if self._asked_time < FROZEN_TIME or (self._asked < least_way and self._asked_turn < least_turn):
            return ""
        self._odometry_frozen_until = t + PROBE_AFTER
        self._suspected = True
        said = f"the odometry stands still though {self._asked:.2f} m and {self._asked_turn:.2f} rad were commanded"
        self._ask_anew(here)
        return said

    def _ask_anew(self, here: NDArray[np.float64]) -> None:
        self._asked_from = here
        self._asked = self._asked_turn = self._asked_time = 0.0
