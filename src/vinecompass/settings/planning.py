"""What can be tuned about global plans."""

from __future__ import annotations

from pydantic import Field

from vinecompass.files import AtLeastOne, Fraction, Model, NotNegative, Positive, Whole
from vinecompass.settings.tuned import by_factor, evenly, tuned

__all__ = ["PlanSettings"]


class PlanSettings(Model):
    """The ``[planning]`` table of the settings."""

    method: str = Field("usual", description='"usual", or a method as of plan --method')
    spacing: Positive = tuned(
        0.1, by_factor(0.05, 0.3), "distance between the poses of a plan, m", "fewer poses, against exact curves"
    )
    smoothing_rounds: Whole = tuned(
        40, by_factor(5, 200), "rounds of smoothing, a whole number", "smooth plans, against computing time"
    )
    body_retries: Whole = tuned(
        40,
        by_factor(5, 200),
        "how often to plan again around a place the body touches",
        "plans for long bodies, against computing time",
    )
    edge_spacing: Positive = tuned(
        0.1,
        by_factor(0.03, 0.3),
        "distance between the poses at which an edge is checked, m",
        "computing time, against touching between the poses",
    )
    longest_edge: Positive = tuned(
        2.0,
        by_factor(0.5, 8.0),
        "longest edge of a tree or roadmap, m; for curves besides a full turn",
        "few edges, against narrow places",
    )
    goal_share: Fraction = tuned(
        0.05,
        by_factor(0.01, 0.3),
        "share of a tree's samples that are the goal",
        "straight growth, against ways about obstacles",
    )
    iterations: Whole = tuned(
        30_000, by_factor(1000, 200000), "most samples that a tree draws", "better plans, against computing time"
    )
    time_limit: Positive = tuned(
        60.0, by_factor(1.0, 300.0), "time after which a tree stops growing, s", "better plans, against computing time"
    )
    roadmap_nodes: Whole = tuned(
        3000, by_factor(300, 20000), "nodes of a roadmap", "narrow places, against computing time"
    )
    roadmap_neighbours: Whole = tuned(
        40,
        by_factor(5, 100),
        "neighbours that each of them is joined to, at most",
        "better plans, against computing time",
    )
    lattice_cell: Positive = tuned(
        0.1, by_factor(0.05, 0.2), "side of a lattice's cells, m", "computing time, against narrow places"
    )
    lattice_headings: Whole = tuned(
        32, by_factor(8, 64), "headings told apart by a lattice", "finer curves, against computing time"
    )
    lattice_haste: AtLeastOne = tuned(
        1.0,
        evenly(1.0, 3.0),
        "how many times the cheapest a lattice's way may cost",
        "computing time, against the cheapest way",
    )
    reverse_price: Positive = tuned(
        1.5, by_factor(1.0, 5.0), "what a metre in reverse costs a lattice, m", "going ahead, against way"
    )
    change_price: NotNegative = tuned(
        0.5,
        by_factor(0.05, 5.0),
        "what a change between forward and reverse costs a lattice, m",
        "few changes of direction, against way",
    )
