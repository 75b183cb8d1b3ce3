"""How long a scanner takes from its first beam to its last, by how its scans bend as the robot turns."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from vinecompass.fusion.calibrating.estimated_value import EstimatedValue
from vinecompass.geometry import relative
from vinecompass.matching import SearchWindow, WallGrid, match_scan
from vinecompass.odometry import ScanMotion, deskewed_hits, laser_track, motion_at
from vinecompass.robot import Lidar
from vinecompass.runs import Run, Track

__all__ = ["bent_scans", "scanner_track", "sweep_time"]

FloatArray = NDArray[np.float64]
APART, FARTHEST_TURN, LEAST_CHANGE = 0.6, np.radians(20.0), 0.3
"""Seconds between two scans that are compared at most, how far the robot turns between them, radians, and by how much
its turn rate must change, rad/s: two scans that bend alike tell nothing."""
MOST_PAIRS, FEWEST_PAIRS = 200, 12
"""Pairs of scans that are looked at, and how many must tell something."""
FEWEST_POINTS, LEAST_MATCHED = 30, 0.6
"""Points that a scan must have, and the share of them that must lie by walls, for it to tell something."""
CELL, SPREAD, WINDOW = 0.05, 0.08, SearchWindow(reach=0.1, turn=np.radians(5.0), turn_step=np.radians(1.0))
"""Cells of the grid that a scan is matched to and the spread of its likelihood field, m, and the search on it."""
PRIOR_POINTS = 1e-3
"""What the guess counts in a match: nothing, but where a scan shows nothing at all."""
NORMAL = 1.4826
"""Standard deviation of normal errors, by the median of their absolute values."""
ENOUGH, ALIKE, NEAR, SURE = 0.05, 0.1, 0.25, 4.0
"""Shares of the time that a spinning scanner takes: to which its sweep must be known, within which the filed one
stands, and within which it is taken for what scanners do; and standard errors by which it contradicts the filed one."""
MOST_TIMES = 3
"""Times that the scans are straightened for what was found, and looked at again."""


def scanner_track(
    run: Run, *, progress: Callable[[float, str], None] | None = None
) -> tuple[Run, Track, list[ScanMotion], EstimatedValue | None]:
    """Return the scanner's own track by laser odometry, its scans straightened for the sweep that they show.

    Returns
    -------
    Run
        Its robot with the sweep that the scans show, where they contradict the filed one.
    Track, list of ScanMotion
        As if the scanner sat where the body is.
    EstimatedValue or None
        What `sweep_time` says.
    """
    as_filed = run
    for _ in range(MOST_TIMES):
        track, motions = laser_track(run, mount=np.zeros(3), progress=progress)
        swept = sweep_time(_with_lidar(run, mount=(0.0, 0.0, 0.0)), track)
        if swept is None:
            break
        if not _contradicts(swept):
            return run, track, motions, replace(swept, filed=as_filed.robot.scanner.sweep_seconds)
        # Straightened for another sweep, scans are matched worse: look again when they are straightened for this one.
        run = _with_lidar(run, sweep_time=swept.value)
    if run is not as_filed:
        track, motions = laser_track(as_filed, mount=np.zeros(3), progress=progress)
    return as_filed, track, motions, None


def bent_scans(run: Run, track: Track) -> tuple[str, ...]:
    """Return a sentence if a run's scans bend in turns as those of another sweep than filed do; none if they do not.

    The track is the body's, in any frame.
    """
    swept = None if run.scans is None else sweep_time(run, track)
    if swept is None or not _contradicts(swept):
        return ()
    return (
        f"scans: they bend in turns as if swept in {swept.value:.3f} s, not {swept.filed:.3f} s: "
        f"set sweep_time = {swept.value:.4g} for the lidar in robot.toml",
    )


def sweep_time(run: Run, track: Track) -> EstimatedValue | None:
    """Estimate the time from the first beam of a scan to its last.

    A scan that is straightened for another sweep than the scanner made is bent in proportion to the turn rate. So of
    two scans between which the turn rate changes, one is fitted to the other with its bend left open: the change of
    bend over the change of turn rate is how long the sweep really took. Of many pairs the median counts. Where the
    track is the scans' own, no other sensor's clock, unit or sign has a say.

    Parameters
    ----------
    run : Run
        With scans.
    track : Track
        The body's, in any frame: smooth, and by the scans' clock.

    Returns
    -------
    EstimatedValue or None
        As filed, or as scanners do: they fire at once, or spin evenly, either way round. None if the scans bend
        otherwise, as they do beside a track by another clock; or if the robot's turning changes too little.
    """
    filed = run.robot.scanner
    run = _with_lidar(run, sweep_time=None)
    scans, lidar = run.need_scans(), run.robot.scanner
    ends = scans.t + lidar.sweep_seconds
    headings = np.unwrap(track.poses[:, 2])
    first, last = (np.interp(t, track.t, headings) for t in (scans.t, ends))
    turning = (last - first) / lidar.sweep_seconds
    shares = []
    for before, after in _pairs(scans.t, first, turning):
        bend = _bend_beyond(run, track, before, after)
        if bend is not None:
            shares.append(1.0 + bend / (turning[after] - turning[before]))
    if len(shares) < FEWEST_PAIRS:
        return None
    turn = lidar.sweep_seconds
    found = turn * float(np.median(shares))
    error = turn * NORMAL * float(np.median(np.abs(shares - np.median(shares)))) * np.sqrt(0.5 * np.pi / len(shares))
    kinds = (filed.sweep_seconds, 0.0, turn, -turn, 1.0 / filed.rate, -1.0 / filed.rate)
    nearest = min(kinds, key=lambda kind: abs(kind - found))
    if abs(nearest - found) > NEAR * turn:
        return None
    value = filed.sweep_seconds if abs(filed.sweep_seconds - found) < ALIKE * turn else nearest
    return EstimatedValue(value, error, filed.sweep_seconds, ENOUGH * turn)


def _pairs(t: FloatArray, heading: FloatArray, turning: FloatArray) -> list[tuple[int, int]]:
    """Return two scans each between which the turn rate changes, and by as much as it does within a moment."""
    pairs = []
    for after in range(1, len(t)):
        first = int(np.searchsorted(t, t[after] - APART))
        near = first + np.flatnonzero(np.abs(heading[first:after] - heading[after]) < FARTHEST_TURN)
        if len(near) == 0:
            continue
        before = int(near[np.argmax(np.abs(turning[near] - turning[after]))])
        if abs(turning[before] - turning[after]) > LEAST_CHANGE:
            pairs.append((before, after))
    every = -(-len(pairs) // MOST_PAIRS)
    return pairs[:: max(every, 1)]


def _bend_beyond(run: Run, track: Track, before: int, after: int) -> float | None:
    """Return by what turn rate, rad/s, a scan is bent beyond what it was straightened by, beside one before it."""
    scans, lidar = run.need_scans(), run.robot.scanner
    first, second = (motion_at(track, float(scans.t[i]), lidar) for i in (before, after))
    reference = deskewed_hits(scans.ranges[before], lidar, first.sweep)
    points = deskewed_hits(scans.ranges[after], lidar, second.sweep)
    if min(len(reference), len(points)) < FEWEST_POINTS:
        return None
    match = match_scan(
        points,
        lidar.beam_delays[lidar.returned(scans.ranges[after])],
        WallGrid.of_points(reference, cell_size=CELL, spread=SPREAD),
        relative(second.pose, first.pose),
        window=WINDOW,
        prior_points=PRIOR_POINTS,
        doubt_sweep=True,
    )
    return match.turn_rate_error if match.matched_share > LEAST_MATCHED else None


def _contradicts(swept: EstimatedValue) -> bool:
    """Return whether a run contradicts the sweep that is filed."""
    return swept.known and abs(swept.value - swept.filed) > SURE * swept.error


def _with_lidar(run: Run, **values: object) -> Run:
    """Return a run whose scanner is another in some values."""
    first, *others = run.robot.lidars
    lidars = [Lidar.model_validate(first.model_dump() | values), *others]
    return replace(run, robot=run.robot.model_copy(update={"lidars": lidars}))
