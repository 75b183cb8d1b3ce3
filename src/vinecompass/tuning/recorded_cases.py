"""Recorded runs, localized or mapped again with other settings."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from vinecompass.fusion import usual_odometry
from vinecompass.grids import Grid
from vinecompass.judging import FARTHEST_MISFIT, judge_map, misfit_of_track, misfits_on_map
from vinecompass.localization import Localization, localize
from vinecompass.mapping import build_map
from vinecompass.runs import Run, Track, compare_relations, compare_tracks
from vinecompass.settings import Settings, changed_settings
from vinecompass.tuning.score import Score
from vinecompass.tuning.trial import Kind, Trial, new_seeds

__all__ = ["LocalizationCase", "LocalizationScore", "MappingCase", "MappingScore"]

FloatArray = NDArray[np.float64]
START_OFF = np.array([0.3, 0.3, np.radians(9.0)])
"""Standard deviations of what people tell a robot about its start: metres and radians."""
FARTHEST = 1.0
"""Metres that an error counts at most: farther off is lost, and all the same."""


@dataclass(frozen=True, kw_only=True)
class LocalizationScore(Score):
    """What came of localizing a run; what is measured beside the truth is `nan` where there is none.

    Parameters
    ----------
    tracked : float
        Share of the scans at which it was said to be right, 0 to 1.
    settled_after : float
        Metres of way until it was so for the first time; all of the way if never.
    misfit : float
        How far on average what a scan hit lies from the next wall of the map, m: see `misfits_on_map`.
    particles : float
        How many there were on average: what the computing time goes by.
    rmse : float
        Of the position once settled, m; where farther off than 1 m, that.
    inside : float
        Share of the scans at which the truth lay in the 95 % ellipse, once settled.
    wrong : float
        Share of the scans at which it was said to be right, and was off by more than 0.3 m and three sigmas.
    cost : float
        RMSE of the position over all scans, m, none counted beyond 1 m; without the truth, the misfit, m, as if
        everything missed its wall by 0.3 m where it was not said to be right.
    """

    MEASURES: ClassVar[dict[str, str]] = {
        "cost": "cost, m",
        "tracked": "share tracked",
        "settled_after": "way until settled, m",
        "misfit": "misfit on the map, m",
        "particles": "particles, mean",
        "rmse": "RMSE once settled, m",
        "inside": "share inside the 95 % ellipse",
        "wrong": "share wrongly tracked",
    }

    tracked: float
    settled_after: float
    misfit: float
    particles: float
    rmse: float
    inside: float
    wrong: float


@dataclass(frozen=True)
class LocalizationCase:
    """Runs to be localized on a map, from starts told as badly as people do.

    Parameters
    ----------
    grid : Grid
    runs : tuple of Run
        Seeds take them in turn.
    odometry : tuple of Track
        Of each run, by the settings given.
    settings : Settings
    starts : tuple of array (3,), optional
        Where each run begins on the map; as each run itself has it if not given.
    """

    grid: Grid
    runs: tuple[Run, ...]
    odometry: tuple[Track, ...]
    settings: Settings
    starts: tuple[FloatArray, ...] = ()
    kind: Kind = "localization"

    def bound(self) -> float:
        """Return 1: scores are as they are."""
        return 1.0

    def confirming(self, seeds: int) -> range:
        """Return the seeds that confirm what was chosen on so many: other starts and particles."""
        return new_seeds(seeds)

    def run(self, trial: Trial, bound: float) -> LocalizationScore:
        """Localize the run that is the seed's turn, from a start drawn by it."""
        settings = changed_settings(self.settings, trial.values)
        number = trial.seed % len(self.runs)
        run = self.runs[number]
        start = self.starts[number] if self.starts else run.start
        off = np.random.default_rng(trial.seed).normal(0.0, START_OFF)
        odometry = _odometry(run, self.odometry[number], settings, trial)
        found = localize(
            self.grid,
            run,
            start + off,
            odometry=odometry,
            settings=settings.localization,
            seed=trial.seed,
        )
        misfits = misfits_on_map(self.grid, run, found.track, odometry=odometry)
        return _localization_score(found, run, misfits)


def _localization_score(found: Localization, run: Run, misfits: FloatArray) -> LocalizationScore:
    rmse = inside = wrong = float("nan")
    truth = run.truth
    tracked = found.tracked[np.searchsorted(found.track.t, run.need_scans().t)]
    cost = float(np.nanmean(np.where(tracked, misfits, FARTHEST_MISFIT)))
    if truth is not None:
        off = np.minimum(compare_tracks(found.track, truth).position, FARTHEST)
        cost = float(np.sqrt(np.mean(off**2)))
        settled = slice(found.settled_at or 0, None)
        rmse = float(np.sqrt(np.mean(off[settled] ** 2)))
        inside = float(found.inside_ellipse(truth)[settled].mean())
        wrong = float(np.mean(found.tracked & (off > np.maximum(0.3, 3.0 * found.spreads[:, 0]))))
    return LocalizationScore(
        tracked=float(found.tracked.mean()),
        settled_after=min(found.settled_after, float(found.ways[-1])),
        misfit=float(np.nanmean(misfits)),
        particles=float(found.counts.mean()),
        rmse=rmse,
        inside=inside,
        wrong=wrong,
        cost=cost,
    )


@dataclass(frozen=True, kw_only=True)
class MappingScore(Score):
    """What came of mapping a run; what is measured beside the truth is `nan` where there is none.

    Parameters
    ----------
    misfit : float
        How far on average what scans hit lies from what another part of the drive saw, m: see `misfit_of_track`.
    loops : int
        Closed.
    doubled : float
        Metres of walls drawn twice.
    thickness : float
        Of walls, mean, m.
    relations, aligned : float
        RMSE of the track's relations over a metre, and of the track laid over the truth as a whole, m.
    cost : float
        Relations and aligned together, m; without the truth, the misfit and, for each metre of way, the metres of
        walls drawn twice.
    """

    MEASURES: ClassVar[dict[str, str]] = {
        "cost": "cost, m",
        "misfit": "misfit of scans, m",
        "loops": "loops closed",
        "doubled": "walls drawn twice, m",
        "thickness": "wall thickness, m",
        "relations": "relations over a metre, m",
        "aligned": "RMSE aligned, m",
    }

    misfit: float
    loops: int
    doubled: float
    thickness: float
    relations: float
    aligned: float


@dataclass(frozen=True)
class MappingCase:
    """Runs to be mapped.

    Parameters
    ----------
    runs : tuple of Run
        Nothing is drawn: a seed is the number of a run.
    odometry : tuple of Track
        Of each run, by the settings given.
    settings : Settings
    """

    runs: tuple[Run, ...]
    odometry: tuple[Track, ...]
    settings: Settings
    kind: Kind = "mapping"

    def bound(self) -> float:
        """Return 1: scores are as they are."""
        return 1.0

    def confirming(self, seeds: int) -> range:
        """Return the runs beyond those on which was chosen: they are held back."""
        return range(seeds, len(self.runs))

    def run(self, trial: Trial, bound: float) -> MappingScore:
        """Map the run of the seed's number."""
        settings = changed_settings(self.settings, trial.values)
        run = self.runs[trial.seed]
        odometry = _odometry(run, self.odometry[trial.seed], settings, trial)
        mapping = build_map(run, odometry=odometry, settings=settings.mapping)
        misfit = misfit_of_track(run, mapping.track, odometry=odometry)
        quality = judge_map(mapping.grid)
        doubled = sum(spot.length for spot in quality.spots if spot.kind == "double line")
        relations = aligned = float("nan")
        cost = misfit + doubled / max(mapping.track.length, 1.0)
        if run.truth is not None:
            error = compare_relations(mapping.track, run.truth)
            relations, aligned = error.position, error.aligned_rmse
            cost = relations + aligned
        return MappingScore(
            misfit=misfit,
            loops=mapping.making.loops_closed,
            doubled=float(doubled),
            thickness=quality.wall_thickness,
            relations=relations,
            aligned=aligned,
            cost=cost,
        )


def _odometry(run: Run, as_given: Track, settings: Settings, trial: Trial) -> Track:
    """Return a run's odometry: as it is by the settings given, unless the trial changes how it is fused."""
    if any(key.startswith("fusion.") for key in trial.values):
        return usual_odometry(run, settings=settings.fusion)
    return as_given
