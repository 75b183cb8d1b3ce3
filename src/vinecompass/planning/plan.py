"""A plan: from a start pose to a goal pose, or the reason why not."""

from __future__ import annotations

from dataclasses import dataclass, field
from itertools import pairwise
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from vinecompass.comparing import ByValue
from vinecompass.geometry import distance_along, resample_polyline, wrap_angle
from vinecompass.planning.why.reason import WhyNot

__all__ = ["Plan", "Status", "directions_of"]

FloatArray = NDArray[np.float64]
Status = Literal["found", "start closed", "goal closed", "no way", "gave up"]


@dataclass(frozen=True, eq=False, repr=False)
class Plan(ByValue):
    """A plan, or the reason why there is none.

    Parameters
    ----------
    status : {"found", "start closed", "goal closed", "no way", "gave up"}
        "gave up": there may be a way, but this planner did not find one in the time or the samples it had.
    reason : str
        One sentence that says where and why, if it is not found; if it is, what should be known of it: that it leads on
        arcs, or that there is no room to turn on the spot at one of its ends. Else empty.
    poses : array, (N, 3)
        From start to goal in the site frame. On a way of straight lines each heading points along it, but the first
        is the start's and the last the goal's.
    cost : float
        Metres-equivalent.
    length : float
        Metres.
    least_clearance : float
        From the body's outline to the nearest forbidden cell, anywhere along the plan, m; 1.5 counts as the most.
        `nan` if nothing was to be explained.
    reversals : int
        How often it changes between forward and reverse.
    expanded : int
        Cells or nodes whose neighbours the planner looked at.
    iterations : int
        Samples drawn, or searches made.
    duration : float
        Seconds of planning.
    method : str
    explored : array, (M, 2)
        Where it looked, in the site frame, thinned out for drawing.
    tree : array, (K, 2, 2)
        Edges of its tree or roadmap, in the site frame.
    why_not : WhyNot or None
        What closes the way, where, and what would open it.
    """

    status: Status
    reason: str
    poses: FloatArray
    cost: float
    length: float
    least_clearance: float
    reversals: int
    expanded: int
    iterations: int
    duration: float
    method: str
    explored: FloatArray = field(default_factory=lambda: np.zeros((0, 2)))
    tree: FloatArray = field(default_factory=lambda: np.zeros((0, 2, 2)))
    why_not: WhyNot | None = None

    def __repr__(self) -> str:
        """Return it in one line."""
        if not self.found:
            return f"<Plan by {self.method}: {self.status}; {self.reason}>"
        return f"<Plan by {self.method}: {self.length:.2f} m, costing {self.cost:.2f} m, {len(self.poses)} poses>"

    @property
    def found(self) -> bool:
        """Whether there is a path."""
        return self.status == "found"

    @property
    def backed_to(self) -> FloatArray:
        """The poses ``(M, 3)`` that it comes to in reverse."""
        return self.poses[1:][directions_of(self.poses) < 0]

    def resampled(self, spacing: float) -> FloatArray:
        """Return poses ``(M, 3)`` evenly spaced along the plan, at most `spacing` metres apart, both ends kept.

        At a change between forward and reverse the spacing begins anew, so that the cusp stays.
        """
        cusps = np.flatnonzero(np.diff(directions_of(self.poses)) != 0) + 1
        ends = [0, *cusps.tolist(), len(self.poses) - 1]
        legs = []
        for a, b in pairwise(ends):
            leg = self.poses[a : b + 1]
            even = resample_polyline(leg, spacing)
            along, wanted = distance_along(leg), distance_along(even)
            headings = np.interp(wanted * (along[-1] / max(wanted[-1], 1e-12)), along, np.unwrap(leg[:, 2]))
            legs.append(np.column_stack([even, wrap_angle(headings)]))
        return np.vstack([legs[0], *(leg[1:] for leg in legs[1:])])


def directions_of(poses: FloatArray) -> NDArray[np.int64]:
    """Return for each step between poses 1 forward, -1 in reverse, 0 on the spot."""
    steps, headings = np.diff(poses[:, :2], axis=0), poses[:, 2]
    # By the mean of the headings at both ends; a first or last pose may be turned on the spot.
    middle = np.arctan2(np.sin(headings[1:]) + np.sin(headings[:-1]), np.cos(headings[1:]) + np.cos(headings[:-1]))
    ahead = steps[:, 0] * np.cos(middle) + steps[:, 1] * np.sin(middle)
    return np.where(np.hypot(*steps.T) < 1e-9, 0, np.where(ahead >= 0.0, 1, -1))
