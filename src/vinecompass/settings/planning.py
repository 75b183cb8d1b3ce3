"""What can be tuned about global plans."""

from __future__ import annotations

from pydantic import Field

from vinecompass.files import Fraction, Model, NotNegative, Number, Positive, Whole

__all__ = ["PlanSettings"]


class PlanSettings(Model):
    """The ``[planning]`` table of the settings."""

    spacing: Positive = Field(0.1, description="distance between the poses of a plan, m")
    smoothing_rounds: Whole = Field(40, description="a whole number")
    body_retries: Whole = Field(40, description="how often to plan again around a place the body touches")
    edge_spacing: Positive = Field(0.1, description="distance between the poses at which an edge is checked, m")
    longest_edge: Positive = Field(
        2.0, description="longest edge of a tree or roadmap, m; for curves besides a full turn"
    )
    goal_share: Fraction = Field(0.05, description="share of a tree's samples that are the goal")
    iterations: Whole = Field(30_000, description="most samples that a tree draws")
    time_limit: Positive = Field(60.0, description="time after which a tree stops growing, s")
    roadmap_nodes: Whole = Field(3000, description="nodes of a roadmap")
    roadmap_neighbours: Whole = Field(40, description="neighbours that each of them is joined to, at most")
    lattice_cell: Positive = Field(0.1, description="side of a lattice's cells, m")
    lattice_headings: Whole = Field(32, description="headings told apart by a lattice")
    lattice_haste: Number = Field(1.0, ge=1.0, description="how many times the cheapest a lattice's way may cost")
    reverse_price: Positive = Field(1.5, description="what a metre in reverse costs a lattice, m")
    change_price: NotNegative = Field(0.5, description="what a change between forward and reverse costs a lattice, m")
