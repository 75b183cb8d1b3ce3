"""Fuse a whole recorded run."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.fusion.bad_imu import without_bad_accelerations, without_bad_gyro
from vinecompass.fusion.calibrating.estimated_value import EstimatedValue
from vinecompass.fusion.calibrating.learned_noise import learn_noise, with_learned_noise
from vinecompass.fusion.calibrating.sweep_time import bent_scans
from vinecompass.fusion.calibrating.turning import late_scans
from vinecompass.fusion.doubts import at_odds, filed_otherwise
from vinecompass.fusion.odometry_fusion import SOURCES, OdometryFusion, SourceReport
from vinecompass.fusion.pauses import bridged
from vinecompass.fusion.standing_wheels import StandingWheels, longest_part, standing_wheels
from vinecompass.odometry import (
    ScanMotion,
    contradictions_of_scans,
    dead_reckon,
    laser_track,
    odometry_track,
    track_of,
)
from vinecompass.runs import Run, Track, cleaned, rows_of
from vinecompass.runs.order import inside_spans, spans_of
from vinecompass.runs.streams import Stream
from vinecompass.settings import FusionSettings

__all__ = ["ChosenOdometry", "Fused", "choose_odometry", "fuse", "usual_fusion", "usual_odometry"]

LONGEST_RATIO = 20.0
"""Times as long as another that a stream may last."""
SPANS_TOLD = 5
"""Spans of one kind that a note lists."""
FARTHEST_START = 5.0
"""Metres between the start and the first position fix beyond which one of them is wrong."""


@dataclass(frozen=True)
class Fused:
    """A run's motion from all its sources together, and from each alone.

    Parameters
    ----------
    run : Run
        What was fused, without the rows that cannot be used.
    track : Track
        The fused track from the run's start, with the covariances of its poses and steps, at every stamp at which
        anything came.
    report : dict of str to SourceReport
        How each source fared.
    slips : array, (N, 2)
        Spans of time in which the wheels, or the odometry in place of them, were not believed, s.
    motions : list of ScanMotion
        What each scan said, led by wheels or odometry in places that look alike all along; empty if scans were not
        used.
    learned : dict of str to EstimatedValue
        The noises that the run tells of its sensors, as `learn_noise` has them: the filter took them, not those filed.
    notes : tuple of str
        What was left out of the run, and why; and when nothing told how far the robot went.
    standing : tuple of StandingWheels
        When wheels, or the odometry in place of them, stood while the scans went: they were left out meanwhile.
    """

    run: Run
    track: Track
    report: dict[str, SourceReport]
    slips: NDArray[np.float64]
    motions: list[ScanMotion]
    learned: dict[str, EstimatedValue]
    notes: tuple[str, ...]
    standing: tuple[StandingWheels, ...]

    @property
    def slipping(self) -> str:
        """The source that slips where wheels do: the wheels, or the odometry in place of them."""
        return "wheels" if "wheels" in self.report else "odometry"

    @cached_property
    def doubts(self) -> tuple[str, ...]:
        """Why the track is not to be trusted before the run is checked, a sentence each; none if it is.

        Scans that moved otherwise than wheels or odometry say, or bend in turns, sources that contradict the others
        again and again, and a wheel that stands where there are no scans to go by.
        """
        standing = () if self.motions else _told(standing_wheels(self._used))
        return (*standing, *self.doubts_of_scans, *at_odds(self.report))

    @cached_property
    def doubts_of_scans(self) -> tuple[str, ...]:
        """Those of the doubts that scans raise: of their mount, their sweep and their clock, and the gyro's scale."""
        used = self._used
        late = late_scans(used, track_of(self.motions)) if self.motions else ()
        doubts = (*contradictions_of_scans(used), *bent_scans(used, self.track), *late)
        return doubts or filed_otherwise(used, self.motions)

    @property
    def _used(self) -> Run:
        """The run with only the sources that were used, where the wheels do not stand."""
        left_out: dict[str, Any] = {name: None for name in SOURCES if name not in self.report}
        return _where_wheels_turn(replace(self.run, **left_out), self.standing)

    @cached_property
    def alone(self) -> dict[str, Track]:
        """What each source makes of the motion without the others, from the same start.

        ``wheels`` and ``odometry`` are reckoned on; ``scans`` by laser odometry, if they were used, which takes time.
        """
        run, tracks = self.run, {}
        if run.wheels is not None:
            tracks["wheels"] = dead_reckon(run.wheels, run.robot.drive)
        if run.odometry is not None:
            tracks["odometry"] = run.odometry
        if self.motions:
            led = tracks.keys() & self.report.keys()
            tracks["scans"] = laser_track(run)[0] if led else track_of(self.motions)
        return {name: track.moved_to(_pose_at_start(run, track.t[0])) for name, track in tracks.items()}


@checked
def fuse(
    run: Run,
    *,
    sources: Sequence[str] | None = None,
    settings: FusionSettings | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> Fused:
    """Fuse the streams of a run: `OdometryFusion` over its readings in the order of their stamps.

    How much wheels and IMU err is learned from the run first, where it tells; the robot file's noise is but a start.

    Parameters
    ----------
    run : Run
        May be as recorded: rows that are not finite or out of order are left out and noted.
    sources : sequence of str, optional
        Which of imu, wheels, odometry, scans, position to use; by default all there are, but not odometry beside
        wheels, from which it is made.
    settings : FusionSettings, optional
    progress : callable, optional
        Called with the share done, 0 to 1, and a word.

    Raises
    ------
    InputError
        A source is unknown or not in the run, nothing that tells motion is left, two streams do not overlap in
        time, or the first position fix lies far from the run's start.
    """
    run, notes = cleaned(run)
    found = run.streams()
    if sources is None:
        sources = _usual_sources(run)
    for name in sources:
        if name not in SOURCES:
            raise InputError("is not a source", key="sources", value=name, expected=", ".join(SOURCES))
        if name not in found:
            raise InputError(
                "the run has no readings to use", file=run.folder, key=name, expected=f"one of: {', '.join(found)}"
            )
    if not set(sources) & {"wheels", "odometry", "scans"}:
        raise InputError(
            "nothing there tells speed",
            file=run.folder,
            key="sources",
            value=", ".join(sources),
            expected="wheels, odometry or scans among them",
        )
    _check_overlap(run, {name: found[name] for name in sources})
    if "position" in sources and run.position is not None:
        _check_start(run, run.position.x[0], run.position.y[0])
    left_out: dict[str, Any] = {name: None for name in SOURCES if name not in sources}
    used, bad = without_bad_gyro(replace(run, **left_out))
    if bad:
        notes += bad
        run, sources = replace(run, imu=used.imu), [name for name in sources if name != "imu" or used.imu is not None]
    used, bad = without_bad_accelerations(used)
    notes += bad
    scanned: Track | None = None
    motions: list[ScanMotion] = []
    standing: tuple[StandingWheels, ...] = ()
    if "scans" in sources:
        standing = standing_wheels(used)
        scanned, motions = _motion_by_scans(used, sources, standing, settings, progress)
        notes += tuple(f"{sentence}: left out meanwhile" for sentence in _told(standing))
    fused = _filtered(used, sources, scanned, motions, standing, settings, progress)
    notes += _untold_spans(motions, sources)
    return replace(fused, run=run, notes=notes)


def _told(standing: Sequence[StandingWheels]) -> tuple[str, ...]:
    """Return a sentence about each source that stands though the robot moves."""
    return tuple(str(each) for each in standing)


def _spans(standing: Sequence[StandingWheels]) -> NDArray[np.float64]:
    """Return the spans ``(N, 2)`` in which wheels, or the odometry in their place, stand though the robot moves."""
    return np.array([(each.begin, each.end) for each in standing]).reshape(-1, 2)


def _motion_by_scans(
    run: Run,
    sources: Sequence[str],
    standing: Sequence[StandingWheels],
    settings: FusionSettings | None,
    progress: Callable[[float, str], None] | None,
) -> tuple[Track, list[ScanMotion]]:
    """Return laser odometry led by the other sources, and what each scan said.

    Without wheels, or where they stand, an IMU alone leads nowhere; but fused with what the scans say by themselves
    it tells how the robot turned during each sweep, better than the sweep's own shape: so they are gone through
    again, led by both.
    """
    leads, turns_told = _motion_without_scans(run, sources, standing, settings)
    scanned, motions = laser_track(run, led_by=leads, turns_told=turns_told, untold=_spans(standing), progress=progress)
    if run.imu is None or (leads is not None and not standing):
        return scanned, motions
    fused = _filtered(run, sources, scanned, motions, standing, settings, progress)
    if at_odds(fused.report):
        return scanned, motions
    return laser_track(run, led_by=fused.track, turns_told=True, progress=progress)


def _filtered(
    run: Run,
    sources: Sequence[str],
    scanned: Track | None,
    motions: list[ScanMotion],
    standing: Sequence[StandingWheels],
    settings: FusionSettings | None,
    progress: Callable[[float, str], None] | None,
) -> Fused:
    """Learn the noise of a run's sensors, beside the track that its scans tell, and give all readings to the filter."""
    learned = learn_noise(_where_wheels_turn(run, standing), scanned)
    fusion = OdometryFusion(with_learned_noise(run.robot, learned), start=run.start, settings=settings)
    track, gated = _run_through(fusion, bridged(run), sources, motions, _spans(standing), progress)
    slips = spans_of(gated, apart=0.6, shortest=0.15)
    return Fused(run, track, fusion.report(), slips, motions, learned, (), tuple(standing))


def _where_wheels_turn(run: Run, standing: Sequence[StandingWheels]) -> Run:
    """Return a run with the longest part of its wheels, or its odometry, in which they do not stand."""
    spans, wheels, odometry = _spans(standing), run.wheels, run.odometry
    if wheels is not None:
        wheels = rows_of(wheels, longest_part(wheels.t, spans))
    if odometry is not None:
        odometry = rows_of(odometry, longest_part(odometry.t, spans))
    return replace(run, wheels=wheels, odometry=odometry)


def _motion_without_scans(
    run: Run, sources: Sequence[str], standing: Sequence[StandingWheels], settings: FusionSettings | None
) -> tuple[Track | None, bool]:
    """Return the odometry of the other sources, if they tell one, and whether to believe how it turns.

    That is so if a gyro is among them that the others do not stand against, as they do if its sign or unit is wrong.
    """
    if run.wheels is None and run.odometry is None:
        return None, False
    if run.imu is None:
        return odometry_track(run), False
    names = [name for name in sources if name not in ("scans", "position")]
    others = _filtered(replace(run, scans=None, position=None), names, None, [], standing, settings, None)
    return others.track, not at_odds(others.report)


def usual_odometry(run: Run, *, settings: FusionSettings | None = None) -> Track:
    """Return the odometry that a run is mapped and localized with by default: all but position fixes, fused."""
    return usual_fusion(run, settings=settings).track


def usual_fusion(run: Run, *, settings: FusionSettings | None = None) -> Fused:
    """Return a run's `usual_odometry` with what was left out of it, and why it is not to be trusted."""
    return fuse(run, sources=[name for name in _usual_sources(run) if name != "position"], settings=settings)


@dataclass(frozen=True)
class ChosenOdometry:
    """The odometry that a run is mapped or localized with.

    Parameters
    ----------
    track : Track
    notes : tuple of str
        What was left out of it, and why, a sentence each.
    doubts : tuple of str
        Why it, or the run's scans, are not to be trusted, a sentence each.
    """

    track: Track
    notes: tuple[str, ...]
    doubts: tuple[str, ...]


def choose_odometry(run: Run, name: Literal["fused", "wheels", "scans"]) -> ChosenOdometry:
    """Return the odometry of a run by name.

    All streams but position fixes fused, the wheels (or odometry) alone, or the scans alone.
    """
    if name == "fused":
        fused = usual_fusion(run)
        return ChosenOdometry(fused.track, fused.notes, fused.doubts_of_scans)
    doubts = contradictions_of_scans(run)
    if name == "wheels":
        track, standing = odometry_track(run), _told(standing_wheels(run))
    else:
        track, standing = laser_track(run)[0], ()
    return ChosenOdometry(track, (), (*doubts, *bent_scans(run, track), *standing))


def _usual_sources(run: Run) -> list[str]:
    """Return the sources that a run holds, but not odometry beside the wheels from which it is made."""
    found = run.streams()
    return [name for name in SOURCES if name in found and not (name == "odometry" and "wheels" in found)]


def _untold_spans(motions: list[ScanMotion], sources: Sequence[str]) -> tuple[str, ...]:
    """Return a sentence about the spans in which nothing tells how far the robot went, if there are any."""
    if {"wheels", "odometry", "position"} & set(sources):
        return ()
    open_along = [motion.t for motion in motions if motion.degenerate is not None]
    spans = [f"from {begin:.0f} to {end:.0f} s" for begin, end in spans_of(open_along, apart=2.0, shortest=2.0)]
    if not spans:
        return ()
    more = f" and {len(spans) - SPANS_TOLD} times more" if len(spans) > SPANS_TOLD else ""
    when = ", ".join(spans[:SPANS_TOLD]) + more
    return (f"no wheels tell how far the robot went, and scans do not show it {when}: it is a guess, and doubted",)


def _pose_at_start(run: Run, t: float) -> NDArray[np.float64]:
    """Return where a source's own track begins: on the truth, if the run has it, and else at the run's start."""
    return run.start if run.truth is None else run.truth.at([t])[0]


def _run_through(
    fusion: OdometryFusion,
    run: Run,
    sources: Sequence[str],
    motions: list[ScanMotion],
    standing: NDArray[np.float64],
    progress: Callable[[float, str], None] | None,
) -> tuple[Track, list[float]]:
    """Give every reading to the filter; return its track and the stamps of the wheel readings it did not believe.

    In the spans ``(N, 2)`` in which they stand though the robot moves, it is not given those.
    """
    updates: dict[str, Callable[[int], str]] = {}
    if run.imu is not None:
        imu = [
            column.tolist() for column in (run.imu.t, run.imu.turn_rate, run.imu.acceleration_x, run.imu.acceleration_y)
        ]
        updates["imu"] = lambda i: fusion.update_imu(*(column[i] for column in imu))
    if (wheels := run.wheels) is not None:
        stamps_of, angles = wheels.t.tolist(), wheels.angles.tolist()
        steering = [None] * len(angles) if wheels.steering is None else wheels.steering.tolist()
        updates["wheels"] = lambda i: fusion.update_wheels(stamps_of[i], angles[i], steering[i])
    if (odometry := run.odometry) is not None:
        updates["odometry"] = lambda i: fusion.update_odometry(odometry.t[i], odometry.poses[i])
    if (position := run.position) is not None:
        updates["position"] = lambda i: fusion.update_position(position.t[i], position.x[i], position.y[i])
    updates["scans"] = lambda i: fusion.update_scan(motions[i])
    found = run.streams()
    used = {name: np.arange(len(found[name].t)) for name in SOURCES if name in sources}
    gated: list[float] = []
    anew: dict[str, set[int]] = {}
    for name in used.keys() & {"wheels", "odometry"}:
        stand = inside_spans(found[name].t, standing)
        used[name] = np.flatnonzero(~stand)
        gated += found[name].t[stand].tolist()
        anew[name] = set((np.flatnonzero(stand[:-1] & ~stand[1:]) + 1).tolist())
    stamps = np.concatenate([found[name].t[rows] for name, rows in used.items()])
    source = np.concatenate([np.full(len(rows), SOURCES.index(name)) for name, rows in used.items()])
    index = np.concatenate(list(used.values()))
    # At the same moment the IMU comes first, as it drives the way up to it.
    order = np.lexsort((source, np.round(stamps, 6)))
    last_of_its_stamp = np.append(np.diff(stamps[order]) > 1e-6, True)
    times = np.empty(int(last_of_its_stamp.sum()))
    poses = np.empty((len(times), 3))
    covariances, steps = np.empty((2, len(times), 3, 3))
    filled = 0
    # Plain lists: reading single numbers out of arrays takes longer than the filter does.
    rows = zip(source[order].tolist(), index[order].tolist(), last_of_its_stamp.tolist(), strict=True)
    for done, (kind, row, last) in enumerate(rows):
        name = SOURCES[kind]
        if row in anew.get(name, ()):
            fusion.begin_anew(name)
        if updates[name](row) == "gated" and name in ("wheels", "odometry"):
            gated.append(float(found[name].t[row]))
        if last:
            times[filled] = fusion.t
            poses[filled] = fusion.pose
            covariances[filled] = fusion.covariance
            steps[filled] = fusion.step_covariance(times[filled] - times[max(filled - 1, 0)])
            filled += 1
        if progress and done % 2000 == 0:
            progress(done / len(order), "fusing")
    return Track(times, poses, covariances, summed_steps=np.cumsum(steps, axis=0)), sorted(gated)


def _check_overlap(run: Run, streams: dict[str, Stream]) -> None:
    for name, stream in streams.items():
        for other, rival in streams.items():
            if stream.t[-1] < rival.t[0]:
                raise InputError(
                    f"ends at {stream.t[-1]:.1f} s, before {other} begin at {rival.t[0]:.1f} s",
                    file=run.folder,
                    key=name,
                    expected="streams stamped by one clock",
                )
            lasts, other_lasts = stream.t[-1] - stream.t[0], rival.t[-1] - rival.t[0]
            if lasts > LONGEST_RATIO * other_lasts and lasts > 60.0:
                raise InputError(
                    f"lasts {lasts:.0f} s, {other} {other_lasts:.0f} s",
                    file=run.folder,
                    key=name,
                    expected="streams stamped in one unit, s, and as long as each other",
                )


def _check_start(run: Run, x: float, y: float) -> None:
    away = float(np.hypot(x - run.start[0], y - run.start[1]))
    if away > FARTHEST_START:
        raise InputError(
            f"lies {away:.1f} m from the first position fix at {x:.1f}, {y:.1f}",
            file=run.folder,
            key="start",
            value=[round(float(value), 2) for value in run.start[:2]],
            expected="where the run began, in the site frame",
        )
