"""Built cases in which there is no way, each with the cause that must be named and distractions that must not."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vinecompass.costs import CostMap, price_floor
from vinecompass.grids import Grid, Zone
from vinecompass.robot import Robot
from vinecompass.settings import CostSettings

FloatArray = NDArray[np.float64]
CELL = 0.02


@dataclass(frozen=True)
class ClosedWay:
    """A costmap without a way from start to goal, and why: the cause, a word of the reason, and the place, m."""

    name: str
    costmap: CostMap
    start: FloatArray
    goal: FloatArray
    cause: str
    word: str
    place: tuple[float, float]


def two_halls(door: float, at: float, cell: float = CELL) -> Grid:
    """Return two halls of 4 m x 5 m with a wall of 0.1 m between them, and in it a door about y = `at`."""
    rows, columns = round(5.0 / cell), round(8.1 / cell)
    log_odds = np.full((rows, columns), -3.0, np.float32)
    log_odds[[0, -1]] = log_odds[:, [0, -1]] = 3.0
    wall = slice(round(4.0 / cell), round(4.1 / cell))
    log_odds[:, wall] = 3.0
    width = round(door / cell)
    first = round(at / cell) - width // 2
    log_odds[first : first + width, wall] = -3.0
    return Grid(log_odds, cell)


def closed_ways(robot: Robot, seed: int) -> Iterator[ClosedWay]:
    """Yield one case of each of five kinds, laid out by the seed."""
    rng = np.random.default_rng(seed)
    needed = 2.0 * robot.body.inner_radius
    at = float(rng.uniform(1.5, 3.5))
    start = np.array([rng.uniform(1.0, 2.0), rng.uniform(1.2, 3.8), 0.0])
    goal = np.array([rng.uniform(6.2, 7.2), rng.uniform(1.2, 3.8), 0.0])
    beside = Zone(name="rest", kind="closed", polygon=[(0.1, 0.1), (0.5, 0.1), (0.5, 0.5), (0.1, 0.5)])
    dear = Zone(name="wash", kind="dear", factor=2.0, polygon=[(3.0, 1.0), (3.6, 1.0), (3.6, 4.0), (3.0, 4.0)])
    crumbs = [[0.3, 4.7], [7.8, 0.3]]
    middle = (4.05, at)

    narrow = two_halls(needed - 0.01, at, 0.01)
    yield ClosedWay(
        "a door a centimetre too narrow",
        price_floor(narrow, robot, zones=[beside, dear]),
        start,
        goal,
        "narrow",
        "1 cm too narrow",
        middle,
    )

    wide = two_halls(1.2, at)
    across = Zone(name="wet", kind="closed", polygon=[(4.4, 0.0), (4.9, 0.0), (4.9, 5.0), (4.4, 5.0)])
    yield ClosedWay(
        "a zone across the aisle",
        price_floor(wide, robot, zones=[beside, across, dear], obstacles=crumbs),
        start,
        goal,
        "zone",
        "'wet'",
        (4.65, 2.5),
    )

    pallet = np.column_stack([np.full(40, 4.3), at + np.linspace(-0.6, 0.6, 40)])
    yield ClosedWay(
        "a pallet in the way",
        price_floor(wide, robot, zones=[beside, dear], obstacles=np.vstack([pallet, crumbs])),
        start,
        goal,
        "obstacle",
        "obstacle at",
        (4.3, at),
    )

    inside = np.array([4.05, at + 1.1 if at < 2.5 else at - 1.1, 0.0])
    yield ClosedWay(
        "a goal in a wall",
        price_floor(wide, robot, zones=[beside]),
        start,
        inside,
        "occupied",
        "occupied",
        (4.05, float(inside[1])),
    )

    unknown = two_halls(1.2, at)
    unknown.log_odds[1:-1, round(5.0 / CELL) : round(5.4 / CELL)] = 0.0
    yield ClosedWay(
        "unknown floor across the hall",
        price_floor(unknown, robot, zones=[beside, dear], settings=CostSettings()),
        start,
        goal,
        "unknown",
        "costs.unknown",
        (5.0, at),
    )
