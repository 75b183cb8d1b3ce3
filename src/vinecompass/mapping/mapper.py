"""Mapping: each scan is matched against the map so far, and then added to it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray
from pydantic import Field as Key

from vinecompass.files import Model, NotNegative, Positive
from vinecompass.geometry import arc, compose, relative, transform_points, wrap_angle
from vinecompass.grids import Grid, GrowingGrid
from vinecompass.matching import Match, SearchWindow, match_scan
from vinecompass.odometry import Motion, deskewed_ends, deskewed_hits, motion_at, odometry_track
from vinecompass.robot import Robot
from vinecompass.runs import Run, Scan, Track

__all__ = ["Mapper", "Mapping", "MappingSettings", "build_map"]

Progress = Callable[[float, str], None]
FEWEST_POINTS = 30
"""Returning beams below which a scan is not matched: the odometry alone carries the pose on."""

SLIP_DISTANCE, SLIP_TURN = 0.02, 0.012
"""Metres and radians between odometry and match within one scan period beyond which the wheels are not believed."""
SLIP_PERIOD = 1.0
"""Seconds after such a moment for which they are not: slip comes and goes."""
SLIP_PATIENCE = 15.0
"""How many times farther apart keyframes are while the wheels slip: a bent scan spoils more than it adds."""


class MappingSettings(Model):
    """The ``[mapping]`` table of the settings."""

    cell_size: Positive = Key(0.05, description="side of a cell, m")
    keyframe_distance: Positive = Key(0.2, description="a scan is added to the map after this much travel, m")
    keyframe_turn_deg: Positive = Key(8.0, description="or after this much turning, degrees")
    occupied_step: Positive = Key(0.9, description="what a beam's end adds to a cell's log-odds")
    free_step: Positive = Key(0.45, description="what a passing beam takes from a cell's log-odds")
    bound: Positive = Key(6.0, description="log-odds stay within this")
    clear_reach: Positive = Key(8.0, description="how far a beam without return clears the floor, m")
    clear_margin: NotNegative = Key(0.08, description="how far short of its end a beam clears the floor, m")
    search_reach: Positive = Key(0.12, description="the scan is searched for this far about the odometry's guess, m")
    search_turn_deg: Positive = Key(5.0, description="and this far to each side, degrees")
    field_spread: Positive = Key(0.08, description="standard deviation of the likelihood field, m")


@dataclass(frozen=True)
class Mapping:
    """A map and how it came about.

    Parameters
    ----------
    grid : Grid
    track : Track
        The pose of every scan in the map's frame.
    agreements : array, (N,)
        How well each scan agreed with the map before it was added, 0 to 1; `nan` where it was not matched.
    keyframes : int
        Scans added to the map.
    """

    grid: Grid
    track: Track
    agreements: NDArray[np.float64]
    keyframes: int


class Mapper:
    """Builds a map in the loop, one scan at a time.

    Parameters
    ----------
    robot : Robot
    start : array_like, (3,)
        The pose of the first scan in the map's frame, m and radians.
    settings : MappingSettings, optional

    Attributes
    ----------
    pose : array, (3,)
        The pose of the last scan.
    agreement : float
        How well it agreed with the map, 0 to 1; `nan` if it was not matched.
    keyframes : int
        Scans added to the map so far.

    Notes
    -----
    Occupancy is kept in log-odds (Moravec and Elfes, 1985; Thrun, Burgard and Fox, 2005, chapter 9).
    """

    def __init__(
        self, robot: Robot, *, start: ArrayLike = (0.0, 0.0, 0.0), settings: MappingSettings | None = None
    ) -> None:
        self._lidar = robot.scanner
        self._settings = settings or MappingSettings()
        s = self._settings
        self._grid = GrowingGrid(
            s.cell_size, occupied_step=s.occupied_step, free_step=s.free_step, bound=s.bound, spread=s.field_spread
        )  # fmt: skip
        self._last_motion: Motion | None = None
        self._slips_until = -np.inf
        self._keyframe: NDArray[np.float64] | None = None
        self.pose = np.asarray(start, dtype=float)
        self.agreement = float("nan")
        self.keyframes = 0

    def update(self, scan: Scan, odometry: Motion) -> NDArray[np.float64]:
        """Take in one scan and the odometry at its stamp; return the scan's pose ``(3,)`` in the map's frame."""
        before, last = self.pose, self._last_motion
        if last is not None:
            self.pose = compose(before, relative(odometry.pose, last.pose))
        self._last_motion = odometry
        sweep, lidar = odometry.sweep, self._lidar
        returned = (scan.ranges >= lidar.nearest) & (scan.ranges <= lidar.farthest)
        self.agreement = float("nan")
        if self.keyframes and last is not None and np.sum(returned) >= FEWEST_POINTS:
            points = deskewed_hits(scan.ranges, lidar, sweep)
            match = self._match(points, lidar.beam_delays[returned], doubt_sweep=False)
            off = relative(match.pose, self.pose)
            if np.hypot(off[0], off[1]) > SLIP_DISTANCE or abs(off[2]) > SLIP_TURN:
                self._slips_until = scan.t + SLIP_PERIOD
            if scan.t <= self._slips_until:
                # The wheels slip, and their word for the motion during the sweep has bent the scan: straighten it.
                match = self._match(points, lidar.beam_delays[returned], doubt_sweep=True)
                error = np.array([match.speed_error, 0.0, match.turn_rate_error])
                sweep = compose(arc(error, lidar.beam_delays), sweep)
            self.pose, self.agreement = match.pose, match.agreement
        if self._is_keyframe(patience=SLIP_PATIENCE if scan.t <= self._slips_until else 1.0):
            self._add(scan, sweep)
        return self.pose

    def snapshot(self) -> Grid:
        """Return the map so far, cropped to the floor observed; raise `InputError` if nothing was."""
        return self._grid.snapshot()

    def _match(self, points: NDArray[np.float64], delays: NDArray[np.float64], *, doubt_sweep: bool) -> Match:
        s = self._settings
        window = SearchWindow(s.search_reach, np.radians(s.search_turn_deg), np.radians(1.0))
        # Weak: a plain aisle leaves its own direction to the odometry, everything else to the scan.
        return match_scan(
            points, delays, self._grid, self.pose, window=window, prior_points=1.0, doubt_sweep=doubt_sweep
        )

    def _is_keyframe(self, *, patience: float) -> bool:
        if self._keyframe is None:
            return True
        s = self._settings
        moved = np.hypot(*(self.pose[:2] - self._keyframe[:2]))
        turned = abs(float(wrap_angle(self.pose[2] - self._keyframe[2])))
        return bool(max(moved / s.keyframe_distance, turned / np.radians(s.keyframe_turn_deg)) > patience)

    def _add(self, scan: Scan, sweep: NDArray[np.float64]) -> None:
        s, lidar = self._settings, self._lidar
        returned = (scan.ranges >= lidar.nearest) & (scan.ranges <= lidar.farthest)
        if not np.any(returned):
            return
        origins, ends = deskewed_ends(np.where(returned, scan.ranges, 0.0), lidar, sweep)
        hits = transform_points(self.pose, ends[returned])
        # Short of its end by what ranges scatter: else each wall would be eaten away on the side it is seen from,
        # the map would grow outwards, and the robot, which mostly sees what lies ahead, would drift forwards.
        passed = np.where(returned, scan.ranges - s.clear_margin, min(s.clear_reach, lidar.farthest))
        clears = (returned & (passed > 0.0)) | np.isposinf(scan.ranges)
        _, ends = deskewed_ends(np.where(clears, passed, 0.0), lidar, sweep)
        self._grid.add(hits, transform_points(self.pose, origins[clears]), transform_points(self.pose, ends[clears]))
        self._keyframe = self.pose
        self.keyframes += 1


def build_map(run: Run, *, settings: MappingSettings | None = None, progress: Progress | None = None) -> Mapping:
    """Build a map from a recorded run: `Mapper.update` over its scans, with its wheels or odometry.

    Parameters
    ----------
    run : Run
        With scans, and odometry or wheels.
    settings : MappingSettings, optional
    progress : callable, optional
        Called with the share done, 0 to 1, and a word.

    Returns
    -------
    Mapping

    Raises
    ------
    InputError
        The run has no scans, no odometry, or no beam that returned.
    """
    scans, odometry = run.need_scans(), odometry_track(run)
    mapper = Mapper(run.robot, start=run.start, settings=settings)
    poses, agreements = np.empty((len(scans), 3)), np.empty(len(scans))
    for i, scan in enumerate(scans):
        poses[i] = mapper.update(scan, motion_at(odometry, scan.t, run.robot.scanner))
        agreements[i] = mapper.agreement
        if progress and i % 50 == 0:
            progress(i / len(scans), "mapping")
    return Mapping(mapper.snapshot(), Track(scans.t, poses), agreements, mapper.keyframes)
