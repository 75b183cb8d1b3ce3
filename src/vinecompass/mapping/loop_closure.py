"""Loop closure: finding out that a submap shows a place that was mapped before."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Generator, Iterator, Sequence
from dataclasses import dataclass
from typing import Generic, TypeVar

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import KDTree

from vinecompass.geometry import compose, relative, transform_oriented, transform_points, wrap_angle
from vinecompass.mapping.contradiction import CONTRADICTED, seen_through
from vinecompass.mapping.place_along import place_along
from vinecompass.mapping.pose_graph import AGREES, PoseGraph
from vinecompass.mapping.recognition import Recognition
from vinecompass.mapping.submap import Submap, spread_evenly
from vinecompass.mapping.wide_search import NEARER_THAN, SEARCH_CELL, SEARCH_TURN, wide_search
from vinecompass.matching import Candidate, Match, PoseSearch, SearchWindow, WallGrid, match_scan
from vinecompass.settings import MappingSettings

__all__ = ["WITNESSES", "Loop", "LoopCloser", "goes_on_from_known_floor"]

FloatArray = NDArray[np.float64]
Kept = TypeVar("Kept")
NEAREST_TRIED = 6
"""So many submaps are looked at, those nearest by."""
ENOUGH = 3
"""Former submaps that are found to show all of the pose: more would hardly tell more, and the graph grow dense. Of one
that goes on from a submap on known floor, one is enough that has it where the map has it."""
WITNESSES = 2
"""So many must have a submap where the map has it for its floor to be known: one loop may be wrong. Where it goes on
from a submap on known floor, that is one of them."""
OVERLAP = 6.0
"""Metres between the middles of submaps that may overlap: farther apart, one sees the other side of thin walls."""
SAME_PLACE = 3.0
"""Metres between the middles of submaps within which they show small things from near by."""
LEAST_SHARED, BEHIND, ON_WALL = 0.4, 0.3, 0.06
"""Share of a submap's points that a former one must have been able to see; metres behind what it saw up to which that
is so, besides how far off the one may be; and where it is asked of points on walls, how far."""
SEARCH_POINTS, ALIGN_POINTS = 150, 600
LEAST_MATCHED, MOST_SCATTER = 0.7, 0.05
"""Share of points that must lie by a wall once aligned, and metres off it (RMS) beyond which they do not fit."""
PLAIN = 0.5
"""How little may be seen of the position along a plain aisle, 0 to 1."""
RIVAL = 0.92
"""Share of the best agreement at which another pose makes a place ambiguous."""
ONE_LINE = 0.94
"""Cosine of the angle up to which the line of places that fit alike is that along which walls show nothing."""
FOUND_ALONG, OPEN_ALONG = 0.05, 3.0
"""Metres (standard deviation) to which small things on walls show the position along them, and which are left open
where there are none."""
UNWATCHED, LOST = 4.0, 20.0
"""Metres of way that one counts for in that on which scans did not show where the robot went, and where it cannot lie
where the odometry has it."""
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
    open_along : float or None
        Heading of the direction in the former submap's frame in which nothing there shows where it lies, as along
        plain walls, radians: there it says nothing. None if it says all.
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
    open_along: float | None


@dataclass(frozen=True)
class _Found:
    """Where points fit a submap best, where else nearly as well, and the direction ``(2,)`` of the line through the
    best on which all such places lie, if they do."""

    best: Candidate
    rival: Candidate | None
    line: FloatArray | None


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
        self._trees: _Recent[KDTree] = _Recent(WALLS_KEPT)
        self._recognition = Recognition()
        self._led_astray: set[int] = set()
        """The first submaps after drives that no scan shows over which the odometry was found to be wrong."""

    def search(self, submaps: Sequence[Submap], number: int, graph: PoseGraph, t: float) -> Iterator[Loop | None]:
        """Yield the loops that a submap closes, and those refused, the nearest former submap first.

        None stands for a piece of the work that found none: each step takes a few milliseconds, so that a robot's loop
        may take one at a time. Where nothing but a drive that no scan shows leads to the submap, it is looked for on
        the whole map; once several are recognised, `graph` has them and all after them there.
        """
        points = submaps[number].oriented_points(of=number, nearer_than=NEARER_THAN)
        if len(points) < ALIGN_POINTS // 2:
            return
        first = next(k for k, one in enumerate(submaps) if one.unwatched == submaps[number].unwatched)
        lost = first > 0 and self._is_lost(submaps, number, points, graph, first)
        for loop in self._nearby(submaps, number, points, graph, t, lost=lost):
            lost = lost and (loop is None or bool(loop.refused) or loop.former >= first)
            yield loop
        pose = (yield from self._recognition.look(submaps, number, first, graph)) if lost else None
        if pose is not None:
            graph.place(first, compose(pose, relative(graph.poses[first], graph.poses[number])))
            yield from self._nearby(submaps, number, points, graph, t, lost=False)

    def _is_lost(
        self, submaps: Sequence[Submap], number: int, points: FloatArray, graph: PoseGraph, first: int
    ) -> bool:
        """Tell whether nothing but an unseen drive leads to a submap, and the odometry was wrong over it.

        So it is if the submap, or one since that drive, cannot lie where the odometry has it.
        """
        lengths = _lengths(submaps, UNWATCHED)
        if graph.ways(number, lengths, LOOP_LENGTH)[:first].min() < lengths[first - 1]:
            return False
        if seen_through(submaps, graph.poses, range(first), points, graph.poses[number]) > CONTRADICTED:
            self._led_astray.add(first)
        return first in self._led_astray

    def _nearby(
        self,
        submaps: Sequence[Submap],
        number: int,
        points: FloatArray,
        graph: PoseGraph,
        t: float,
        *,
        lost: bool,
    ) -> Iterator[Loop | None]:
        """Yield the loops that a submap closes with those that may show the same place as far as the map may be off.

        Where the submap is `lost` that is farther, and it must not lie where others saw through what it shows.
        """
        settings, submap = self._settings, submaps[number]
        ways = graph.ways(number, _lengths(submaps, LOST if lost else UNWATCHED), LOOP_LENGTH)
        sure, as_mapped, goes_on = 0, False, goes_on_from_known_floor(submaps, number, graph)
        for former, reach in self._near(submaps, number, graph, ways):
            if sure == ENOUGH or (goes_on and as_mapped):
                return
            guess = relative(graph.poses[number], graph.poses[former])
            turn = min(np.pi, LEAST_LOOP_TURN + np.radians(settings.loop_drift_deg) * ways[former])
            # What the former submap could not see, seen from another side, says nothing for the place or against it.
            seen = points[submaps[former].sees(transform_oriented(guess, points), reach + BEHIND)]
            few = spread_evenly(seen[:, :2], 0.25, SEARCH_POINTS)
            many = spread_evenly(seen, settings.cell_size, ALIGN_POINTS)
            enough = len(seen) >= max(LEAST_SHARED * len(points), ALIGN_POINTS // 2)
            yield None
            found = (yield from self._find(submaps[former], former, few, guess, reach, turn)) if enough else None
            if found is None:
                continue
            match, covariance, line, refused = yield from self._judged(
                submaps[former], former, many, submap.middle, guess, found, reach
            )
            if not refused and lost:
                pose = compose(graph.poses[former], match.pose)
                refused = _contradiction(seen_through(submaps, graph.poses, range(former + 1), points, pose))
            off = match.pose - guess
            off[2] = wrap_angle(off[2])
            if line is not None:
                off[:2] -= np.outer(line, line) @ off[:2]
            sure += not refused and line is None
            as_mapped = not refused and line is None and float(off @ np.linalg.solve(covariance, off)) < AGREES
            yield Loop(
                t=t,
                submap=number,
                former=former,
                pose=match.pose,
                covariance=covariance,
                agreement=match.agreement,
                drift=float(np.hypot(off[0], off[1])),
                drift_turn=float(abs(off[2])),
                refused=refused,
                open_along=None if line is None else float(np.arctan2(line[1], line[0])),
            )

    def _near(
        self, submaps: Sequence[Submap], number: int, graph: PoseGraph, ways: FloatArray
    ) -> list[tuple[int, float]]:
        """Return the former submaps that may show the same place, and how far off each may be, nearest first.

        Those that ride on others show nothing that these do not.
        """
        poses = graph.poses
        middles = np.array([submap.middle for submap in submaps[: number + 1]])
        cosine, sine = np.cos(poses[: number + 1, 2]), np.sin(poses[: number + 1, 2])
        x = poses[: number + 1, 0] + cosine * middles[:, 0] - sine * middles[:, 1]
        y = poses[: number + 1, 1] + sine * middles[:, 0] + cosine * middles[:, 1]
        away = np.hypot(x - x[-1], y - y[-1])
        reaches = LEAST_REACH + self._settings.loop_drift * ways[: number + 1]
        # The submap before overlaps by the way they are made, unless scans were missing between them.
        former = (np.arange(number + 1) < number - (not _made_apart(submaps, number))) & ~graph.rides[: number + 1]
        near = np.flatnonzero((away < OVERLAP + reaches) & former)
        nearest = near[np.argsort(away[near], kind="stable")][:NEAREST_TRIED]
        return [(int(former), float(reaches[former])) for former in nearest]

    def _find(
        self, submap: Submap, number: int, points: FloatArray, guess: FloatArray, reach: float, turn: float
    ) -> Generator[None, None, _Found | None]:
        """Return where points fit a submap best, and where else they fit nearly as well; None if nowhere.

        Yields between its pieces of work, as all here that take more than one.
        """
        search = self._searches.get(number, lambda: wide_search(submap.points()))
        steps = int(np.ceil(turn / SEARCH_TURN))
        headings = guess[2] + np.arange(-steps, steps + 1) * SEARCH_TURN
        low, high = guess[:2] - reach, guess[:2] + reach
        best = search.find(points, headings=headings, low=low, high=high, least=self._settings.loop_agreement)
        if best is None:
            return None
        yield None
        bar = RIVAL * best.agreement
        rival = search.find(points, headings=headings, low=low, high=high, least=bar, unlike=best)
        if rival is None:
            return _Found(best, None, None)
        yield None
        dx, dy = rival.pose[:2] - best.pose[:2]
        third = search.find(
            points, headings=headings, low=low, high=high, least=bar, unlike=best, line=float(np.arctan2(dy, dx))
        )
        return _Found(best, rival, np.array([dx, dy]) / np.hypot(dx, dy) if third is None else None)

    def _judged(
        self,
        submap: Submap,
        number: int,
        points: FloatArray,
        middle: FloatArray,
        guess: FloatArray,
        found: _Found,
        reach: float,
    ) -> Generator[None, None, tuple[Match, FloatArray, FloatArray | None, str]]:
        """Return where points lie in a submap, the covariance of that, the direction ``(2,)`` in which they do not show
        it, if there is one, and an objection.

        Along walls that are hardly more than plain, a finer look decides; along those that are, the points lie where
        the guess has them: only beside that line, and in heading, it is measured.
        """
        match = self._align(submap, number, points, found.best.pose)
        line: FloatArray = np.linalg.eigh(match.information[:2, :2])[1][:, 0]
        on_line = found.line is not None and abs(line @ found.line) > ONE_LINE
        if not on_line and found.rival is not None:
            return match, match.covariance + FLOOR, None, _ambiguity(found.best, found.rival)
        if not on_line and np.trace(match.unseen) <= PLAIN:
            return match, match.covariance + FLOOR, None, _objection(match)
        yield None
        pose = match.pose.copy()
        pose[:2] += line * (line @ (guess[:2] - pose[:2]))
        match = self._align(submap, number, points, pose)
        ahead = None
        if np.hypot(*(transform_points(match.pose, middle[None])[0] - submap.middle)) < SAME_PLACE:
            tree = self._trees.get(number, lambda: KDTree(submap.points()))
            placed = transform_points(match.pose, points[:, :2])
            yield None
            sure = [submap.sees(placed + way * line, ON_WALL) for way in (-reach, 0.0, reach)]
            ahead = place_along(tree, placed[np.all(sure, axis=0)], line, reach)
        if ahead is not None:
            yield None
            pose = match.pose.copy()
            pose[:2] += ahead * line
            match = self._align(submap, number, points, pose)
        covariance = match.covariance + FLOOR
        covariance[:2, :2] += (OPEN_ALONG if ahead is None else FOUND_ALONG) ** 2 * np.outer(line, line)
        return match, covariance, line if ahead is None else None, _objection(match)

    def _align(self, submap: Submap, number: int, points: FloatArray, pose: FloatArray) -> Match:
        """Return a pose of points found in a submap, aligned to its walls."""
        settings = self._settings
        walls = self._walls.get(
            number,
            lambda: WallGrid.of_points(
                submap.oriented_points(), cell_size=settings.cell_size, spread=settings.field_spread
            ),
        )
        window = SearchWindow(SEARCH_CELL, SEARCH_TURN, SEARCH_TURN / 2.0)
        return match_scan(
            points, np.zeros(len(points)), walls, pose, window=window, prior_points=1e-3, doubt_sweep=False
        )


def goes_on_from_known_floor(submaps: Sequence[Submap], number: int, graph: PoseGraph) -> bool:
    """Tell whether a submap overlaps one before it that rides on a former one, with no gap in the scans between."""
    return bool(number > 0 and graph.rides[number - 1] and not _made_apart(submaps, number))


def _made_apart(submaps: Sequence[Submap], number: int) -> bool:
    """Tell whether scans were missing between a submap and the one before it."""
    return submaps[number].unwatched > submaps[number - 1].unwatched


def _lengths(submaps: Sequence[Submap], unwatched: float) -> FloatArray:
    """Return the way from each submap to the next ``(N - 1,)``, m; a metre that no scan shows counts as more."""
    return np.diff([one.begins_at + unwatched * one.unwatched for one in submaps])


def _ambiguity(best: Candidate, rival: Candidate) -> str:
    """Return why two places that fit nearly as well prove nothing."""
    away = np.hypot(*(rival.pose[:2] - best.pose[:2]))
    turned = abs(np.degrees(wrap_angle(rival.pose[2] - best.pose[2])))
    return f"ambiguous: fits as well {away:.1f} m and {turned:.0f} degrees off"


def _contradiction(share: float) -> str:
    """Return why a submap cannot lie at a pose, or nothing if it can."""
    return f"contradicted: {100.0 * share:.0f} % of the points were seen through" if share > CONTRADICTED else ""


def _objection(match: Match) -> str:
    """Return why a match is no proof that the place is the same, or nothing if it is one."""
    if match.matched_share < LEAST_MATCHED:
        return f"poor: only {100.0 * match.matched_share:.0f} % of the points lie by a wall"
    if match.scatter > MOST_SCATTER:
        return f"thick: walls {100.0 * match.scatter:.0f} cm apart"
    return ""
