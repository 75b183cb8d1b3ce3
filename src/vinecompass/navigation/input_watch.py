"""Watches what comes in: a robot is not driven by scans, odometry or clocks that cannot be trusted."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from vinecompass.geometry import relative
from vinecompass.motion import Command, done_of
from vinecompass.navigation.odometry_leaps import OdometryLeaps
from vinecompass.robot import Robot
from vinecompass.runs import Scan, Track
from vinecompass.settings import SafetySettings

__all__ = ["InputWatch", "Watched"]

FROZEN_TIME = 1.0
"""Seconds of commands without any motion in the odometry after which the odometry is not believed."""
FROZEN_SHARE = 0.1
"""Share of what was commanded below which the odometry counts as standing still."""
FIRST_STEP = 0.001
"""Seconds that the first step is taken to come after one before it: until another, nobody knows how long steps are."""
SURELY_PASSED = 0.5
"""Share of the step before that is taken to have passed where the clock does not tell."""
SAME_STAMP = 1e-6
"""Seconds within which two stamps are one."""
AHEAD_OF_CLOCK = 0.05
"""Seconds that a stamp may lie ahead of the clock."""
STUCK_AFTER, STUCK_SHARE = 5, 0.05
"""Scans in a row in which a beam says the same, and the share of beams that do so, from which they are stuck."""
LEAP, LEAPS_KEPT, LEAPING = 0.5, 0.2, 0.75
"""Metres between two scans by which a beam leaps, how much the last scan counts in the share of scans in which it does,
and the share from which its readings are none."""
ODOMETRY_STALE_AFTER = 0.35
"""Seconds of age beyond which odometry is not driven by, however slow the scanner."""
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


@dataclass(frozen=True)
class Watched:
    """What came in, put right, by a clock that neither jumps nor goes back.

    Parameters
    ----------
    t : float
        Now, s.
    elapsed : float
        Since the step before, s.
    trouble : str
        Why the robot must not be driven now; empty if nothing speaks against it.
    scan : Scan or None
        The newest whole one; None where there was none yet that can be read.
    odometry : Track or None
    """

    t: float
    elapsed: float
    trouble: str
    scan: Scan | None = None
    odometry: Track | None = None


class InputWatch:
    """Tells in each step whether scan, odometry and clock can be driven by, and puts right what can be.

    Steps may come at any rate, with or without a new scan. A scan older than the last one is passed over. Where the
    clock jumps or goes back, time goes on evenly in here: all stamps are shifted by what the clock was set.

    Parameters
    ----------
    settings : SafetySettings
    robot : Robot
    """

    def __init__(self, settings: SafetySettings, robot: Robot) -> None:
        self._settings = settings
        lidar = self._lidar = robot.scanner
        self._drive = robot.drive
        self._within_body = robot.within_body(lidar)
        self._leaps = OdometryLeaps(robot.drive)
        self._beam_leaps = np.zeros(lidar.beams)
        self._stale_after = settings.stale_after / lidar.rate
        self._clock = -np.inf
        self._shift = 0.0
        self._elapsed = FIRST_STEP
        self._t = -np.inf
        self._scan: Scan | None = None
        self._ranges = np.full(lidar.beams, np.nan, np.float32)
        self._trouble = ""
        self._trouble_t = -np.inf
        self._trouble_since = -np.inf
        self._same_since = -np.inf
        self._scans_frozen = False
        self._repeats = np.zeros(lidar.beams, dtype=int)
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

    def put_right(self) -> None:
        """Drive by the odometry again, whatever it was: someone has seen to it."""
        self._leaps.put_right()

    def _over(self, t: float) -> bool:
        """Tell whether the last trouble is over: not while odometry that stood still has not moved since."""
        return t - self._trouble_t > OVER_AFTER and not self._suspected

    def take(self, t: float, scan: Scan, odometry: Track, command: Command) -> Watched:
        """Take in what came, whatever it is, and return it put right, with why the robot must not be driven, if so.

        Parameters
        ----------
        t : float
            Now, s.
        scan : Scan
            The last whole one.
        odometry : Track
            In the track frame.
        command : Command
            In force since the last step.
        """
        jump = self._advance(t)
        over = self._over(self._t)
        track, broken = self._readable(odometry)
        unread = self._newer(scan, moving=not command.standing)
        found = jump or broken or unread or self._look(track, command)
        if found:
            if over or jump:
                self._trouble_since = self._t
            self._trouble = found
            self._trouble_t = self._t
        elif self._t - self._trouble_t < CALM:
            found = self._trouble
        return Watched(self._t, self._elapsed, found, self._scan, track)

    def _advance(self, t: float) -> str:
        """Let time go on; where the clock does not go on as clocks do, by as much as in the step before."""
        if not isinstance(t, int | float | np.number) or not np.isfinite(t):
            self._t += self._elapsed
            return f"the clock says {t}"
        before, self._clock = self._clock, float(t)
        step = self._clock - before
        jump = ""
        if before == -np.inf:
            self._t = self._clock
        elif 0.0 < step <= LONGEST_STEP:
            self._elapsed = step
            self._t += step
        else:
            jump = "the clock stands still" if step == 0.0 else f"the clock jumped by {step:.2f} s"
            # How long it truly was nobody knows: rather too little, so that no command changes too fast.
            self._elapsed *= SURELY_PASSED
            self._t += self._elapsed
            self._asked_from = None
        self._shift = self._t - self._clock
        return jump

    def _readable(self, odometry: Track) -> tuple[Track | None, str]:
        """Return the odometry since its stamps last went back, and what is wrong with it."""
        stamps, poses = getattr(odometry, "t", None), getattr(odometry, "poses", None)
        if not isinstance(stamps, np.ndarray) or not isinstance(poses, np.ndarray):
            return None, "there is no odometry"
        if stamps.ndim != 1 or poses.shape != (len(stamps), 3):
            return None, f"the odometry has {len(stamps)} stamps for poses of shape {poses.shape}"
        if not (np.all(np.isfinite(stamps)) and np.all(np.isfinite(poses))):
            return None, "the odometry is not a number"
        later = np.flatnonzero(np.diff(stamps) <= 0.0)
        first = int(later[-1]) + 1 if len(later) else 0
        if len(stamps) - first < 2:
            return None, f"the odometry has {max(len(stamps) - first, 0)} rows in order, and 2 are needed"
        return self._leaps.joined(Track(stamps[first:] + self._shift, poses[first:]))

    def _newer(self, scan: Scan, *, moving: bool) -> str:
        """Keep a scan if it is newer than the last one; return what is wrong with it.

        Beams that say the very same again and again while the robot moves are no readings; nor are those that leap to
        and fro in scan after scan, as in low sun, or end over the robot's own body, on dirt.
        """
        ranges, stamp = getattr(scan, "ranges", None), getattr(scan, "t", None)
        if not isinstance(ranges, np.ndarray) or not isinstance(stamp, int | float | np.number):
            return "there is no scan"
        if ranges.shape != (self._lidar.beams,):
            return f"the scan has {ranges.size} beams, the lidar {self._lidar.beams}"
        if not np.isfinite(stamp):
            return f"the scan is stamped {stamp}"
        t = float(stamp) + self._shift
        former = self._scan
        if former is not None and t <= former.t + SAME_STAMP:
            return ""
        again = np.isfinite(ranges) & (ranges == self._ranges)
        frozen = np.array_equal(self._ranges, ranges, equal_nan=True)
        if not frozen:
            self._same_since = t
            self._scans_frozen = False
        with np.errstate(invalid="ignore"):
            leaps = np.isfinite(ranges) & ~(np.abs(ranges - self._ranges) < LEAP)
        self._beam_leaps += LEAPS_KEPT * (leaps - self._beam_leaps)
        self._repeats = np.where(again, self._repeats + moving, 0)
        self._ranges = ranges
        stuck = self._repeats >= STUCK_AFTER
        no_reading = ranges < self._within_body
        if not frozen and np.mean(stuck) > STUCK_SHARE:
            no_reading |= stuck
        if np.mean(self._beam_leaps > LEAPING) > STUCK_SHARE:
            no_reading |= self._beam_leaps > LEAPING
        if np.any(no_reading):
            ranges = np.where(no_reading, np.float32(np.nan), ranges)
        self._scan = replace(scan, t=t, ranges=ranges)
        return ""

    def _look(self, odometry: Track | None, command: Command) -> str:
        """Return what speaks against driving by scan and odometry."""
        if self._scan is None or odometry is None:
            return "there is no scan yet"
        return (
            self._stale("scan", self._scan.t, self._stale_after)
            or self._stale("odometry", float(odometry.t[-1]), min(self._stale_after, ODOMETRY_STALE_AFTER))
            or self._blind(self._scan)
            or self._frozen_scan(command)
            or self._frozen_odometry(odometry, command)
        )

    def _stale(self, what: str, stamp: float, allowed: float) -> str:
        age = self._t - stamp
        if age < -AHEAD_OF_CLOCK:
            return f"the {what} is stamped {-age:.2f} s ahead of the clock"
        return f"the {what} is {age:.2f} s old, {allowed:.2f} s allowed" if age > allowed else ""

    def _blind(self, scan: Scan) -> str:
        silent = int(np.count_nonzero(~self._lidar.read(scan.ranges)))
        if silent > (1.0 - self._settings.least_beams) * len(scan.ranges):
            return f"{silent} of {len(scan.ranges)} beams give no reading"
        return ""

    def _frozen_scan(self, command: Command) -> str:
        """Noise never repeats while the robot moves: the very same scan again is an old one with a new stamp."""
        assert self._scan is not None
        same_for = self._scan.t - self._same_since
        self._scans_frozen |= same_for > self._stale_after and not command.standing
        return f"the scanner has sent the same scan for {same_for:.1f} s" if self._scans_frozen else ""

    def _frozen_odometry(self, odometry: Track, command: Command) -> str:
        t, step, here = self._t, self._elapsed, odometry.poses[-1]
        if not self._suspected:
            # Less than the base can do moves no wheel.
            command = done_of(command, self._drive)
        if t < self._odometry_frozen_until <= t + PROBE_AFTER:
            return self._trouble
        if self._asked_from is None or (command.standing and not self._suspected):
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
