"""The live page: what a loop sees and does, in a browser, and what a person tells it by pointing."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from vinecompass.costs import CostMap
from vinecompass.door import checked
from vinecompass.grids import Zone
from vinecompass.links import SimulatedLink
from vinecompass.motion import Command
from vinecompass.navigation import Navigator
from vinecompass.pages.floor import told_floor
from vinecompass.pages.orders import Desk, Order, Word
from vinecompass.pages.packing import Packer
from vinecompass.pages.plays import EventReader
from vinecompass.pages.talk import Talk, told_moment
from vinecompass.rehearsal.moments import moment_of, some_of
from vinecompass.runs.run_files import RECORDS
from vinecompass.settings import NamedPose, Settings

__all__ = ["Live", "run_live"]


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
    ended : bool
        Whether the page said that the loop is to end.

    Raises
    ------
    InputError
        Tornado is not installed, or the address cannot be listened at.

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
        self.ended = False
        self._desk = Desk(navigator, list(zones), link=link, settings=settings)
        self._link = link
        self._stops = list(stops)
        self._log = _LogReader(navigator)
        self._opinion: Any = navigator.second_opinion
        self._plan_told: Any = None
        self._talk = Talk(self._greeting(navigator.costmap, self._desk.zones), address=address, port=port)
        self.url = self._talk.url

    def __enter__(self) -> Live:
        return self

    def __exit__(self, *_: object) -> None:
        self._talk.end()

    def look(self) -> None:
        """Do what was ordered, and hand over what is so now: to be called after each step of the navigator."""
        for order in self._talk.orders(self.navigator.t):
            self._do(order)
        if self._talk.is_due():
            self._hear_second_opinion()
            self._talk.tell(self._news())

    def _do(self, order: Order) -> None:
        """Do an order, and say what came of it; what changes the floor is shown at once."""
        if isinstance(order, Word) and order.do == "end":
            self.ended = True
            return
        zones, settings = self._desk.zones, self._desk.settings
        self._talk.answer(self.navigator.t, self._desk.do(order))
        if self._desk.zones is not zones or self._desk.settings is not settings:
            # Pictures take a while: the loop goes on meanwhile.
            shown = self.navigator.costmap.as_now(), self._desk.zones
            threading.Thread(target=lambda: self._talk.show(self._greeting(*shown)), daemon=True).start()

    def _hear_second_opinion(self) -> None:
        """Tell whether the scan fits better elsewhere than where the robot was said to be."""
        opinion = self.navigator.second_opinion
        if opinion is not None and opinion is not self._opinion:
            self._opinion = opinion
            said = opinion.warning or "the scan fits where it was told"
            self._talk.say(self.navigator.t, "trouble" if opinion.warning else "notice", said)

    def _greeting(self, costmap: CostMap, zones: list[Zone]) -> dict[str, Any]:
        """Return what a page needs first."""
        robot, grid = self.navigator.robot, costmap.grid
        packer = Packer(grid.corner_points)
        return {
            "kind": "driving",
            "floor": told_floor(f"{robot.name}, live", grid, packer, costmap=costmap, zones=zones, stops=self._stops),
            "outline": np.array(robot.body.polygon),
            "world": self._link is not None,
        }

    def _news(self) -> dict[str, Any]:
        """Return what is so now, and what is new since the last time."""
        navigator = self.navigator
        news: dict[str, Any] = {"now": told_moment(moment_of(navigator), navigator.seen)}
        if self._link is not None:
            true = self._link.pose
            news["now"] |= {"true": true, "error": float(np.hypot(*(true - navigator.pose)[:2]))}
        if navigator.plan is not self._plan_told:
            self._plan_told = navigator.plan
            poses = np.zeros((0, 3)) if navigator.plan is None else navigator.plan.poses
            news["plan"] = some_of(poses[:, :2], 400)
        if events := self._log.new():
            news["events"] = events
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
            name: [vars(each) for each in self._rest(name, getattr(log, name))] for name in RECORDS if name != "plans"
        }
        # Of a plan only the time is told here: its poses are many, and the page has them.
        records["plans"] = [{"t": t} for t, _ in self._rest("plans", log.plans)]
        return [vars(event) for event in self._reader.read(records)]

    def _rest(self, name: str, entries: Sequence[Any]) -> Sequence[Any]:
        rest = entries[self._read.get(name, 0) :]
        self._read[name] = len(entries)
        return rest


@checked
def run_live(
    link: SimulatedLink,
    live: Live,
    *,
    seconds: float = np.inf,
    pace: float = 1.0,
    watch: Callable[[Navigator], None] | None = None,
) -> None:
    """Let the page's navigator drive a simulated robot, in real time, until so many seconds or the page end it.

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
    while link.t - first < seconds and not live.ended:
        readings = link.exchange(command)
        command = live.navigator.step(readings.t, readings.scans[lidar], readings.odometry, readings.people)
        if watch is not None:
            watch(live.navigator)
        live.look()
        if pace > 0.0:
            time.sleep(max(begun + (link.t - first) / pace - time.monotonic(), 0.0))
