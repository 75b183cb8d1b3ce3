"""Why there is no way between two open poses: the fewest things that, changed together, open one, tried one by one."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import combinations, islice

import numpy as np
from numpy.typing import NDArray

from vinecompass.grids import clearance
from vinecompass.planning.problem import Problem
from vinecompass.planning.why.reason import WhyNot, together
from vinecompass.planning.why.remedies import Remedy, of_the_robot, smaller_body, taking_away
from vinecompass.planning.why.smallest_sets import smallest_sets
from vinecompass.planning.why.suspects import suspects
from vinecompass.planning.why.tried import try_again
from vinecompass.settings import PlanSettings

__all__ = ["why_no_way"]

FloatArray = NDArray[np.float64]
MOST_SETS = 8
"""Sets of things on the floor that are tried, the smallest first."""
MOST_TOGETHER = 3
"""Things that are changed together at most."""
CRACK = 0.25
"""Share of the body's inner radius below which the half of a gap in a wall makes it a wall."""


@dataclass(frozen=True)
class Opened:
    """A way that some remedies open together: the problem before and after each of them, and the way."""

    remedies: tuple[Remedy, ...]
    steps: tuple[Problem, ...]
    way: FloatArray


def why_no_way(problem: Problem, settings: PlanSettings) -> WhyNot:
    """Tell what closes every way between an open start and an open goal.

    The sets of things over whose floor the origin would come to the goal are known exactly (`smallest_sets`); what the
    body, its motion and its heading add is tried. Of all that is changed, each is tried without, too: what is blamed is
    needed.
    """
    sets = list(islice(_sets_on_the_floor(problem), MOST_SETS))
    if not sets:
        return WhyNot("walls", "what the map shows as occupied stands between start and goal on all sides")
    own = of_the_robot(problem)
    for count in range(1, MOST_TOGETHER + 1):
        for some in _together(sets, own, count):
            opened = _opened(problem, settings, some)
            if opened is not None:
                return _told(_needed(problem, settings, opened))
    return WhyNot(
        "body",
        f"{problem.robot.name} touches something on every way tried",
        "no smaller body, other heading or tighter turn that was tried helps",
    )


def _sets_on_the_floor(problem: Problem) -> Iterator[tuple[Remedy, ...]]:
    """Yield what must be taken away for the origin to come to the goal; one of them is a smaller body for all gaps."""
    costmap, side = problem.costmap, problem.costmap.grid.cell_size
    reach = problem.robot.body.inner_radius + side / 2.0
    walls = clearance(costmap.grid.occupied, side, closed_beyond=costmap.closed_beyond)
    closing, remedies = [walls < reach], [smaller_body()]
    for suspect in suspects(costmap):
        near = suspect.cells if suspect.cause == "one-way zone" else clearance(suspect.cells, side) < reach
        closing.append(near)
        remedies.append(taking_away(suspect))
    crack = walls < max(CRACK * problem.robot.body.inner_radius, side)
    for numbers in smallest_sets(crack, closing, *problem.ends):
        yield tuple(remedies[number] for number in sorted(numbers, reverse=True))


def _together(sets: Sequence[tuple[Remedy, ...]], own: Sequence[Remedy], count: int) -> Iterator[tuple[Remedy, ...]]:
    """Yield what is tried of so many things: sets on the floor, filled up with changes of the robot's own."""
    for chosen in sets:
        for more in combinations(own, count - len(chosen)) if len(chosen) <= count else ():
            causes = [remedy.cause for remedy in (*chosen, *more)]
            if causes.count("body") <= 1:
                yield (*chosen, *more)


def _opened(problem: Problem, settings: PlanSettings, remedies: tuple[Remedy, ...]) -> Opened | None:
    """Return the way that remedies open together, or None: each one's changes are tried with all of the others'."""

    def follow(steps: tuple[Problem, ...]) -> Opened | None:
        if len(steps) > len(remedies):
            way = try_again(steps[-1], settings).poses
            return Opened(remedies, steps, way) if len(way) else None
        changes = remedies[len(steps) - 1].changed(steps[-1])
        return next((found for change in changes if (found := follow((*steps, change)))), None)

    return follow((problem,))


def _needed(problem: Problem, settings: PlanSettings, opened: Opened) -> Opened:
    """Return the way with as few of the remedies as will do."""
    for remedy in opened.remedies if len(opened.remedies) > 1 else ():
        rest = tuple(other for other in opened.remedies if other is not remedy)
        fewer = _opened(problem, settings, rest)
        if fewer is not None:
            return _needed(problem, settings, fewer)
    return opened


def _told(opened: Opened) -> WhyNot:
    steps = zip(opened.remedies, opened.steps, opened.steps[1:], strict=False)
    return together([remedy.told(before, after, opened.way) for remedy, before, after in steps])
