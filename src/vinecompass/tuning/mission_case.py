"""A mission, rehearsed with other settings."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from vinecompass.costs import price_floor
from vinecompass.errors import InputError
from vinecompass.grids import Grid
from vinecompass.navigation import Navigator, Round
from vinecompass.planning import plan_path
from vinecompass.rehearsal import Rehearsal, rehearse_mission
from vinecompass.robot import Robot
from vinecompass.settings import CostSettings, Settings, changed_settings
from vinecompass.simulation import Site
from vinecompass.tuning.comparison import FEWEST
from vinecompass.tuning.mission_score import MissionScore, score
from vinecompass.tuning.trial import Kind, Trial, new_seeds

__all__ = ["MissionCase", "MissionCases"]


@dataclass(frozen=True)
class MissionCase:
    """A round in a simulated site: what all trials of a study share.

    Parameters
    ----------
    site : Site
    robot : Robot
    grid : Grid
        The map it drives by.
    round : Round
    settings : Settings
        In which a trial changes some values.
    time_limit : float
        Seconds of simulated time.
    """

    site: Site
    robot: Robot
    grid: Grid
    round: Round
    settings: Settings
    time_limit: float = 300.0
    kind: Kind = "mission"

    def bound(self) -> float:
        """Return the least time for the round, s: the shortest way that the body fits through, at top speed.

        Raises
        ------
        InputError
            There is no way to one of the stops.
        """
        # All floor alike, as far as the body reaches: no price makes the way longer.
        floor = price_floor(self.grid, self.robot, settings=CostSettings(comfort=1e-3, contact_price=1.0))
        start, length = np.asarray(self.site.start_pose, dtype=float), 0.0
        for goal in self.round.goals(self.site.stops, where=self.site.name):
            plan = plan_path(floor, self.robot, start, goal.pose, explain=False)
            if not plan.found:
                raise InputError(plan.reason, key="round", value=goal.name, expected="stops that can be reached")
            start, length = np.asarray(goal.pose, dtype=float), length + plan.length
        return length / self.robot.drive.top_speed

    def confirming(self, seeds: int) -> range:
        """Return the seeds that confirm what was chosen on so many: other noise and people."""
        return new_seeds(seeds)

    def run(self, trial: Trial, bound: float) -> MissionScore:
        """Rehearse the round with a trial's values and seed, and judge it."""
        return score(self.rehearse(trial), self.site, bound)

    def rehearse(self, trial: Trial, watch: Callable[[Navigator], None] | None = None) -> Rehearsal:
        """Rehearse the round with a trial's values and seed; `watch` is called after each step of the navigator."""
        return rehearse_mission(
            self.site,
            self.robot,
            self.grid,
            self.round,
            settings=changed_settings(self.settings, trial.values),
            seed=trial.seed,
            time_limit=self.time_limit,
            watch=watch,
        )


@dataclass(frozen=True)
class MissionCases:
    """Rounds in several sites, which share robot and settings: each seed is driven in one of them, in turn.

    Parameters
    ----------
    cases : tuple of MissionCase
    """

    cases: tuple[MissionCase, ...]
    kind: Kind = "mission"

    @property
    def settings(self) -> Settings:
        """In which a trial changes some values."""
        return self.cases[0].settings

    @cached_property
    def bounds(self) -> tuple[float, ...]:
        """The least time for each round, s."""
        return tuple(case.bound() for case in self.cases)

    def bound(self) -> float:
        """Return the mean of the least times, s; a trial is judged by its own site's."""
        return float(np.mean(self.bounds))

    def confirming(self, seeds: int) -> range:
        """Return the seeds that confirm what was chosen on so many: as many in each site, and enough to tell."""
        in_each = max(-(-len(new_seeds(seeds)) // len(self.cases)), FEWEST)
        return range(seeds, seeds + in_each * len(self.cases))

    def run(self, trial: Trial, bound: float) -> MissionScore:
        """Rehearse the round of the seed's site, and judge it."""
        number = trial.seed % len(self.cases)
        return self.cases[number].run(trial, self.bounds[number])

    def of(self, trial: Trial) -> MissionCase:
        """Return the case in the site of a trial's seed."""
        return self.cases[trial.seed % len(self.cases)]
