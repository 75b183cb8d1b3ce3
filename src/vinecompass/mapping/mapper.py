"""Mapping in the loop: each scan is matched against the submap being made; places seen again straighten the map."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator
from dataclasses import replace
from math import degrees, hypot, pi

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.door import checked
from vinecompass.geometry import arc, checked_pose, compose, relative, wrap_angle
from vinecompass.grids import Beams, Grid
from vinecompass.mapping.known_floor import adds_nothing, lies_on_known_floor
from vinecompass.mapping.link_fit import MeasuredLinks
from vinecompass.mapping.loop_closure import FLOOR, WITNESSES, Loop, LoopCloser, goes_on_from_known_floor
from vinecompass.mapping.place_filter import PlaceFilter
from vinecompass.mapping.pose_graph import BELIEVED, PoseGraph
from vinecompass.mapping.site_map import SiteMap
from vinecompass.mapping.submap import Keyframe, Submap
from vinecompass.matching import Match, SearchWindow, WallGrid, match_scan
from vinecompass.odometry import SweepMotion, believed_ranges, straightened_beams
from vinecompass.robot import Lidar, Robot
from vinecompass.runs import Scan
from vinecompass.settings import MappingSettings

__all__ = ["Mapper"]

FloatArray = NDArray[np.float64]
FEWEST_HITS = 30
"""Returning beams below which a scan is not matched: the odometry alone carries the pose on."""
LONGEST_UNMATCHED = 1.0
"""Seconds after which a scan is matched even if the robot has hardly moved by its odometry."""
TURN_SEARCH_STEP = np.radians(1.0)

SLIP_DISTANCE, SLIP_TURN = 0.02, 0.012
"""Metres and radians between odometry and match beyond which the wheels are not believed."""
SLIP_PERIOD = 1.0
"""Seconds after such a moment for which they are not, and each scan is matched: slip comes and goes."""
SLIP_PATIENCE = 15.0
"""How many times farther apart keyframes are while the wheels slip: a bent scan spoils more than it adds."""
WELL_KNOWN = 0.75
"""Agreement below which a place is so new that even a bent scan adds to it."""
LEAP, LEAP_SPEED = 0.2, 2.0
"""Metres and times the robot's top speed beyond which a step of the odometry is a leap."""
GAP_WAY, GAP_TURN = 0.3, np.radians(10.0)
"""Metres or radians of motion without a scan after which it is not matched with what was seen before."""
UNWATCHED_SPREAD = 0.2
"""Share of its way, or radians a metre, by which the odometry may err where no scan watches it."""
ODOMETRY_SPREAD = np.diag([0.05, 0.05, np.radians(1.0)]) ** 2
"""Covariance of what the odometry alone says from submap to submap."""
LED_ASTRAY = 0.01
"""What a good odometry may be off by for each metre that scans do not show, m."""


class Mapper:
    """Builds a map in the loop, one scan at a time.

    Parameters
    ----------
    robot : Robot
    start : array_like, (3,)
        The pose of the first scan in the map's frame, m and radians.
    settings : MappingSettings, optional
    odometry_scale : float
        By what the odometry's ways are multiplied, to begin with: a former drive may have told.

    Attributes
    ----------
    pose : array, (3,)
        The pose of the last scan. It jumps when a loop straightens the map.
    agreement : float
        How well it agreed with the submap, 0 to 1; `nan` if it was not matched.
    keyframes : list of Keyframe
        The scans kept.
    submaps : list of Submap
    graph : PoseGraph
        Of the submaps.
    loops : list of Loop
        The places seen again, and those refused, in the order they were found.
    unwatched : list of (float, float)
        Spans in which the robot moved and no scan showed how, s: the odometry alone led on, until loops tell more.
    leaps : list of float
        Stamps at which the odometry leapt farther than the robot can move. The leap is left out: the robot is taken
        to have stood.

    Notes
    -----
    Submaps half overlap: one is matched against while the next is already being made, so that none begins empty.
    When a submap is finished it is compared with all former ones near it, a piece with each scan (Hess, Kohler, Rapp
    and Andor, 2016). One that lies on floor that they know is merged with them, and scans that add nothing are dropped:
    driving on known floor makes the map neither larger nor slower. It is counted from the kept scans when it is asked
    for.
    """

    @checked
    def __init__(
        self,
        robot: Robot,
        *,
        start: ArrayLike = (0.0, 0.0, 0.0),
        settings: MappingSettings | None = None,
        odometry_scale: float = 1.0,
    ) -> None:
        self._robot = robot
        self._settings = settings or MappingSettings()
        self._closer = LoopCloser(self._settings)
        self._map = SiteMap(self._settings, robot.scanner)
        self.graph = PoseGraph(checked_pose(start, "start"))
        self.submaps: list[Submap] = []
        self.keyframes: list[Keyframe] = []
        self.loops: list[Loop] = []
        self.leaps: list[float] = []
        self.unwatched: list[tuple[float, float]] = []
        self.agreement = float("nan")
        self._place = np.zeros(3)
        """The body in the frame of the submap that is matched against."""
        self._current = 0
        """That submap's number. The one after it, if there is one, is being made."""
        self._next_place = np.zeros(3)
        """The frame of that one, in the frame of the current submap."""
        self._to_search: deque[tuple[int, float]] = deque()
        """Finished submaps that are still to be compared with those before them, and when they were finished."""
        self._search: Iterator[None] | None = None
        """The pieces of the comparison that is going on."""
        self._filter = PlaceFilter(odometry_scale)
        self._last_motion: SweepMotion | None = None
        self._last_seen: SweepMotion | None = None
        """At the last scan that showed something."""
        self._kept: dict[str, FloatArray] = {}
        """Where in the current submap's frame the last keyframe of each lidar was taken."""
        self._matched_at = self._slips_until = -np.inf
        self._travelled = self._matched_after = 0.0
        self._unwatched = 0.0
        """How far the robot went while scans did not show it at all, m."""
        self._unseen_way = np.zeros((2, 2))
        """How far the robot went since the last submap was begun in directions that the scans did not show, m."""
        self._led = np.zeros(2)
        """How far it went so in all, m, and that times the scale of the odometry as it was known there."""

    @property
    def pose(self) -> FloatArray:
        """The body's pose ``(3,)`` at the last scan."""
        return compose(self.graph.poses[self._current], self._place)

    @property
    def memory(self) -> int:
        """Bytes held: the kept scans, the grids scans are matched against, and the map as last drawn."""
        kept = sum(k.beams.origins.nbytes + k.beams.ends.nbytes + k.beams.hits.nbytes for k in self.keyframes)
        walls = sum(s.walls.hit_sums.nbytes + s.walls.field.nbytes for s in self.submaps if s.walls is not None)
        return kept + walls + self._map.grid.memory

    @property
    def way(self) -> FloatArray:
        """The body's poses ``(N, 3)`` at the keyframes, as all loops so far have it."""
        numbers = np.array([keyframe.submap for keyframe in self.keyframes], dtype=int)
        return compose(
            self.graph.poses[numbers], np.array([keyframe.pose for keyframe in self.keyframes]).reshape(-1, 3)
        )

    @property
    def closed_loops(self) -> list[Loop]:
        """The `loops` that were not refused."""
        return [loop for loop in self.loops if not loop.refused]

    @property
    def loop_errors(self) -> FloatArray:
        """By how much closed loops ``(L, 3)`` still miss, m and radians, but for those that the rest outweighs."""
        loops = self.closed_loops
        former, later = (np.array([getattr(loop, end) for loop in loops], int) for end in ("former", "submap"))
        measured = np.array([loop.pose for loop in loops]).reshape(-1, 3)
        covariances = np.array([loop.covariance for loop in loops]).reshape(-1, 3, 3)
        links, poses = MeasuredLinks(former, later, measured, np.linalg.inv(covariances)), self.graph.poses
        return np.asarray(links.errors(poses)[links.squares(poses) < BELIEVED])

    @property
    def place(self) -> tuple[int, FloatArray]:
        """The submap that the last scan belongs to, and its pose ``(3,)`` in that submap's frame."""
        return self._current, self._place

    @property
    def odometry_scale(self) -> float:
        """By what the odometry's ways are multiplied, as matches tell so far: above 1, it tells too short ones."""
        return self._filter.scale

    @property
    def misdrawn(self) -> float:
        """How far the odometry led where scans did not show it, by other scales than the one known now, m."""
        metres, scaled = self._led.tolist()
        return abs(self.odometry_scale * metres - scaled)

    @property
    def place_covariance(self) -> FloatArray:
        """Of that pose in that submap ``(3, 3)``, m2, m rad and rad2."""
        return self._filter.covariance

    def update(self, scan: Scan, odometry: SweepMotion) -> FloatArray:
        """Take in one scan and the odometry at its stamp; return the scan's pose ``(3,)`` in the map's frame."""
        # The more submaps wait, the more is done at a time.
        for _ in range(1 + len(self._to_search)):
            self._look_for_loops()
        lidar = self._robot.find_lidar(scan.lidar)
        scan = replace(scan, ranges=believed_ranges(scan.ranges, lidar))
        last = self._last_motion
        self._last_motion = odometry
        self.agreement = float("nan")
        if last is None:
            self._keep(scan.t, lidar, self._straightened(scan, lidar, odometry.sweep), None)
            return self.pose
        step, told = relative(odometry.pose, last.pose), odometry.step_covariance(last)
        if np.hypot(step[0], step[1]) > LEAP + LEAP_SPEED * self._robot.drive.top_speed * (scan.t - last.t):
            self.leaps.append(scan.t)
            step = np.zeros(3)
        step[:2] *= self._filter.scale
        self._travelled += float(np.hypot(step[0], step[1]))
        self._place = self._filter.predict(self._place, step, told)
        if np.count_nonzero(np.isfinite(scan.ranges)) >= FEWEST_HITS:
            self._bridge(odometry)
            self._last_seen = odometry
        if not self.submaps or not self.submaps[self._current].members:
            self._keep(scan.t, lidar, self._straightened(scan, lidar, odometry.sweep), None)
            return self.pose
        due = self._is_due(lidar, patience=1.0)
        if not (due or scan.t <= self._slips_until or scan.t - self._matched_at >= LONGEST_UNMATCHED):
            return self.pose
        before = self._travelled - self._matched_after
        beams = self._straightened(scan, lidar, odometry.sweep)
        delays = lidar.beam_delays[lidar.returned(scan.ranges)]
        match = self._match(scan.t, beams, delays)
        unseen = np.eye(2) if match is None else match.unseen
        self._led += before * min(float(np.trace(unseen)), 1.0) * np.array([1.0, self._filter.scale])
        self._unseen_way += before * unseen
        self._matched_after = self._travelled
        slips = scan.t <= self._slips_until
        if self._is_due(lidar, patience=SLIP_PATIENCE if slips and self.agreement > WELL_KNOWN else 1.0):
            if slips and match is not None:
                # Keep it as straightened by what the match found to be wrong with the sweep.
                error = np.array([match.speed_error, 0.0, match.turn_rate_error])
                beams = self._straightened(scan, lidar, compose(arc(error, lidar.beam_delays), odometry.sweep))
            self._keep(scan.t, lidar, beams, match)
        return self.pose

    def finish(self) -> None:
        """Look for loops that the last submaps close: to be called at the end of the drive."""
        if self._settings.close_loops:
            numbers = range(self._current, len(self.submaps))
            self._to_search += [(number, self.keyframes[-1].t) for number in numbers]
        while self._look_for_loops():
            pass

    def snapshot(self) -> Grid:
        """Return the map so far, cropped to the floor observed; raise `InputError` if nothing was."""
        return self._map.snapshot(self.keyframes, self.way)

    def _match(self, t: float, beams: Beams, delays: FloatArray) -> Match | None:
        """Match a scan and take its pose over, if it has points enough."""
        self._matched_at = t
        if len(beams.hits) < FEWEST_HITS:
            return None
        match = self._fit(beams, delays, doubt_sweep=False)
        if _contradicts(match, self._place) and self._filter.surprised_by(self._place, match):
            self._slips_until = t + SLIP_PERIOD
        if t <= self._slips_until:
            # The wheels slip, and their word for the motion during the sweep has bent the scan.
            match = self._fit(beams, delays, doubt_sweep=True)
            self._filter.take(match)
            self._place = match.pose
        else:
            self._place = self._filter.correct(self._place, match)
        self.agreement = match.agreement
        return match

    def _fit(self, beams: Beams, delays: FloatArray, *, doubt_sweep: bool) -> Match:
        s, walls = self._settings, self.submaps[self._current].walls
        assert walls is not None
        window = SearchWindow(s.search_reach, np.radians(s.search_turn_deg), TURN_SEARCH_STEP)
        # Weak: a plain aisle leaves its own direction to the odometry, everything else to the scan.
        return match_scan(
            beams.oriented_hits, delays, walls, self._place, window=window, prior_points=1.0, doubt_sweep=doubt_sweep
        )

    def _is_due(self, lidar: Lidar, *, patience: float) -> bool:
        """Tell whether the robot has come far enough since the last keyframe of a lidar."""
        if lidar.name not in self._kept:
            return True
        s, (x, y, turned) = self._settings, (self._place - self._kept[lidar.name]).tolist()
        # Headings are wrapped: a difference beyond half a turn is the other way round.
        turned = min(abs(turned), 2.0 * pi - abs(turned))
        return max(hypot(x, y) / s.keyframe_distance, degrees(turned) / s.keyframe_turn_deg) > patience

    def _straightened(self, scan: Scan, lidar: Lidar, sweep: FloatArray) -> Beams:
        return straightened_beams(scan.ranges, lidar, sweep, clear_reach=self._settings.clear_reach)

    def _keep(self, t: float, lidar: Lidar, beams: Beams, match: Match | None) -> None:
        """Add a scan to the submaps being made, and begin a new one if it is time."""
        if not np.any(beams.hit):
            return
        if not self.submaps:
            self._begin_submap(t)
        keyframe = Keyframe(t, beams, self._current, self._place)
        self.keyframes.append(keyframe)
        self._kept[lidar.name] = self._place
        current = self.submaps[self._current]
        current.add(keyframe, self._place)
        behind = self._travelled - self.submaps[-1].begins_at
        if behind >= self._settings.submap_length:
            if len(self.submaps) - 1 > self._current:
                self._change_submap(t)
            self._begin_next(t, self._link_covariance(match))
        if len(self.submaps) - 1 > self._current:
            self.submaps[-1].add(keyframe, relative(self._place, self._next_place))

    def _link_covariance(self, match: Match | None) -> FloatArray:
        """Return the covariance of the body's pose in the current submap, in which it was last matched."""
        covariance = FLOOR + (ODOMETRY_SPREAD if match is None else match.covariance)
        # Along a plain aisle the odometry has led, all the way since the submap was begun.
        astray = LED_ASTRAY * np.sqrt(self._filter.noise_factor) * self._unseen_way
        covariance[:2, :2] += astray @ astray
        self._unseen_way = np.zeros((2, 2))
        return covariance

    def _begin_next(self, t: float, covariance: FloatArray) -> None:
        """Begin the next submap where the body is, linked to the current one with a covariance ``(3, 3)``."""
        self.graph.extend(self._place, np.linalg.inv(covariance))
        self._begin_submap(t)
        self._next_place = self._place

    def _begin_submap(self, t: float) -> None:
        s = self._settings
        reach = self._robot.farthest + 2.5 * s.submap_length
        walls = WallGrid([-reach, -reach], [reach, reach], cell_size=s.cell_size, spread=s.field_spread)
        self.submaps.append(Submap(t, self._travelled, self._unwatched, walls))

    def _change_submap(self, t: float) -> None:
        """Finish the current submap and go on with the one after it."""
        self.submaps[self._current].walls = None
        self._place = relative(self._place, self._next_place)
        self._kept = {name: relative(place, self._next_place) for name, place in self._kept.items()}
        cosine, sine = np.cos(self._next_place[2]), np.sin(self._next_place[2])
        turn = np.array([[cosine, sine], [-sine, cosine]])
        self._unseen_way = turn @ self._unseen_way @ turn.T
        self._current += 1
        if self._settings.close_loops:
            self._to_search.append((self._current - 1, t))

    def _bridge(self, odometry: SweepMotion) -> None:
        """Begin a new submap, linked loosely, where the robot moved on while no scan showed how."""
        last = self._last_seen
        if last is None or odometry.t - last.t <= LONGEST_UNMATCHED or not self.submaps:
            return
        step = relative(odometry.pose, last.pose)
        way, turned, t = float(np.hypot(step[0], step[1])), abs(float(step[2])), odometry.t
        if way < GAP_WAY and turned < GAP_TURN:
            return
        self.unwatched.append((last.t, t))
        # Turned by a radian, it is as uncertain where it is as after a metre.
        self._unwatched += way + turned
        if len(self.submaps) - 1 > self._current:
            self._change_submap(t)
        spread = np.array([UNWATCHED_SPREAD * way, UNWATCHED_SPREAD * way, UNWATCHED_SPREAD * (turned + way)])
        self._begin_next(t, np.diag(spread**2) + ODOMETRY_SPREAD)
        self._change_submap(t)
        self._kept = {}
        self._filter.forget()

    def _look_for_loops(self) -> bool:
        """Do a piece of comparing a finished submap with those before it; return whether there is more to compare.

        When it has been compared with all of them, the map is straightened by what was found.
        """
        if self._search is None:
            if not self._to_search:
                return False
            self._search = self._compared(*self._to_search.popleft())
        try:
            next(self._search)
        except StopIteration:
            self._search = None
        return True

    def _compared(self, number: int, t: float) -> Iterator[None]:
        """Compare a submap with those before it, and move all to where all links fit best, a piece with each step."""
        found = []
        for loop in self._closer.search(self.submaps, number, self.graph, t):
            if loop is not None:
                found.append(loop)
            yield
        self.loops += found
        believed = [loop for loop in found if not loop.refused]
        if not believed:
            return
        for loop in believed:
            information = np.linalg.inv(loop.covariance)
            is_whole = loop.open_along is None
            self.graph.close(loop.former, loop.submap, loop.pose, information, is_whole=is_whole)
        self.graph.optimize()
        yield
        self._merge(number)

    def _merge(self, number: int) -> None:
        """Let a submap that lies on known floor ride on the former one that it fits best, and keep only a few scans.

        Two former submaps must show the same place, or one where the submap before lay on known floor.
        """
        loops = self.graph.agreeing(number)
        if len(loops) + goes_on_from_known_floor(self.submaps, number, self.graph) < WITNESSES:
            return
        submaps, way, rides = np.array([keyframe.submap for keyframe in self.keyframes]), self.way, self.graph.rides
        own = submaps == number
        former = way[(submaps < number) & ~rides[submaps]]
        if not lies_on_known_floor(way[own], former, self._settings.keyframe_distance):
            return
        self.graph.carry(loops[0])
        dropped = np.flatnonzero(own)[adds_nothing(way[own], way[~own])].tolist()
        for i in reversed(dropped):
            del self.keyframes[i]
        self.submaps[number].members = []


def _contradicts(match: Match, place: FloatArray) -> bool:
    """Return whether a match contradicts the odometry's word for the pose, in what it can tell."""
    off = match.pose - place
    off[:2] -= match.unseen @ off[:2]
    return bool(np.hypot(off[0], off[1]) > SLIP_DISTANCE or abs(wrap_angle(off[2])) > SLIP_TURN)
