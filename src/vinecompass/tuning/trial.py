"""A trial: a mission rehearsed with certain settings and a certain seed."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from vinecompass.costs import price_floor
from vinecompass.errors import InputError
from vinecompass.grids import Grid
from vinecompass.navigation import Round
from vinecompass.planning import plan_path
from vinecompass.rehearsal import rehearse_mission
from vinecompass.robot import Robot
from vinecompass.settings import CostSettings, Settings, changed_settings
from vinecompass.simulation import Site
from vinecompass.tuning.score import Score, score

__all__ = ["Case", "Trial", "run_trial"]


@dataclass(frozen=True)
class Case:
    """What all trials of a study share.

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


@dataclass(frozen=True)
class Trial:
    """One rehearsal of a study.

    Parameters
    ----------
    number : int
    seed : int
        Of the mission: noise, people, particles.
    values : dict of str to float
        What is changed in the case's settings, by its key.
    """

    number: int
    seed: int
    values: dict[str, float]


def run_trial(case: Case, trial: Trial, bound: float) -> Score:
    """Rehearse a trial and judge it; the same trial gives the same score, wherever it runs."""
    mission = rehearse_mission(
        case.site,
        case.robot,
        case.grid,
        case.round,
        settings=changed_settings(case.settings, trial.values),
        seed=trial.seed,
        time_limit=case.time_limit,
    )
    return score(mission, case.site, bound)
