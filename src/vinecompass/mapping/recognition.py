"""Recognition: where on all that was mapped before submaps lie that nothing but a drive unseen by scans leads to."""

from __future__ import annotations

from collections.abc import Generator, Sequence

import numpy as np
from numpy.typing import NDArray

from vinecompass.geometry import compose, relative, transform_points, wrap_angle
from vinecompass.mapping.contradiction import CONTRADICTED, seen_through
from vinecompass.mapping.pose_graph import PoseGraph
from vinecompass.mapping.submap import Submap, spread_evenly
from vinecompass.mapping.wide_search import NEARER_THAN, SEARCH_CELL, SEARCH_TURN, wide_search
from vinecompass.matching import Candidate, PoseSearch

__all__ = ["Recognition"]

FloatArray = NDArray[np.float64]
HEADINGS_AT_ONCE = 8
"""So many of them are searched in one step, so that a robot's loop need not wait for all."""
SUBMAPS, POINTS = 3, 300
"""How many submaps are looked for together, as they lie beside each other, and points of them at most."""
LEAST_POINTS = 150
"""How few points, spread evenly, prove nothing."""
LEAST_AGREEMENT, RIVAL = 0.7, 0.85
"""Agreement below which a place is not recognised, and share of it at which another place makes that doubtful."""
WAY_AT_MOST, CARRIED = 1.3, 1.0
"""Times the way that the odometry tells, and metres besides, that the robot may have come unseen."""
ONE_PLACE, ONE_PLACE_TURN = 0.5, 0.2
"""Metres and radians within which two places are one."""


class Recognition:
    """Looks for several submaps together on the whole of what was mapped before them.

    Notes
    -----
    Each submap alone fits in many places. Loops are to be believed only where several agree with each other pair by
    pair (Mangelson, Dominic, Eustice and Vasudevan, 2018, "Pairwise consistent measurement set maximization for robust
    multi-robot map merging"): as submaps in a row are rigid beside each other, it is they together that must fit, in
    one place and no other.
    """

    def __init__(self) -> None:
        self._first = 0
        """The first submap of those whose place is sought."""
        self._search: PoseSearch | None = None

    def look(
        self, submaps: Sequence[Submap], number: int, first: int, graph: PoseGraph
    ) -> Generator[None, None, FloatArray | None]:
        """Look for a submap, and those before it, on what was mapped before the submap `first`.

        Yields while there is more to look at. Returns the pose ``(3,)`` of the submap in the map's frame, or None if
        it is not to be told.
        """
        earliest = max(number - SUBMAPS + 1, first)
        together = range(earliest, number + 1)
        points = np.concatenate(
            [
                transform_points(
                    relative(graph.poses[k], graph.poses[number]), submaps[k].points(of=k, nearer_than=NEARER_THAN)
                )
                for k in together
            ]
        )
        few = spread_evenly(points, 0.25, POINTS)
        search = self._search_of(submaps, first, graph)
        if len(together) < SUBMAPS or len(few) < LEAST_POINTS or search is None:
            return None
        everywhere = np.ones(search.shape, bool)
        found: list[Candidate] = []
        for begin in range(0, 360, HEADINGS_AT_ONCE):
            headings = SEARCH_TURN * np.arange(begin, begin + HEADINGS_AT_ONCE)
            found += search.find_all(few, headings=headings, floor=everywhere, least=LEAST_AGREEMENT, share=RIVAL)
            yield None
        start = graph.poses[first - 1]
        reach = CARRIED + WAY_AT_MOST * (submaps[first].begins_at - submaps[first - 1].begins_at)
        to_first = relative(graph.poses[first], graph.poses[number])
        found = [one for one in found if np.hypot(*(compose(one.pose, to_first) - start)[:2]) < reach]
        best = max(found, key=lambda candidate: candidate.agreement, default=None)
        if best is None or any(_is_rival(other, best) for other in found):
            return None
        contradicted = seen_through(submaps, graph.poses, range(first), points, best.pose) > CONTRADICTED
        return None if contradicted else best.pose

    def _search_of(self, submaps: Sequence[Submap], first: int, graph: PoseGraph) -> PoseSearch | None:
        """Return what was mapped before a submap made ready to be searched, or None if that is nothing."""
        if first != self._first:
            self._first, self._search = first, None
            points = np.concatenate([transform_points(graph.poses[k], submaps[k].points(of=k)) for k in range(first)])
            if len(points):
                self._search = wide_search(spread_evenly(points, SEARCH_CELL / 2.0, len(points)))
        return self._search


def _is_rival(other: Candidate, best: Candidate) -> bool:
    """Tell whether a place is another than the best one, and fits nearly as well."""
    away = other.pose - best.pose
    apart = np.hypot(away[0], away[1]) > ONE_PLACE or abs(wrap_angle(away[2])) > ONE_PLACE_TURN
    return bool(apart and other.agreement > RIVAL * best.agreement)
