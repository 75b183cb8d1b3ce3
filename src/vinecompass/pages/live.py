"""The live page: what a loop sees and does, in a browser, and what a person tells it by pointing."""

from __future__ import annotations

import queue
import threading
import time
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vinecompass.costs import CostMap
from vinecompass.door import checked
from vinecompass.errors import VineCompassError
from vinecompass.grids import Zone
from vinecompass.links import SimulatedLink
from vinecompass.motion import Command
from vinecompass.navigation import Navigator
from vinecompass.pages.floor import part, told_floor
from vinecompass.pages.orders import Desk, Order, read_order
from vinecompass.pages.packing import Packer
from vinecompass.pages.plays import EventReader
from vinecompass.pages.replay import SCAN_POINTS
from vinecompass.pages.server import PageServer
from vinecompass.rehearsal.moments import Moment, moment_of, some_of
from vinecompass.settings import NamedPose, Settings

__all__ = ["Live", "run_live"]

FloatArray = NDArray[np.float64]
PERIOD = 0.1
"""Seconds between two moments that the page is handed."""
MOST_ORDERS = 100
"""That wait to be done; what comes beyond is refused."""


class Live:
    """A page beside a loop, which hands over what it sees, and does what was ordered there.

    The page is on this machine only, unless an address is given: then who opens it must know the token that its own
    address ends in. A page that hangs or closes changes nothing.

    Parameters
    ----------
    navigator : Navigator
    zones : sequence of Zone
        In force.
    stops : sequence of NamedPose
        That can be sent to by name.
    settings : Settings, optional
        That the navigator goes by.
    link : SimulatedLink, optional
        The simulated world that crates and people can be put into, and whose truth is drawn.
    address : str
        To listen at.
    port : int
        0 for any that is free.

    Attributes
    ----------
    url : str
        Where the page is.
    navigator : Navigator

    Examples
    --------
    >>> from vinecompass import SimulatedLink, demo_file, grid_from_polygons, read_robot, read_site
    >>> site, robot = read_site(demo_file("site.toml")), read_robot(demo_file("robot.toml"))
    >>> room = grid_from_polygons([(32, 17), (41, 17), (41, 26), (32, 26)], [], cell_size=0.05)
    >>> link = SimulatedLink(site, robot, seed=1)
    >>> with Live(Navigator(room, robot, link.pose, [36.9, 24.0, -1.57], seed=1), link=link) as live:
    ...     run_live(link, live, seconds=0.3, pace=0.0)
    ...     live.url.startswith("http://127.0.0.1:")
    True
    """

    @checked
    def __init__(
        self,
        navigator: Navigator,
        *,
        zones: Sequence[Zone] = (),
        stops: Sequence[NamedPose] = (),
        settings: Settings | None = None,
        link: SimulatedLink | None = None,
        address: str = "127.0.0.1",
        port: int = 0,
    ) -> None:
        self.navigator = navigator
        self._desk = Desk(navigator, list(zones), link=link, settings=settings)
        self._link = link
        self._stops = list(stops)
        self._orders: queue.Queue[Order] = queue.Queue(MOST_ORDERS)
        self._told: list[dict[str, Any]] = []
        self._log = _LogReader(navigator)
        self._looked = -np.inf
        self._opinion: Any = navigator.second_opinion
        self._plan_told: Any = None
        greeting = self._greeting(navigator.costmap, self._desk.zones)
        self._server = PageServer(_page(), greeting, self._ordered, address=address, port=port)
        self.url = self._server.url

    def __enter__(self) -> Live:
        return self

    def __exit__(self, *_: object) -> None:
        self._server.end()

    def look(self) -> None:
        """Do what was ordered, and hand over what is so now: to be called after each step of the navigator."""
        while not self._orders.empty():
            self._do(self._orders.get_nowait())
        now = time.monotonic()
        if now - self._looked < PERIOD:
            return
        self._looked = now
        self._hear_second_opinion()
        news = self._news()
        self._server.tell(news, may_be_missed=set(news) == {"now"})

    def _do(self, order: Order) -> None:
        """Do an order, and say what came of it; what changes the floor is shown at once."""
        zones, settings = self._desk.zones, self._desk.settings
        if said := self._desk.do(order):
            self._say("trouble" if said.startswith("refused") else "notice", said)
        if self._desk.zones is not zones or self._desk.settings is not settings:
            # Pictures take a while: the loop goes on meanwhile.
            shown = self.navigator.costmap.as_now(), self._desk.zones
            threading.Thread(target=self._show_floor, args=shown, daemon=True).start()

    def _show_floor(self, costmap: CostMap, zones: list[Zone]) -> None:
        greeting = self._greeting(costmap, zones)
        self._server.greet(greeting)
        self._server.tell({"map": greeting["floor"]["map"], "zones": greeting["floor"]["zones"]})

    def _ordered(self, text: str | bytes) -> str:
        """Take an order from the page, in the server's thread; return why it is not taken, or nothing."""
        try:
            self._orders.put_nowait(read_order(text))
        except queue.Full:
            return "refused: too many orders at once"
        except VineCompassError as error:
            return f"refused: {error}"
        return ""

    def _say(self, kind: str, text: str) -> None:
        self._told.append({"t": self.navigator.t, "kind": kind, "text": text})

    def _hear_second_opinion(self) -> None:
        """Tell whether the scan fits better elsewhere than where the robot was said to be."""
        opinion = self.navigator.second_opinion
        if opinion is not None and opinion is not self._opinion:
            self._opinion = opinion
            self._say("trouble" if opinion.warning else "notice", opinion.warning or "the scan fits where it was told")

    def _greeting(self, costmap: CostMap, zones: list[Zone]) -> dict[str, Any]:
        """Return what a page needs first."""
        packer = Packer(costmap.grid.corner_points)
        title = f"{self.navigator.robot.name}, live"
        return {
            "floor": told_floor(title, costmap.grid, packer, costmap=costmap, zones=zones, stops=self._stops),
            "outline": np.asarray(self.navigator.robot.body.polygon, float).round(3).tolist(),
            "world": self._link is not None,
        }

    def _news(self) -> dict[str, Any]:
        """Return what is so now, and what is new since the last time."""
        navigator = self.navigator
        news: dict[str, Any] = {"now": _told(moment_of(navigator), navigator.seen)}
        if self._link is not None:
            true = self._link.pose
            news["now"] |= {"true": _numbers(true), "error": _number(np.hypot(*(true - navigator.pose)[:2]))}
        if navigator.plan is not self._plan_told:
            self._plan_told = navigator.plan
            poses = np.zeros((0, 3)) if navigator.plan is None else navigator.plan.poses
            news["plan"] = _numbers(some_of(poses[:, :2], 400))
        if events := [*self._log.new(), *self._told]:
            news["events"] = events
            self._told = []
        return news


class _LogReader:
    """Reads what a navigator notes down, each entry once."""

    def __init__(self, navigator: Navigator) -> None:
        self._log = navigator.log
        self._reader = EventReader()
        self._read: dict[str, int] = {}

    def new(self) -> list[dict[str, Any]]:
        """Return the events that came since the last time."""
        log = self._log
        records = {
            "states": [vars(each) for each in self._rest("states", log.states)],
            "plans": [{"t": t} for t, _ in self._rest("plans", log.plans)],
            "interventions": [vars(each) for each in self._rest("interventions", log.interventions)],
            "notices": [vars(each) for each in self._rest("notices", log.notices)],
            "encounters": [vars(each) for each in self._rest("encounters", log.encounters)],
            "stops": [vars(each) for each in self._rest("stops", log.stops)],
        }
        return [vars(event) for event in self._reader.read(records)]

    def _rest(self, name: str, entries: Sequence[Any]) -> Sequence[Any]:
        rest = entries[self._read.get(name, 0) :]
        self._read[name] = len(entries)
        return rest


def run_live(
    link: SimulatedLink,
    live: Live,
    *,
    seconds: float = np.inf,
    pace: float = 1.0,
    watch: Callable[[Navigator], None] | None = None,
) -> None:
    """Let the page's navigator drive a simulated robot, in real time, round after round, for so many seconds.

    Parameters
    ----------
    link : SimulatedLink
    live : Live
    seconds : float
        Of the link's time.
    pace : float
        Simulated seconds in a second; 0 for as fast as it can.
    watch : callable, optional
        Called with the navigator after each of its steps.
    """
    lidar = live.navigator.robot.scanner.name
    command, begun, first = Command(), time.monotonic(), link.t
    while link.t - first < seconds:
        readings = link.exchange(command)
        command = live.navigator.step(readings.t, readings.scans[lidar], readings.odometry, readings.people)
        if watch is not None:
            watch(live.navigator)
        live.look()
        if pace > 0.0:
            time.sleep(max(begun + (link.t - first) / pace - time.monotonic(), 0.0))


def _page() -> str:
    return (
        '<!DOCTYPE html>\n<html lang="en"><head><meta charset="utf-8">'
        '<meta name="viewport" content="width=device-width, initial-scale=1">'
        f"<title>Vine Compass, live</title><style>{part('page.css')}</style></head><body>{part('live.html')}"
        f"<script>{part('floor.js')}</script><script>{part('live.js')}</script></body></html>\n"
    )


def _told(moment: Moment, seen: FloatArray) -> dict[str, Any]:
    """Return a moment as the page's script takes it."""
    people = np.concatenate([moment.people[:, :2], moment.people[:, :2] + moment.people[:, 3:]], axis=1)
    (xx, xy), (_, yy) = moment.covariance
    return {
        "t": round(moment.t, 3),
        "pose": _numbers(moment.pose),
        "covariance": [_number(value, 6) for value in (xx, xy, yy)],
        "speed": _number(moment.speed),
        "turn_rate": _number(moment.turn_rate),
        "left": _number(moment.left),
        "state": moment.state,
        "reason": moment.reason,
        "rules": moment.people_rules,
        "cloud": _numbers(moment.cloud[:, :2]),
        "headings": _numbers(moment.cloud[:, 2]),
        "obstacles": _numbers(moment.obstacles),
        "local": _numbers(moment.local[:, :2]),
        "candidates": _numbers(moment.candidates),
        "people": _numbers(people.reshape(-1, 2)),
        "radii": _numbers(moment.people[:, 2]),
        "scan": _numbers(some_of(seen, SCAN_POINTS)),
    }


def _numbers(values: FloatArray) -> Any:
    """Return numbers to the centimetre, or the hundredth of a radian times ten."""
    return np.nan_to_num(np.asarray(values, float)).round(3).tolist()


def _number(value: float, digits: int = 3) -> float | None:
    return round(float(value), digits) if np.isfinite(value) else None
