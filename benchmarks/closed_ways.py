"""Built cases in which there is no way, each with the causes that must be named and distractions that must not."""

from __future__ import annotations

import sys
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

from vinecompass import demo_file, plan_path, price_floor, read_robot
from vinecompass.costs import CostMap, Layer
from vinecompass.grids import Grid, Zone
from vinecompass.planning import DubinsMotion, Motion, Plan
from vinecompass.robot import Robot

__all__ = ["ClosedWay", "closed_ways", "told_wrongly", "two_halls"]

FloatArray = NDArray[np.float64]
CELL = 0.02
ON_THE_FLOOR = ("narrow", "zone", "one-way zone", "obstacle", "unknown", "layer")
"""Causes that are built one, two and three at a time, one after the other along the way."""


@dataclass(frozen=True)
class ClosedWay:
    """A costmap without a way from start to goal, and why.

    Parameters
    ----------
    causes : set of str
        All that close it, each of which must be named; or one of the sets in `instead`.
    words : tuple of str
        What must stand in the reason.
    place : (x, y) or None
        Where the cause lies, m, if it is one.
    within : (x0, y0, x1, y1) or None
        Where the nearest pose must lie that is offered for a closed goal.
    """

    name: str
    costmap: CostMap
    robot: Robot
    start: FloatArray
    goal: FloatArray
    causes: frozenset[str]
    words: tuple[str, ...] = ()
    place: tuple[float, float] | None = None
    motion: Motion | None = None
    instead: tuple[frozenset[str], ...] = ()
    within: tuple[float, float, float, float] | None = None


@dataclass
class Floor:
    """Two halls with a wall and a door between them, and what is put into the way in the second one."""

    robot: Robot
    at: float
    zones: list[Zone]
    obstacles: list[FloatArray]
    door: float = 1.2
    cell: float = CELL
    unknown: tuple[float, float] | None = None
    layers: list[Layer] = field(default_factory=list)

    def priced(self) -> CostMap:
        grid = two_halls(self.door, self.at, self.cell)
        if self.unknown is not None:
            first, last = (round(x / self.cell) for x in self.unknown)
            grid.log_odds[1:-1, first:last] = 0.0
        crumbs = np.vstack([[[0.3, 4.7], [7.8, 0.3]], *self.obstacles])
        return price_floor(grid, self.robot, zones=self.zones, obstacles=crumbs, extra_layers=self.layers)


@dataclass(frozen=True)
class Carpet:
    """A layer of one's own that closes a band."""

    x: float
    name: str = "carpet"

    def charge(self, grid: Grid, robot: Robot) -> NDArray[np.float32]:
        factors = np.ones(grid.shape, np.float32)
        factors[:, round(self.x / grid.cell_size) : round((self.x + 0.2) / grid.cell_size)] = np.inf
        return factors


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


def band(name: str, kind: str, x: float) -> Zone:
    """Return a zone across the hall, 0.2 m deep."""
    heading = 180.0 if kind == "one-way" else None
    corners = [(x, 0.0), (x + 0.2, 0.0), (x + 0.2, 5.0), (x, 5.0)]
    return Zone.model_validate({"name": name, "kind": kind, "polygon": corners, "heading_deg": heading})


def closed_ways(robot: Robot, seed: int) -> Iterator[ClosedWay]:
    """Yield cases of each kind and of kinds together, laid out by the seed: fifty of them."""
    yield from _on_the_floor(robot, seed)
    yield from _goals(robot, seed)
    yield from _cars(seed)


def _on_the_floor(robot: Robot, seed: int) -> Iterator[ClosedWay]:
    """Yield what closes the floor one, two and three at a time."""
    for count in (1, 2, 3):
        for causes in combinations(ON_THE_FLOOR, count):
            rng = np.random.default_rng([seed, *(ON_THE_FLOOR.index(cause) for cause in causes)])
            at = float(rng.uniform(1.5, 3.5))
            start = np.array([rng.uniform(1.0, 2.0), rng.uniform(1.2, 3.8), 0.0])
            goal = np.array([rng.uniform(7.0, 7.3), rng.uniform(1.2, 3.8), 0.0])
            beside = Zone(name="rest", kind="closed", polygon=[(0.1, 0.1), (0.5, 0.1), (0.5, 0.5), (0.1, 0.5)])
            dear = Zone(name="wash", kind="dear", factor=2.0, polygon=[(3.0, 1.0), (3.6, 1.0), (3.6, 4.0), (3.0, 4.0)])
            floor, words, places = Floor(robot, at, [beside, dear], []), [], []
            order = [float(x) for x in rng.permutation([4.5, 5.1, 5.7])]
            for cause, x in zip(causes, order, strict=False):
                words.append(_put(floor, cause, x))
                places.append((4.05 if cause in ("narrow", "obstacle") else x, at))
            place = places[0] if count == 1 else None
            yield ClosedWay(
                " and ".join(causes),
                floor.priced(),
                robot,
                start,
                goal,
                frozenset(causes),
                tuple(words),
                place,
            )


def _put(floor: Floor, cause: str, x: float) -> str:
    """Put something into the way; return a word that must stand in the reason."""
    if cause == "narrow":
        floor.door = 2.0 * floor.robot.body.inner_radius - 0.04
        return "4 cm too narrow"
    if cause in ("zone", "one-way zone"):
        kind = "closed" if cause == "zone" else "one-way"
        floor.zones.append(band("wet" if cause == "zone" else "gate", kind, x))
        return "'wet'" if cause == "zone" else "'gate'"
    if cause == "obstacle":
        floor.obstacles.append(np.column_stack([np.full(250, 4.3), np.linspace(0.0, 5.0, 250)]))
        return "obstacle at 4.3"
    if cause == "layer":
        floor.layers.append(Carpet(x))
        return "'carpet'"
    floor.unknown = (x, x + 0.2)
    return "unknown floor"


def _goals(robot: Robot, seed: int) -> Iterator[ClosedWay]:
    """Yield goals in walls, beside them, askew to them and in a sealed closet."""
    rng = np.random.default_rng([seed, 77])
    at = float(rng.uniform(1.8, 3.2))
    start = np.array([rng.uniform(1.0, 2.0), rng.uniform(1.2, 3.8), 0.0])
    floor = Floor(robot, at, [], [])
    halls = (0.0, 0.0, 8.1, 5.0)
    wall = np.array([4.05, at + (1.2 if at < 2.5 else -1.2), 0.0])
    yield ClosedWay(
        "a goal in a wall",
        floor.priced(),
        robot,
        start,
        wall,
        frozenset({"occupied"}),
        ("occupied",),
        (wall[0], wall[1]),
        within=halls,
    )
    beside = np.array([6.0, 0.15, 0.0])
    yield ClosedWay(
        "beside a wall", floor.priced(), robot, start, beside, frozenset({"clearance"}), ("needs",), within=halls
    )
    askew = np.array([6.0, 0.42, -np.pi / 2.0])
    yield ClosedWay(
        "facing a wall", floor.priced(), robot, start, askew, frozenset({"heading"}), ("heading",), within=halls
    )
    # The middle of the closet is free, the goal in its wall: what fits nearest is shut in, and must not be offered.
    grid = two_halls(1.2, at)
    low, high = (round(v / CELL) for v in (0.9, 2.5))
    left, right = (round(v / CELL) for v in (5.4, 7.0))
    grid.log_odds[low : high + 1, [left, right]] = grid.log_odds[[low, high], left : right + 1] = 3.0
    shut = np.array([5.62, 1.7, 0.0])
    yield ClosedWay(
        "a goal in a sealed closet, too near its wall",
        price_floor(grid, robot),
        robot,
        start,
        shut,
        frozenset({"clearance"}),
        ("get to",),
        within=(0.0, 0.0, 5.4, 5.0),
    )
    yield ClosedWay(
        "a goal in a sealed closet",
        price_floor(grid, robot),
        robot,
        start,
        np.array([6.2, 1.7, 0.0]),
        frozenset({"walls"}),
        ("all sides",),
    )


def _cars(seed: int) -> Iterator[ClosedWay]:
    """Yield cars that drive ahead only: into a dead end the wrong way round, round a bend, and past a zone as well."""
    rng = np.random.default_rng([seed, 78])
    car = read_robot(demo_file("forklift.toml"))
    ahead = car.model_copy(update={"drive": car.drive.model_copy(update={"reverse_speed": 0.0})})
    cell = 0.05
    aisle = float(rng.uniform(1.3, 1.5))
    log_odds = np.full((100, 200), 3.0, np.float32)
    log_odds[1:-1, 1:100] = -3.0
    first = round(float(rng.uniform(1.2, 2.4)) / cell)
    log_odds[first : first + round(aisle / cell), 100:199] = -3.0
    y = (first + round(aisle / cell) / 2.0) * cell
    start, out = np.array([1.5, 2.5, 0.0]), np.array([8.0, y, np.pi])
    either = (frozenset({"reverse"}), frozenset({"turning radius"}))
    yield ClosedWay(
        "out of a dead end, ahead only",
        price_floor(Grid(log_odds, cell), ahead),
        ahead,
        start,
        out,
        frozenset({"heading"}),
        (),
        motion=DubinsMotion(1.0),
        instead=either,
    )
    wet = band("wet", "closed", 6.0)
    with_zone = tuple(one | {"zone"} for one in either)
    yield ClosedWay(
        "the same behind a zone",
        price_floor(Grid(log_odds, cell), ahead, zones=[wet]),
        ahead,
        start,
        out,
        frozenset({"heading", "zone"}),
        ("'wet'",),
        motion=DubinsMotion(1.0),
        instead=with_zone,
    )
    bend = np.full((160, 160), 3.0, np.float32)
    bend[20:46, 5:100] = bend[20:150, 74:100] = -3.0
    yield ClosedWay(
        "round a bend too tight for it",
        price_floor(Grid(bend, cell), ahead),
        ahead,
        np.array([0.8, 1.65, 0.0]),
        np.array([4.35, 5.8, np.pi / 2.0]),
        frozenset({"turning radius"}),
        ("turns in 2.50 m",),
        motion=DubinsMotion(2.5),
        instead=(frozenset({"reverse"}),),
    )
    lane = np.full((80, 200), 3.0, np.float32)
    lane[20:52, 2:198] = -3.0
    yield ClosedWay(
        "a goal too near beside its lane to swerve to",
        price_floor(Grid(lane, cell), ahead),
        ahead,
        np.array([1.2, 1.6, 0.0]),
        np.array([2.95, 2.0, 0.0]),
        frozenset({"tolerance"}),
        ("m of tolerance",),
        motion=DubinsMotion(2.5),
    )
    yield ClosedWay(
        "a zone before a car",
        price_floor(two_halls(2.5, 2.5, cell), car, zones=[band("damp", "closed", 5.0)]),
        car,
        np.array([1.2, 2.5, 0.0]),
        np.array([6.6, 2.5, 0.0]),
        frozenset({"zone"}),
        ("'damp'",),
    )


def told_wrongly(case: ClosedWay) -> tuple[str, float]:
    """Return what is wrong with what a plan says of a case, if anything, and the seconds that it took."""
    begun = time.perf_counter()
    plan = plan_path(case.costmap, case.robot, case.start, case.goal, motion=case.motion)
    took = time.perf_counter() - begun
    why = plan.why_not
    if plan.found or why is None:
        return f"{case.name}: {plan.status}", took
    named = frozenset(part.cause for part in why.parts) or frozenset({why.cause})
    right = named == case.causes or named in case.instead
    right &= all(word in plan.reason for word in case.words)
    if case.place is not None and (why.place is None or abs(why.place[0] - case.place[0]) > 0.5):
        right = False
    if case.within is not None:
        right &= _offers_a_way(case, plan)
    return ("" if right else f"{case.name}: {why.cause} ({', '.join(sorted(named))}): {plan.reason}"), took


def _offers_a_way(case: ClosedWay, plan: Plan) -> bool:
    """Tell whether the nearest pose that is offered lies where it must, and is got to when asked for."""
    assert plan.why_not is not None and case.within is not None
    nearest = plan.why_not.nearest
    if nearest is None:
        return False
    x0, y0, x1, y1 = case.within
    inside = x0 < nearest[0] < x1 and y0 < nearest[1] < y1
    return inside and plan_path(case.costmap, case.robot, case.start, nearest, explain=False).found


def main() -> None:
    seeds = int(sys.argv[1]) if len(sys.argv) > 1 else 2
    robot, times, wrong = read_robot(demo_file("robot.toml")), [], []
    for seed in range(seeds):
        for case in closed_ways(robot, seed):
            told, took = told_wrongly(case)
            times.append(took)
            wrong += [f"seed {seed}, {took:.2f} s, {told}"] if told else []
    print(*wrong, sep="\n")
    print(f"{len(times)} cases: {len(wrong)} told wrongly; {np.median(times):.2f} s median, {max(times):.2f} s at most")


if __name__ == "__main__":
    main()
