"""Loop closure: finding out that a submap shows a place that was mapped before."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Generic, TypeVar

import numpy as np
from numpy.typing import NDArray

from vinecompass.geometry import relative, wrap_angle
from vinecompass.mapping.pose_graph import PoseGraph
from vinecompass.mapping.submap import Submap, spread_evenly
from vinecompass.matching import Candidate, Match, PoseSearch, SearchWindow, WallGrid, match_scan
from vinecompass.settings import MappingSettings

__all__ = ["Loop", "LoopCloser"]

FloatArray = NDArray[np.float64]
Kept = TypeVar("Kept")
NEAREST_TRIED = 6
"""So many submaps are looked at, those nearest by."""
NEARER_THAN, OVERLAP = 8.0, 6.0
"""Metres from the body within which points are compared, and between the middles of submaps that may overlap."""
SEARCH_CELL, SEARCH_SPREAD, SEARCH_TURN = 0.1, 0.12, np.radians(1.0)
"""Metres, metres and radians of the wide search; what it finds is then aligned."""
SEARCH_POINTS, ALIGN_POINTS = 150, 600
LEAST_MATCHED, MOST_SCATTER = 0.7, 0.05
"""Share of points that must lie by a wall once aligned, and metres off it (RMS) beyond which they do not fit."""
PLAIN = 0.5
"""How little may be seen of the position along a plain aisle, 0 to 1."""
RIVAL = 0.92
"""Share of the best agreement at which another pose makes a place ambiguous."""
LOOP_LENGTH = 1.0
"""Metres of way that a loop counts for in how far the map may have drifted."""
SEARCHES_KEPT, WALLS_KEPT = 24, 8
"""How many former submaps are kept ready to be searched and aligned to: the same few come up again and again."""
LEAST_REACH, LEAST_LOOP_TURN = 0.2, np.radians(1.0)
"""Metres and radians that are searched about the guess however little the map may have drifted."""
FLOOR = np.diag([0.01, 0.01, np.radians(0.1)]) ** 2
"""Covariance that no link is better than: submaps are not as rigid as they are taken to be."""


@dataclass(frozen=True)
class Loop:
    """A place seen again, or taken for one.

    Parameters
    ----------
    t : float
        When it was found, s.
    submap, former : int
        The submap that shows the place, and the one that showed it before.
    pose : array, (3,)
        The one's frame in the other's.
    covariance : array, (3, 3)
    agreement : float
        Of the points with the former submap, 0 to 1.
    drift, drift_turn : float
        What the map was off by there before, m and radians.
    refused : str
        Why it is not believed; empty if it is.
    """

    t: float
    submap: int
    former: int
    pose: FloatArray
    covariance: FloatArray
    agreement: float
    drift: float
    drift_turn: float
    refused: str


class _Recent(Generic[Kept]):
    """Keeps what was used last, so many of them."""

    def __init__(self, most: int) -> None:
        self._most = most
        self._kept: OrderedDict[int, Kept] = OrderedDict()

    def get(self, number: int, make: Callable[[], Kept]) -> Kept:
        """Return what is kept under a number, made now if it is not there."""
        if number not in self._kept:
            self._kept[number] = make()
            if len(self._kept) > self._most:
                self._kept.popitem(last=False)
        self._kept.move_to_end(number)
        return self._kept[number]


class LoopCloser:
    """Compares finished submaps with all those before them.

    Parameters
    ----------
    settings : MappingSettings
    """

    def __init__(self, settings: MappingSettings) -> None:
        self._settings = settings
        self._searches: _Recent[PoseSearch] = _Recent(SEARCHES_KEPT)
        self._walls: _Recent[WallGrid] = _Recent(WALLS_KEPT)

    def search(self, submaps: Sequence[Submap], number: int, graph: PoseGraph, t: float) -> list[Loop]:
        """Return the loops that a submap closes, and those refused, the nearest former submap first."""
        settings, submap = self._settings, submaps[number]
        points = submap.points(of=number, nearer_than=NEARER_THAN)
        if len(points) < ALIGN_POINTS // 2:
            return []
        few = spread_evenly(points, 0.25, SEARCH_POINTS)
        many = spread_evenly(points, settings.cell_size, ALIGN_POINTS)
        lengths = np.diff([one.begins_at for one in submaps])
        ways = graph.ways(number, lengths, LOOP_LENGTH)
        loops = []
        for former, reach in self._near(submaps, number, graph.poses, ways):
            guess = relative(graph.poses[number], graph.poses[former])
            turn = min(np.pi, LEAST_LOOP_TURN + np.radians(settings.loop_drift_deg) * ways[former])
            candidate, rival = self._find(submaps[former], former, few, guess, reach, turn)
            if candidate is None:
                continue
            match = self._align(submaps[former], former, many, candidate)
            off = relative(match.pose, guess)
            loops.append(
                Loop(
                    t=t,
                    submap=number,
                    former=former,
                    pose=match.pose,
                    covariance=match.covariance + FLOOR,
                    agreement=match.agreement,
                    drift=float(np.hypot(off[0], off[1])),
                    drift_turn=float(abs(off[2])),
                    refused=_objection(match, candidate, rival, settings),
                )
            )
        return loops

    def _near(
        self, submaps: Sequence[Submap], number: int, poses: FloatArray, ways: FloatArray
    ) -> list[tuple[int, float]]:
        """Return the former submaps that may show the same place, and how far off each may be, nearest first."""
        middles = np.array([submap.middle for submap in submaps[: number + 1]])
        cosine, sine = np.cos(poses[: number + 1, 2]), np.sin(poses[: number + 1, 2])
        x = poses[: number + 1, 0] + cosine * middles[:, 0] - sine * middles[:, 1]
        y = poses[: number + 1, 1] + sine * middles[:, 0] + cosine * middles[:, 1]
        away = np.hypot(x - x[-1], y - y[-1])
        reaches = LEAST_REACH + self._settings.loop_drift * ways[: number + 1]
        # The submap before overlaps by the way they are made.
        near = np.flatnonzero((away < OVERLAP + reaches) & (np.arange(number + 1) < number - 1))
        nearest = near[np.argsort(away[near], kind="stable")][:NEAREST_TRIED]
        return [(int(former), float(reaches[former])) for former in nearest]

    def _find(
        self, submap: Submap, number: int, points: FloatArray, guess: FloatArray, reach: float, turn: float
    ) -> tuple[Candidate | None, Candidate | None]:
        """Return where points fit a submap best, and where else they fit nearly as well."""
        search = self._searches.get(number, lambda: _search_of(submap))
        steps = int(np.ceil(turn / SEARCH_TURN))
        headings = guess[2] + np.arange(-steps, steps + 1) * SEARCH_TURN
        low, high = guess[:2] - reach, guess[:2] + reach
        best = search.find(points, headings=headings, low=low, high=high, least=self._settings.loop_agreement)
        if best is None:
            return None, None
        rival = search.find(points, headings=headings, low=low, high=high, least=RIVAL * best.agreement, unlike=best)
        return best, rival

    def _align(self, submap: Submap, number: int, points: FloatArray, candidate: Candidate) -> Match:
        """Return the candidate, aligned to the submap's walls."""
        settings = self._settings
        walls = self._walls.get(
            number,
            lambda: WallGrid.of_points(submap.points(), cell_size=settings.cell_size, spread=settings.field_spread),
        )
        window = SearchWindow(SEARCH_CELL, SEARCH_TURN, SEARCH_TURN / 2.0)
        return match_scan(
            points, np.zeros(len(points)), walls, candidate.pose, window=window, prior_points=1e-3, doubt_sweep=False
        )


def _search_of(submap: Submap) -> PoseSearch:
    walls = WallGrid.of_points(submap.points(), cell_size=SEARCH_CELL, spread=SEARCH_SPREAD)
    return PoseSearch(walls.field, SEARCH_CELL, walls.corner)


def _objection(match: Match, candidate: Candidate, rival: Candidate | None, settings: MappingSettings) -> str:
    """Return why a match is no proof that the place is the same, or nothing if it is one."""
    if rival is not None:
        away = np.hypot(*(rival.pose[:2] - candidate.pose[:2]))
        turned = abs(np.degrees(wrap_angle(rival.pose[2] - candidate.pose[2])))
        return f"ambiguous: fits as well {away:.1f} m and {turned:.0f} degrees off"
    if np.trace(match.unseen) > PLAIN:
        return "plain: nothing there shows the position along the walls"
    if match.matched_share < LEAST_MATCHED:
        return f"poor: only {100.0 * match.matched_share:.0f} % of the points lie by a wall"
    if match.scatter > MOST_SCATTER:
        return f"thick: walls {100.0 * match.scatter:.0f} cm apart"
    return ""
