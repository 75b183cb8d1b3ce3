"""The live page of a drive by hand: the map as it grows, its open edges, and loops as they close."""

from __future__ import annotations

import time
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vinecompass.contact import Walking
from vinecompass.door import checked
from vinecompass.geometry import compose, inverse, relative, transform_points
from vinecompass.grids import Grid, open_edges
from vinecompass.links import Readings, SimulatedLink
from vinecompass.mapping import Mapper
from vinecompass.motion import Command
from vinecompass.navigation import MissionLog
from vinecompass.navigation.safety import Safety
from vinecompass.odometry import deskewed_hits, motion_at
from vinecompass.pages.floor import told_floor
from vinecompass.pages.orders import Drive, Order, Word, by_hand
from vinecompass.pages.packing import Packer
from vinecompass.pages.talk import Talk, told_moment
from vinecompass.rehearsal.moments import Moment, some_of
from vinecompass.settings import Settings

__all__ = ["LiveRecording", "record_live"]

FloatArray = NDArray[np.float64]
MAP_PERIOD = 2.0
"""Seconds from one picture of the growing map to the next."""
EDGES = 400
"""Most of the points on open edges that are drawn."""


class LiveRecording:
    """A simulated robot that a person drives on a page, mapped as it goes; safety has the last word.

    Parameters
    ----------
    link : SimulatedLink
    settings : Settings, optional
    address : str
        As in `Live`.
    port : int

    Attributes
    ----------
    url : str
        Where the page is.
    mapper : Mapper
        Of all that was seen so far.
    t : float
        Of the last step, s.
    ended : bool
        Whether the page said that it is to end.

    Raises
    ------
    InputError
        Tornado is not installed, or the address cannot be listened at.
    """

    @checked
    def __init__(
        self, link: SimulatedLink, *, settings: Settings | None = None, address: str = "127.0.0.1", port: int = 0
    ) -> None:
        chosen = settings or Settings()
        self.ended = False
        self.mapper = Mapper(link.simulator.robot, start=link.pose, settings=chosen.mapping)
        self._robot, self._link, self._navigation = link.simulator.robot, link, chosen.navigation
        self._log = MissionLog()
        self._safety = Safety(self._robot, settings=chosen.safety, log=self._log)
        self._command, self._wanted, self._wanted_at = Command(), Command(), -np.inf
        self._seen_at, self.t = -np.inf, link.t
        self._hits: FloatArray = np.zeros((0, 2))
        self._seen_from: FloatArray = np.zeros(3)
        self._since: FloatArray = np.zeros(3)
        self._loops, self._pictured = 0, time.monotonic()
        self._take(link.exchange(Command()))
        self._talk = Talk(self._greeting(self.mapper.snapshot()), address=address, port=port)
        self.url = self._talk.url

    def __enter__(self) -> LiveRecording:
        return self

    def __exit__(self, *_: object) -> None:
        self._talk.end()

    def step(self) -> None:
        """Drive, see and map for one cycle, and hand over what is so now."""
        readings = self._link.exchange(self._command)
        points = self._take(readings)
        for order in self._talk.orders(readings.t):
            self._talk.answer(readings.t, self._do(order))
        held = readings.t - self._wanted_at <= self._navigation.manual_hold
        wanted, duration = self._wanted if held else Command(), readings.t - self.t
        self.t = readings.t
        self._command = self._safety.check(
            readings.t,
            wanted,
            self._command,
            points,
            duration=max(duration, 1e-3),
            people=readings.people,
            pose=self.pose,
        )
        if self._talk.is_due():
            self._talk.tell(self._news(readings))

    def _take(self, readings: Readings) -> FloatArray:
        """Map a scan that is new, and return what is seen ``(N, 2)`` in the body frame as it is now, m."""
        scan, odometry, lidar = readings.scans[self._robot.scanner.name], readings.odometry, self._robot.scanner
        if scan.t > self._seen_at:
            self._seen_at = scan.t
            motion = motion_at(odometry, scan.t, lidar)
            self.mapper.update(scan, motion)
            self._hits, self._seen_from = deskewed_hits(scan.ranges, lidar, motion.sweep), motion.pose
        self._since = relative(odometry.poses[-1], self._seen_from)
        return transform_points(inverse(self._since), self._hits)

    @property
    def pose(self) -> FloatArray:
        """Where the robot is now ``(3,)`` on the map, m and radians: at its last scan, carried on by the odometry."""
        return compose(self.mapper.pose, self._since)

    def _do(self, order: Order) -> str:
        match order:
            case Drive():
                self._wanted, self._wanted_at = by_hand(order, self._robot), self.t
                return ""
            case Word(do="end"):
                self.ended = True
                return "ends, and is saved"
        return "refused: while a drive is recorded there is no map to drive by"

    def _greeting(self, grid: Grid) -> dict[str, Any]:
        packer = Packer(grid.corner_points)
        return {
            "kind": "recording",
            "floor": told_floor(f"{self._robot.name}, recording", grid, packer),
            "outline": np.array(self._robot.body.polygon),
            "world": True,
        }

    def _news(self, readings: Readings) -> dict[str, Any]:
        """Return what is so now; now and then the map as it has grown."""
        pose, true = self.pose, self._link.pose
        now = told_moment(self._now(readings, pose), transform_points(self.mapper.pose, self._hits))
        news: dict[str, Any] = {"now": now | {"true": true, "error": float(np.hypot(*(true - pose)[:2]))}}
        for loop in self.mapper.loops[self._loops :]:
            if not loop.refused:
                self._talk.say(loop.t, "loop", f"a place seen before: it took out {loop.drift:.2f} m")
        self._loops = len(self.mapper.loops)
        if time.monotonic() - self._pictured > MAP_PERIOD:
            self._pictured = time.monotonic()
            grid = self.mapper.snapshot()
            self._talk.show(self._greeting(grid))
            news["edges"] = some_of(grid.points_of(np.argwhere(open_edges(grid))), EDGES)
        return news

    def _now(self, readings: Readings, pose: FloatArray) -> Moment:
        held_up = self._log.interventions[-1:] if not self._wanted.standing else []
        return Moment(
            t=readings.t,
            pose=pose,
            speed=self._command.speed,
            turn_rate=self._command.turn_rate,
            state="standing" if self._command.standing else "driven by hand",
            reason=held_up[0].rule if held_up and readings.t - held_up[0].end < 1.0 else "",
            people=Walking.rows(readings.people),
        )


@checked
def record_live(recording: LiveRecording, *, seconds: float = np.inf, pace: float = 1.0) -> None:
    """Let a person drive, in real time, until so many seconds or the page end it.

    Parameters
    ----------
    recording : LiveRecording
    seconds : float
    pace : float
        Simulated seconds in a second; 0 for as fast as it can.
    """
    begun, first = time.monotonic(), recording.t
    while recording.t - first < seconds and not recording.ended:
        recording.step()
        if pace > 0.0:
            time.sleep(max(begun + (recording.t - first) / pace - time.monotonic(), 0.0))
