"""The talk between a loop and its page: news out, orders in, each in its own thread."""

from __future__ import annotations

import time
from collections.abc import Iterator
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from vinecompass.errors import VineCompassError
from vinecompass.pages.floor import page
from vinecompass.pages.orders import Order, read_order
from vinecompass.pages.plays import SCAN_POINTS
from vinecompass.rehearsal.moments import Moment, some_of
from vinecompass.serving import PageServer

__all__ = ["Talk", "told_moment"]

PERIOD = 0.1
"""Seconds between two moments that the page is handed."""


class Talk:
    """A page served, whose orders wait to be done, and what is to be told of them.

    Parameters
    ----------
    greeting : dict
        What every page is told first.
    address, port
        As in `PageServer`.

    Attributes
    ----------
    url : str
    """

    def __init__(self, greeting: dict[str, Any], *, address: str, port: int) -> None:
        self._events: list[dict[str, Any]] = []
        self._told = -np.inf
        self._server = PageServer(page("Vine Compass, live", "live"), greeting, address=address, port=port)
        self.url = self._server.url

    def end(self) -> None:
        """Let go of all pages."""
        self._server.end()

    def orders(self, t: float) -> Iterator[Order]:
        """Yield what was ordered since the last time; tell of what is no order."""
        for text in self._server.said():
            try:
                yield read_order(text)
            except VineCompassError as error:
                self.answer(t, f"refused: {error}")

    def say(self, t: float, kind: str, text: str) -> None:
        """Tell of something with the next news."""
        self._events.append({"t": t, "kind": kind, "text": text})

    def answer(self, t: float, said: str) -> None:
        """Tell what came of an order, if there is anything to tell."""
        if said:
            self.say(t, "trouble" if said.startswith("refused") else "notice", said)

    def is_due(self) -> bool:
        """Tell whether it is time for news."""
        now = time.monotonic()
        if now - self._told < PERIOD:
            return False
        # By the clock and not by the last time, or cycles that do not divide the period would make it slower.
        self._told = max(self._told + PERIOD, now - PERIOD)
        return True

    def tell(self, news: dict[str, Any]) -> None:
        """Tell every page the news, and what was said meanwhile; mere moments may be missed by a slow one."""
        if self._events:
            news["events"] = [*news.get("events", []), *self._events]
            self._events = []
        self._server.tell(news, may_be_missed=set(news) == {"now"})

    def show(self, greeting: dict[str, Any]) -> None:
        """Tell every page of another floor, also those that come later."""
        self._server.greet(greeting)


def told_moment(moment: Moment, seen: ArrayLike) -> dict[str, Any]:
    """Return a moment, and what the scan hit then, as the page's script takes it."""
    (xx, xy), (_, yy) = moment.covariance
    return {
        "t": moment.t,
        "pose": moment.pose,
        # Square metres: too small for a thousandth.
        "covariance": [float(each) if np.isfinite(each) else None for each in (xx, xy, yy)],
        "speed": moment.speed,
        "turn_rate": moment.turn_rate,
        "left": moment.left if np.isfinite(moment.left) else None,
        "state": moment.state,
        "reason": moment.reason,
        "rules": moment.people_rules,
        "shut": moment.shut_out,
        "cloud": moment.cloud[:, :2],
        "headings": moment.cloud[:, 2],
        "obstacles": moment.obstacles,
        "local": moment.local[:, :2],
        "candidates": moment.candidates,
        "people": moment.walks,
        "radii": moment.people[:, 2],
        "scan": some_of(seen, SCAN_POINTS),
    }
