"""Plans on a map, from anywhere to anywhere, made again with other settings."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from vinecompass.costs import BodyCheck, CostMap, price_floor
from vinecompass.errors import InputError
from vinecompass.grids import Grid
from vinecompass.planning import Problem, clearance_along, solve
from vinecompass.robot import Robot
from vinecompass.settings import Settings, changed_settings
from vinecompass.tuning.score import Score
from vinecompass.tuning.trial import Kind, Trial, new_seeds

__all__ = ["PlanCase", "PlanScore"]

FloatArray = NDArray[np.float64]
NO_PLAN = 10.0
"""Metres-equivalent for each metre as the crow flies that a plan counts for which is not found."""
LEAST_APART = 2.0
"""Metres from start to goal at least: nearer by, hardly anything is planned."""
DRAWN_AT_ONCE, DRAWS = 64, 200
"""Pairs of poses drawn together, and how often, before there is taken to be none on which the body fits."""


@dataclass(frozen=True, kw_only=True)
class PlanScore(Score):
    """What came of a plan; what is measured along it is `nan` where none was found.

    Parameters
    ----------
    found : bool
    way : float
        Metres for each metre as the crow flies.
    clearance : float
        From the body's outline to the nearest forbidden cell, m; 1.5 counts as the most.
    reversals : int
        How often it changes between forward and reverse.
    expanded : int
        Cells or nodes whose neighbours the planner looked at: what the computing time goes by.
    computing : float
        Of planning, ms.
    cost : float
        Metres-equivalent for each metre as the crow flies; 10, where no plan was found.
    """

    MEASURES: ClassVar[dict[str, str]] = {
        "cost": "cost, m a metre as the crow flies",
        "found": "share of plans found",
        "way": "way, m a metre as the crow flies",
        "clearance": "least clearance, m",
        "reversals": "changes of direction",
        "expanded": "cells or nodes looked at",
        "computing": "computing a plan, ms",
    }
    CLOCKED: ClassVar[tuple[str, ...]] = ("computing",)

    found: bool
    way: float
    clearance: float
    reversals: int
    expanded: int
    computing: float


@dataclass(frozen=True)
class PlanCase:
    """Plans on a map between poses that the seed draws, both on floor that hangs together and with room for the body.

    Parameters
    ----------
    grid : Grid
    robot : Robot
    settings : Settings
        The floor is priced by them; a trial changes how is planned on it.
    """

    grid: Grid
    robot: Robot
    settings: Settings
    kind: Kind = "plan"

    @cached_property
    def costmap(self) -> CostMap:
        """The priced floor."""
        return price_floor(self.grid, self.robot, settings=self.settings.costs)

    @cached_property
    def check(self) -> BodyCheck:
        """What the body touches on that floor."""
        return BodyCheck(self.costmap, self.robot)

    @cached_property
    def parts(self) -> NDArray[np.int32]:
        """To which part of the floor that hangs together each cell belongs, from 1 on; 0 if to none."""
        return np.asarray(ndimage.label(np.isfinite(self.costmap.prices))[0])

    def bound(self) -> float:
        """Return 1, as scores are as they are, if there is anything to plan.

        Raises
        ------
        InputError
            There are no two places 2 m apart where the body fits.
        """
        self.ends(0)
        return 1.0

    def confirming(self, seeds: int) -> range:
        """Return the seeds that confirm what was chosen on so many: other starts and goals."""
        return new_seeds(seeds)

    def run(self, trial: Trial, bound: float) -> PlanScore:
        """Plan between the poses of a trial's seed with its values, and judge the plan."""
        start, goal = self.ends(trial.seed)
        problem = Problem(self.costmap, self.robot, start, goal)
        settings = changed_settings(self.settings, trial.values).planning
        plan = solve(problem, settings=settings, seed=trial.seed, explain=False)
        if plan.method not in self._loaded:
            # The first of its kind in a process has the loading of compiled code in its time.
            self._loaded.add(plan.method)
            plan = solve(problem, settings=settings, seed=trial.seed, explain=False)
        apart = float(np.hypot(*(goal - start)[:2]))
        return PlanScore(
            found=plan.found,
            way=plan.length / apart if plan.found else float("nan"),
            clearance=clearance_along(problem, plan.poses, plan.method) if plan.found else float("nan"),
            reversals=plan.reversals,
            expanded=plan.expanded,
            computing=1000.0 * plan.duration,
            cost=min(plan.cost / apart, NO_PLAN) if plan.found else NO_PLAN,
        )

    @cached_property
    def _loaded(self) -> set[str]:
        """The methods that were planned by in this process."""
        return set()

    def ends(self, seed: int) -> tuple[FloatArray, FloatArray]:
        """Return the start and the goal ``(3,)`` that a seed draws, m and radians."""
        rng = np.random.default_rng(seed)
        cells = np.argwhere(self.parts)
        for _ in range(DRAWS if len(cells) else 0):
            drawn = cells[rng.integers(len(cells), size=(2, DRAWN_AT_ONCE))]
            points, part = self.costmap.grid.points_of(drawn), self.parts[drawn[..., 0], drawn[..., 1]]
            headings = rng.uniform(-np.pi, np.pi, (2, DRAWN_AT_ONCE, 1))
            poses = np.concatenate([points, headings], axis=-1)
            apart = np.hypot(*(points[1] - points[0]).T) >= LEAST_APART
            for i in np.flatnonzero(apart & (part[0] == part[1])).tolist():
                if np.all(self.check.touched(poses[:, i]) < 0):
                    return poses[0, i], poses[1, i]
        raise InputError(
            "has no two places for the robot to plan between", key="map", expected="floor 2 m long where the body fits"
        )
