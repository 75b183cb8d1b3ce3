"""Prices of the floor under which plans take the ways that a person showed."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cache
from typing import get_args

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import minimize
from scipy.stats import qmc

from vinecompass.costs import CostMap, price_floor
from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.grids import Grid, Zone, clearance
from vinecompass.planning import Plan, StraightMotion, plan_path
from vinecompass.robot import Robot
from vinecompass.settings import CostSettings, Fall, find_setting
from vinecompass.settings.tuned import Span
from vinecompass.tuning.shown_ways import ShownWay, ways_apart

__all__ = ["Compared", "ShownPrices", "learn_prices", "plan_beside"]

FloatArray = NDArray[np.float64]
KEYS = ("contact_price", "comfort")
"""The numbers that are sought, for each way in which the price may fall."""
SAMPLES, LOOKED_AT, REFINED = 32, 6, 40
"""Pairs of numbers tried for each fall; the best of them that are planned with; and steps to the best from there."""
MARGIN, FAR = 0.5, 0.5
"""How much cheaper a metre counts that is far from the way shown, and metres from which it is far."""
KEPT = 0.002
"""What a setting costs that is moved over all its span, in metres of way apart: those that do not matter stay."""
LONGEST = 4.0
"""Times as long as the plan from its start to its end from which a way went to other places in between."""
NEARER = 0.9
"""Times as far from the ways that choose that plans must be for the settings given to be left."""
HELD_BACK = 3
"""Of so many ways one does not choose, but judges."""


@dataclass(frozen=True)
class Compared:
    """A way shown, beside the plans from its start to its end.

    Parameters
    ----------
    way : ShownWay
    held_back : bool
        Whether it had no part in the choice.
    before, after : array, (N, 3)
        Plans with the settings given and with those found; of no rows where there is none.
    apart_before, apart_after : float
        How far they run from the way, on average, m; `inf` where there is none.
    """

    way: ShownWay
    held_back: bool
    before: FloatArray
    after: FloatArray
    apart_before: float
    apart_after: float


@dataclass(frozen=True)
class ShownPrices:
    """The settings found, and how near plans come to each way with them.

    Parameters
    ----------
    settings : CostSettings
    ways : list of Compared
    """

    settings: CostSettings
    ways: list[Compared]

    def apart(self, *, held_back: bool) -> tuple[float, float]:
        """Return how far plans run from the ways that chose, or from those held back, before and after, m."""
        kept = [each for each in self.ways if each.held_back == held_back]
        return (
            float(np.mean([each.apart_before for each in kept])) if kept else float("nan"),
            float(np.mean([each.apart_after for each in kept])) if kept else float("nan"),
        )

    @property
    def is_nearer(self) -> bool:
        """Whether plans come nearer to the ways held back, or to the others where there are none."""
        before, after = self.apart(held_back=any(each.held_back for each in self.ways))
        return after < NEARER * before


@checked
def learn_prices(
    grid: Grid,
    robot: Robot,
    ways: Sequence[ShownWay],
    *,
    settings: CostSettings | None = None,
    zones: Sequence[Zone] = (),
    seed: int = 0,
    progress: Callable[[float, str], None] | None = None,
) -> ShownPrices:
    """Find the prices of the floor under which plans take the ways shown.

    Sought are `contact_price`, `comfort` and `fall`. Every third way is held back and judges what was found. Plans are
    of straight lines for the body's origin, whatever the drive.

    Parameters
    ----------
    grid : Grid
    robot : Robot
    ways : sequence of ShownWay
    settings : CostSettings, optional
        To start from; all others stay as they are.
    zones : sequence of Zone
    seed : int
        Of the values that are tried first.
    progress : callable, optional

    Raises
    ------
    InputError
        No way is shown, or one that goes to several places.

    Notes
    -----
    Maximum-margin planning (Ratliff, Bagnell and Zinkevich, 2006): under the prices sought, a way shown costs less than
    any other, by the more, the farther the other is from it. Its loss is what the way shown costs beyond the cheapest
    plan where far floor is that much cheaper. Prices are no linear function of the settings, so that the loss is
    searched over a Sobol sequence; from the best of it, the mean distance itself is brought down by the simplex of
    Nelder and Mead (1965).
    """
    if not ways:
        raise InputError("none is shown", key="ways", expected="at least one way")
    given = settings or CostSettings()
    before = _plans(grid, robot, ways, given, zones)
    _check_one_way_each(ways, before)
    choosing = [way for number, way in enumerate(ways) if not _is_held_back(number)]
    task = _Task(grid, robot, tuple(choosing), tuple(_far_from(grid, way) for way in choosing), given, tuple(zones))
    best = _refined(task, _sampled(task, seed, progress))
    after = _plans(grid, robot, ways, best, zones)
    compared = [
        Compared(way, _is_held_back(number), old.poses, new.poses, _apart(old, way), _apart(new, way))
        for number, (way, old, new) in enumerate(zip(ways, before, after, strict=True))
    ]
    return ShownPrices(best, compared)


def plan_beside(costmap: CostMap, robot: Robot, way: ShownWay) -> Plan:
    """Plan from where a way begins to where it ends, by straight lines for the body's origin."""
    start, end = way.poses[0], way.poses[-1]
    return plan_path(costmap, robot, start, end, method="a-star", motion=StraightMotion(), explain=False)


def _plans(
    grid: Grid, robot: Robot, ways: Sequence[ShownWay], settings: CostSettings, zones: Sequence[Zone]
) -> list[Plan]:
    """Return the plans beside ways."""
    costmap = price_floor(grid, robot, zones=zones, settings=settings)
    return [plan_beside(costmap, robot, way) for way in ways]


def _far_from(grid: Grid, way: ShownWay) -> NDArray[np.float32]:
    """Return how far each cell ``(rows, columns)`` is from a way, as a share of what is far, 0 to 1."""
    on_way = np.zeros(grid.shape, bool)
    on_way[tuple(grid.cells_at(way.poses[:, :2]).T)] = True
    return np.minimum(clearance(on_way, grid.cell_size) / np.float32(FAR), np.float32(1.0))


def _check_one_way_each(ways: Sequence[ShownWay], plans: list[Plan]) -> None:
    for way, plan in zip(ways, plans, strict=True):
        if plan.found and way.length > LONGEST * plan.length:
            raise InputError(
                f"goes {way.length:.0f} m where {plan.length:.0f} m lead from its start to its end",
                key=way.name,
                expected="a way to one place; in a run, stand for 2 s at each stop on the way",
            )


def _is_held_back(number: int) -> bool:
    return number % HELD_BACK == 1


def _apart(plan: Plan, way: ShownWay) -> float:
    return ways_apart(plan.poses, way.poses) if plan.found else float("inf")


@dataclass(frozen=True)
class _Task:
    """What all tries share: the ways that choose among them, and how far cells are from each."""

    grid: Grid
    robot: Robot
    ways: tuple[ShownWay, ...]
    far: tuple[NDArray[np.float32], ...]
    settings: CostSettings
    zones: tuple[Zone, ...]

    def apart(self, settings: CostSettings) -> float:
        """Return how far plans run from ways on average, m; where there is no plan, the length of the way."""
        plans = _plans(self.grid, self.robot, self.ways, settings, self.zones)
        distances = [min(_apart(plan, way), way.length) for plan, way in zip(plans, self.ways, strict=True)]
        return float(np.mean(distances)) + self._moved(settings)

    def loss(self, settings: CostSettings) -> float:
        """Return by how much ways cost more than the cheapest where far floor is cheaper, a metre, on average."""
        costmap = price_floor(self.grid, self.robot, zones=self.zones, settings=settings)
        losses = [self._loss(costmap, settings, *each) for each in zip(self.ways, self.far, strict=True)]
        return float(np.mean(losses)) + self._moved(settings)

    def _loss(self, costmap: CostMap, settings: CostSettings, way: ShownWay, far: NDArray[np.float32]) -> float:
        # Planners take prices of 1 or more.
        prices = (costmap.prices - np.float32(MARGIN) * far) / np.float32(1.0 - MARGIN)
        plan = plan_beside(replace(costmap, prices=np.asarray(prices, np.float32)), self.robot, way)
        if not plan.found:
            return settings.contact_price
        # The scanner's noise, or a hand that drew, may have put the way on floor that is closed.
        paid = np.minimum(self.grid.values_at(way.poses[:, :2], costmap.prices, np.inf), settings.contact_price)
        return float(np.mean(paid)) - (1.0 - MARGIN) * plan.cost / way.length

    def _moved(self, settings: CostSettings) -> float:
        """Return the small price of leaving the settings given."""
        moved = np.abs(_in_span(settings) - _in_span(self.settings)).sum() + (settings.fall != self.settings.fall)
        return KEPT * float(moved)


@cache
def _spans() -> dict[str, Span]:
    """Return the values that make sense of the numbers sought."""
    return {key: find_setting(f"costs.{key}").span for key in KEYS}


def _in_span(settings: CostSettings) -> FloatArray:
    """Return where in their spans the numbers sought are, 0 to 1."""
    return np.array([span.share_of(getattr(settings, key)) for key, span in _spans().items()])


def _settings_at(settings: CostSettings, shares: FloatArray, fall: Fall) -> CostSettings:
    """Return settings with the numbers sought at shares of their spans."""
    inside = np.clip(shares, 0.0, 1.0)
    values = {key: float(f"{span.at(share):.3g}") for (key, span), share in zip(_spans().items(), inside, strict=True)}
    return settings.model_copy(update={**values, "fall": fall})


def _sampled(task: _Task, seed: int, progress: Callable[[float, str], None] | None) -> list[CostSettings]:
    """Return the settings given, and those whose loss is least among many."""
    points = qmc.Sobol(len(KEYS), rng=np.random.default_rng(seed)).random(SAMPLES)
    tries = [_settings_at(task.settings, point, fall) for fall in get_args(Fall) for point in points]
    losses = []
    for number, settings in enumerate(tries):
        losses.append(task.loss(settings))
        if progress:
            progress(0.7 * number / len(tries), "prices tried")
    return [task.settings, *(tries[i] for i in np.argsort(losses, kind="stable")[:LOOKED_AT])]


def _refined(task: _Task, candidates: list[CostSettings]) -> CostSettings:
    """Return the settings whose plans run nearest to ways, from the best of some candidates on."""
    distances = [task.apart(settings) for settings in candidates]
    best = candidates[int(np.argmin(distances))]

    def distance(shares: FloatArray) -> float:
        return task.apart(_settings_at(task.settings, shares, best.fall))

    first = np.clip(_in_span(best), 0.0, 1.0)
    steps = np.where(first < 0.5, 0.1, -0.1)
    simplex = np.vstack([first, first + np.diag(steps)])
    fit = minimize(
        distance,
        first,
        method="Nelder-Mead",
        bounds=[(0.0, 1.0)] * len(KEYS),
        options={"initial_simplex": simplex, "maxfev": REFINED, "xatol": 0.005, "fatol": 0.001},
    )
    found, distance_found = (_settings_at(task.settings, fit.x, best.fall), float(fit.fun))
    if distance_found >= min(distances):
        found, distance_found = best, min(distances)
    return found if distance_found < NEARER * distances[0] else task.settings
