"""The process that serves a page: ``python -m vinecompass.serving.process``, begun by `PageServer`."""

from __future__ import annotations

import asyncio
import hmac
import json
import sys
import threading
from typing import Any
from urllib.parse import urlsplit

import numpy as np
from tornado.httpserver import HTTPServer
from tornado.netutil import bind_sockets
from tornado.web import Application

from vinecompass.serving.frames import read_frame, write_line
from vinecompass.serving.handlers import PageHandler, TalkHandler
from vinecompass.serving.page_server import LOCAL

__all__ = ["Served", "main"]

LARGEST_MESSAGE = 8192
"""Bytes of what a page may say at once."""
MOST_EVENTS = 1000
"""That a page which comes late is told."""
MOST_PAGES = 8
"""That may look at the same time."""


class Served:
    """The page, who looks at it, and what they are told.

    Who listens at this machine only asks for nothing but to come from here: the name that a browser called, and the
    page that a message comes from, must be this one, so that no other site that is open in the browser can reach it.
    At another address, a token is asked for besides.
    """

    def __init__(self, page: str, token: str) -> None:
        self.page = page
        self._token = token
        self._greeting = "{}"
        self._history: dict[str, Any] = {"plan": [], "events": []}
        self._talks: set[TalkHandler] = set()

    def allows(self, host: str, origin: str | None, token: str) -> bool:
        """Tell whether who asks may: by the host it called, the page it comes from, and the token it knows."""
        if origin is not None and urlsplit(origin).netloc != host:
            return False
        if self._token:
            return hmac.compare_digest(token.encode(), self._token.encode())
        return (urlsplit(f"//{host}").hostname or "") in LOCAL

    def welcome(self, talk: TalkHandler) -> bool:
        """Take a page in, and tell it what it needs first, unless there are too many."""
        if len(self._talks) >= MOST_PAGES:
            return False
        self._talks.add(talk)
        talk.send(self._greeting)
        talk.send(_json(self._history))
        return True

    def let_go(self, talk: TalkHandler) -> None:
        """Forget a page."""
        self._talks.discard(talk)

    @staticmethod
    def hear(text: str | bytes) -> None:
        """Hand on what a page says."""
        said = text if isinstance(text, str) else text.decode("utf-8", "replace")
        write_line(sys.stdout.buffer, {"said": said})

    def take(self, message: dict[str, Any]) -> None:
        """Take what the loop hands over, and tell it to all pages."""
        if "greeting" in message:
            self._greeting = _json(message["greeting"])
            for talk in list(self._talks):
                talk.send(self._greeting)
            return
        news = message["news"]
        self._history["plan"] = news.get("plan", self._history["plan"])
        self._history["events"] = (self._history["events"] + news.get("events", []))[-MOST_EVENTS:]
        text = _json(news) if self._talks else ""
        for talk in list(self._talks):
            talk.send(text, may_be_missed=message["may_be_missed"])


def _json(message: dict[str, Any]) -> str:
    return json.dumps(message, default=_listed, separators=(",", ":"))


def _listed(values: Any) -> Any:
    """Return an array as lists, to the millimetre."""
    return np.nan_to_num(np.asarray(values, float)).round(3).tolist()


async def _serve(begin: dict[str, Any]) -> None:
    """Serve until the loop's process ends, or lets go of this one."""
    served = Served(begin["page"], begin["token"])
    application = Application(
        [("/", PageHandler, {"served": served}), ("/talk", TalkHandler, {"served": served})],
        websocket_max_message_size=LARGEST_MESSAGE,
        websocket_ping_interval=10,
        log_function=lambda _: None,
    )
    server = HTTPServer(application, max_body_size=LARGEST_MESSAGE)
    try:
        sockets = bind_sockets(begin["port"], begin["address"])
    except OSError as error:
        write_line(sys.stdout.buffer, {"trouble": error.strerror or str(error)})
        return
    server.add_sockets(sockets)
    write_line(sys.stdout.buffer, {"port": sockets[0].getsockname()[1]})
    loop, over = asyncio.get_running_loop(), asyncio.Event()

    def listen() -> None:
        while (message := read_frame(sys.stdin.buffer)) is not None:
            loop.call_soon_threadsafe(served.take, message)
        loop.call_soon_threadsafe(over.set)

    threading.Thread(target=listen, daemon=True).start()
    await over.wait()


def main() -> None:
    """Serve what the first frame says."""
    begin = read_frame(sys.stdin.buffer)
    if begin is not None:
        asyncio.run(_serve(begin))


if __name__ == "__main__":
    main()
