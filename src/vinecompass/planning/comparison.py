"""Planners side by side on one problem."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np

from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.planning.methods import METHODS, OF_LINES, Planner, name_of
from vinecompass.planning.plan import Plan
from vinecompass.planning.plan_path import solve
from vinecompass.planning.problem import Problem
from vinecompass.settings import PlanSettings

__all__ = ["Entry", "PlannerComparison", "Row", "compare_planners", "entries_of"]


@dataclass(frozen=True)
class Entry:
    """What takes part in a comparison: a method or your own planner, its settings and seed, and what it is called."""

    method: str | Planner
    settings: PlanSettings = field(default_factory=PlanSettings)
    seed: int = 0
    name: str = ""

    @property
    def label(self) -> str:
        """Its name, or else the method's."""
        return self.name or name_of(self.method)


@dataclass(frozen=True)
class Row:
    """How one entry did, over all repeats.

    Parameters
    ----------
    entry : Entry
    plans : tuple of Plan
        With the entry's seed, the next, and so on.

    Medians are over the plans found, `nan` if there is none; `time_spread` is the interquartile range.
    """

    entry: Entry
    plans: tuple[Plan, ...]

    @property
    def success(self) -> float:
        """The share of repeats that found a plan."""
        return float(np.mean([plan.found for plan in self.plans]))

    @property
    def time(self) -> float:
        """The median time, found or not, s."""
        return float(np.median([plan.duration for plan in self.plans]))

    @property
    def time_spread(self) -> float:
        """The interquartile range of the time, s."""
        return float(np.subtract(*np.quantile([plan.duration for plan in self.plans], [0.75, 0.25])))

    def median(self, figure: str) -> float:
        """Return the median of a figure of the plans found: cost, length, least_clearance, expanded or reversals."""
        values = [float(getattr(plan, figure)) for plan in self.plans if plan.found]
        return float(np.median(values)) if values else float("nan")

    @property
    def best(self) -> Plan:
        """The plan of median cost; the first if none was found."""
        found = sorted((plan for plan in self.plans if plan.found), key=lambda plan: plan.cost)
        return found[(len(found) - 1) // 2] if found else self.plans[0]


@dataclass(frozen=True)
class PlannerComparison:
    """Rows in the order asked for."""

    problem: Problem
    rows: tuple[Row, ...]

    @property
    def cheapest(self) -> Row | None:
        """The row with the lowest median cost, of those with the highest success; None if nothing was found."""
        found = [row for row in self.rows if row.success > 0.0]
        return min(found, key=lambda row: (-row.success, row.median("cost"))) if found else None


@checked
def compare_planners(
    problem: Problem,
    entries: Sequence[Entry | str | Planner] | None = None,
    *,
    repeat: int = 1,
    settings: PlanSettings | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> PlannerComparison:
    """Plan the same problem with several planners, or one planner with several settings.

    Parameters
    ----------
    problem : Problem
    entries : sequence of Entry, str or callable, optional
        What to compare: methods by name, planners of your own, or entries. If not given, every method that can use the
        problem's motion.
    repeat : int
        How often each plans: those that draw samples with another seed each time.
    settings : PlanSettings, optional
        Of entries given by name only.
    progress : callable, optional

    Raises
    ------
    InputError
        `repeat` is below 1, or an entry names no method.
    """
    if repeat < 1:
        raise InputError("is too few", key="repeat", value=repeat, expected="1 or more")
    s = settings or PlanSettings()
    chosen = [entry if isinstance(entry, Entry) else Entry(entry, s) for entry in entries or _all_methods(problem)]
    # What compiles on first use, or is read from disk then, is not the planner's time.
    for method in dict.fromkeys(entry.method for entry in chosen):
        solve(problem, method, settings=s.model_copy(update={"iterations": 50, "roadmap_nodes": 50}))
    rows: list[Row] = []
    for i, entry in enumerate(chosen):
        plans = []
        for k in range(repeat):
            if progress is not None:
                progress((i + k / repeat) / len(chosen), entry.label)
            plans.append(solve(problem, entry.method, settings=entry.settings, seed=entry.seed + k))
        rows.append(Row(entry, tuple(plans)))
    return PlannerComparison(problem, tuple(rows))


def entries_of(
    problem: Problem, names: str, settings: PlanSettings, longest_edges: Sequence[float] = (), seeds: Sequence[int] = ()
) -> list[Entry]:
    """Return what to compare: methods named with commas between them, or "all"; each edge and seed makes one more row.

    Only methods that grow trees or roadmaps have a longest edge and a seed.

    Raises
    ------
    InputError
        A name is no method's, or an edge is not above 0.
    """
    methods = _all_methods(problem) if names == "all" else names.split(",")
    for method in methods:
        if method not in METHODS:
            raise InputError("is no planner", key="compare", value=method, expected=f"all, or of {', '.join(METHODS)}")
    for edge in longest_edges:
        if not edge > 0.0:
            raise InputError("is no length", key="longest edge", value=edge, expected="metres above 0")
    entries = []
    for method in methods:
        if method in OF_LINES or method == "lattice":
            entries.append(Entry(method, settings))
            continue
        for edge in longest_edges or (settings.longest_edge,):
            for seed in seeds or (0,):
                told = (
                    [method] + ([f"edges to {edge:g} m"] if longest_edges else []) + ([f"seed {seed}"] if seeds else [])
                )
                own = settings.model_copy(update={"longest_edge": edge})
                entries.append(Entry(method, own, seed, ", ".join(told)))
    return entries


def _all_methods(problem: Problem) -> list[str]:
    return [method for method in METHODS if problem.turns_on_the_spot or method not in OF_LINES]
