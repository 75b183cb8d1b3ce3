"""Mapping over a whole recorded run."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from vinecompass.door import checked
from vinecompass.fusion import usual_fusion
from vinecompass.geometry import compose, compose_covariances
from vinecompass.grids import Grid, Making, MapDoubt
from vinecompass.mapping.disputed import disputes
from vinecompass.mapping.mapper import Mapper
from vinecompass.odometry import swept_scans
from vinecompass.runs import Run, Track, cleaned
from vinecompass.runs.order import spans_of
from vinecompass.settings import MappingSettings

__all__ = ["Mapping", "build_map"]

WORN = 0.01
"""Share by which the odometry's ways are too long or too short from which that is told."""
MOST_TIMES = 3
"""Times that a run is mapped, each by the odometry's scale that the time before told."""
LEAST_OVERLAP = 0.4
"""Agreement below which a scan does not show what the scans before it show."""
LINKS_ERR = 0.25
"""Share of the covariance told of links to which their errors come. They are told with room for a worse odometry and
for loops that bend the map; by so much the truth lies in the 95 % ellipse of the track for 93 % of the time, of ten
runs, and in that of a robot localized on the map for 98 %, of 29."""
Progress = Callable[[float, str], None]


@dataclass(frozen=True)
class Mapping:
    """A map and how it came about.

    Parameters
    ----------
    grid : Grid
    track : Track
        The pose of every scan in the map's frame with its covariance, as all loops together have it in the end.
    agreements : array, (N,)
        How well each scan agreed with the submap before it, 0 to 1; `nan` where it was not matched.
    mapper : Mapper
        With its keyframes, submaps, pose graph and loops.
    notes : tuple of str
        What was left out, and where the map is not to be trusted, each with its time.
    """

    grid: Grid
    track: Track
    agreements: NDArray[np.float64]
    mapper: Mapper
    notes: tuple[str, ...]

    @property
    def making(self) -> Making:
        """How well the drive fits together, to be saved with the map."""
        errors = self.mapper.loop_errors
        squares = np.mean(errors**2, axis=0) if len(errors) else np.zeros(3)
        matched = self.agreements[np.isfinite(self.agreements)]
        return Making(
            scans_kept=len(self.mapper.keyframes),
            agreement=round(float(matched.mean()) if len(matched) else 0.0, 4),
            loops_closed=len(errors),
            loop_error=round(float(np.sqrt(squares[0] + squares[1])), 5),
            loop_error_deg=round(float(np.degrees(np.sqrt(squares[2]))), 4),
        )


@checked
def build_map(
    run: Run,
    *,
    odometry: Track | None = None,
    settings: MappingSettings | None = None,
    watch: Callable[[Mapper], None] | None = None,
    progress: Progress | None = None,
) -> Mapping:
    """Build a map from a recorded run: `Mapper.update` over its scans.

    How long the odometry's ways really are is learned on the way. Where scans do not show how far the robot went, as
    along plain walls, what was drawn before that was known is wrong. Where that is more than a cell, the run is mapped
    anew, up to three times in all.

    Parameters
    ----------
    run : Run
        With scans. It may be as recorded: rows that are not finite or out of order are left out and noted.
    odometry : Track, optional
        The motion to begin from, in any frame; by default the run's own streams, fused. A run of scans alone is
        mapped by laser odometry.
    settings : MappingSettings, optional
    watch : callable, optional
        Called with the mapper after each scan: to see the map grow. It is another mapper when the run is mapped again.
    progress : callable, optional
        Called with the share done, 0 to 1, and a word.

    Returns
    -------
    Mapping

    Raises
    ------
    InputError
        The run has no scans, or no beam that returned.
    """
    run, left_out = cleaned(run)
    if odometry is None:
        fused = usual_fusion(run)
        odometry, left_out = fused.track, (*left_out, *fused.notes)
    settings = settings or MappingSettings()
    scale = 1.0
    for _ in range(MOST_TIMES):
        mapper = Mapper(run.robot, start=run.start, settings=settings, odometry_scale=scale)
        mapping = _map_drive(run, odometry, mapper, watch, progress)
        if mapper.misdrawn < settings.cell_size:
            break
        scale = mapper.odometry_scale
    return replace(mapping, notes=(*left_out, *mapping.notes))


def _map_drive(
    run: Run, odometry: Track, mapper: Mapper, watch: Callable[[Mapper], None] | None, progress: Progress | None
) -> Mapping:
    """Let a mapper take in a whole run."""
    stamps = run.scan_stamps()
    again = f" with the odometry times {mapper.odometry_scale:.4f}" if mapper.odometry_scale != 1.0 else ""
    numbers = np.empty(len(stamps), int)
    places, doubts = np.empty((len(stamps), 3)), np.empty((len(stamps), 3, 3))
    agreements = np.empty(len(stamps))
    for i, (scan, motion) in enumerate(swept_scans(run, odometry)):
        mapper.update(scan, motion)
        numbers[i], places[i] = mapper.place
        doubts[i] = mapper.place_covariance
        agreements[i] = mapper.agreement
        if watch:
            watch(mapper)
        if progress and i % 50 == 0:
            kept, closed = len(mapper.keyframes), len(mapper.closed_loops)
            progress(i / len(stamps), f"mapping{again}, {kept} scans kept, {closed} loops closed")
    mapper.finish()
    submaps = mapper.graph.poses[numbers]
    covariances = compose_covariances(submaps, places, LINKS_ERR * mapper.graph.covariances()[numbers], doubts)
    track = Track(stamps, compose(submaps, places), covariances)
    grid = replace(mapper.snapshot(), doubt=MapDoubt.along(track.poses, covariances))
    return Mapping(grid, track, agreements, mapper, _notes(stamps, agreements, mapper, grid))


def _notes(t: NDArray[np.float64], agreements: NDArray[np.float64], mapper: Mapper, grid: Grid) -> tuple[str, ...]:
    """Return a sentence about each span in which the map may be wrong."""
    notes = [f"the odometry leapt at {leap:.1f} s, farther than the robot can move: left out" for leap in mapper.leaps]
    if abs(told := 1.0 / mapper.odometry_scale - 1.0) > WORN:
        notes.append(
            f"the odometry tells ways {100.0 * abs(told):.1f} % too {'long' if told > 0.0 else 'short'}, by what scans "
            "show: the map is drawn without that. `vinecompass fuse --estimate-mount` finds the wheels' radius"
        )
    notes += [
        f"from {begin:.1f} to {end:.1f} s the scans hardly overlap with those before: the odometry alone led on"
        for begin, end in spans_of(t[agreements < LEAST_OVERLAP], apart=2.0, shortest=0.5)
    ]
    notes += [
        f"from {begin:.1f} to {end:.1f} s no scan shows where the robot went: the odometry alone led on"
        for begin, end in mapper.unwatched
    ]
    notes += [
        f"from {spot.begin:.0f} to {spot.end:.0f} s, about {spot.x:.1f}, {spot.y:.1f}, {100.0 * spot.share:.0f} % of "
        "what the scans hit is free floor to other scans: walls stand twice. Drive there again and on to a place "
        "mapped well, or let mapping.loop_drift look farther"
        for spot in disputes(mapper.submaps, mapper.graph.poses, grid)
    ]
    return tuple(notes)
