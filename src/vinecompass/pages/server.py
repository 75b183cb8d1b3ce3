"""A small server of one page: what is told goes to every browser that looks, and what they say is handed on."""

from __future__ import annotations

import asyncio
import hmac
import json
import secrets
import socket
import threading
from collections.abc import Callable
from typing import Any
from urllib.parse import urlsplit

from vinecompass.errors import InputError

__all__ = ["PageServer"]

LARGEST_MESSAGE = 8192
"""Bytes of what a page may say at once."""
MOST_EVENTS = 1000
"""That a page which comes late is told."""
MOST_PAGES = 8
"""That may look at the same time."""
LOCAL = ("127.0.0.1", "localhost", "::1")
POLICY = "default-src 'none'; img-src data:; style-src 'unsafe-inline'; script-src 'unsafe-inline'; connect-src 'self'"


class PageServer:
    """Serves a page in a thread of its own, and talks with it.

    Parameters
    ----------
    page : str
        HTML.
    greeting : dict
        What every page is told first.
    hear : callable
        Takes what a page says, in the server's thread; returns what it is answered, or nothing.
    address : str
    port : int
        0 for any that is free.

    Raises
    ------
    InputError
        Tornado is not installed, or the address cannot be listened at.

    Notes
    -----
    Who listens at this machine only is asked for nothing but to come from here: the name that a browser called, and the
    page that a message comes from, must be this one, so that no other site that is open in the browser can reach it.
    At another address, a token is asked for besides.
    """

    def __init__(
        self, page: str, greeting: dict[str, Any], hear: Callable[[str | bytes], str], *, address: str, port: int
    ) -> None:
        try:
            import tornado.web  # noqa: F401
        except ModuleNotFoundError:
            raise InputError("needs Tornado", key="live", expected='pip install "vinecompass[page]"') from None
        self._page, self._greeting, self._hear = page, json.dumps(greeting), hear
        self._address, self._wanted_port = address, port
        self.token = "" if address in LOCAL else secrets.token_urlsafe(16)
        self._pages: set[Any] = set()
        self._history: dict[str, Any] = {"plan": [], "events": []}
        self._loop: asyncio.AbstractEventLoop | None = None
        self._trouble: OSError | None = None
        self._ready = threading.Event()
        self._thread = threading.Thread(target=self._serve, name="page", daemon=True)
        self._thread.start()
        self._ready.wait()
        if self._trouble is not None:
            told = f"cannot be listened at ({self._trouble.strerror})"
            raise InputError(told, key="address", value=f"{address}:{port}", expected="a free port of this machine")

    @property
    def url(self) -> str:
        """Where the page is."""
        host = socket.gethostname() if self._address in ("", "0.0.0.0", "::") else self._address
        return f"http://{host}:{self.port}/" + (f"?token={self.token}" if self.token else "")

    def tell(self, message: dict[str, Any], *, may_be_missed: bool = False) -> None:
        """Tell every page something, which one that is slow to listen may miss."""
        if self._loop is not None and (self._pages or not may_be_missed):
            self._loop.call_soon_threadsafe(self._send, message, may_be_missed)

    def greet(self, greeting: dict[str, Any]) -> None:
        """Change what pages are told first."""
        self._greeting = json.dumps(greeting)

    def end(self) -> None:
        """Let go of all pages."""
        if self._loop is not None:
            self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(timeout=5.0)

    def allows(self, host: str, origin: str | None, token: str) -> bool:
        """Tell whether who asks may: by the host it called, the page it comes from, and the token it knows."""
        name = urlsplit(f"//{host}").hostname or ""
        if origin is not None and urlsplit(origin).netloc != host:
            return False
        if self.token:
            return hmac.compare_digest(token.encode(), self.token.encode())
        return name in LOCAL

    def _serve(self) -> None:
        """Run the server's own loop until it is ended."""
        from tornado.httpserver import HTTPServer
        from tornado.netutil import bind_sockets
        from tornado.web import Application

        from vinecompass.pages.handlers import PageHandler, TalkHandler

        loop = asyncio.new_event_loop()
        asyncio.set_event_loop(loop)
        application = Application(
            [("/", PageHandler, {"server": self}), ("/talk", TalkHandler, {"server": self})],
            websocket_max_message_size=LARGEST_MESSAGE,
            websocket_ping_interval=10,
            log_function=lambda _: None,
        )
        server = HTTPServer(application, max_body_size=LARGEST_MESSAGE)
        try:
            sockets = bind_sockets(self._wanted_port, self._address)
        except OSError as error:
            self._trouble = error
            loop.close()
            self._ready.set()
            return
        server.add_sockets(sockets)
        self.port = sockets[0].getsockname()[1]
        self._loop = loop
        self._ready.set()
        loop.run_forever()
        server.stop()
        for page in list(self._pages):
            page.close()
        loop.run_until_complete(asyncio.sleep(0.0))
        loop.close()

    def _send(self, message: dict[str, Any], may_be_missed: bool) -> None:
        self._history["plan"] = message.get("plan", self._history["plan"])
        self._history["events"] = (self._history["events"] + message.get("events", []))[-MOST_EVENTS:]
        text = json.dumps(message) if self._pages else ""
        for page in list(self._pages):
            page.send(text, may_be_missed=may_be_missed)

    # What the handlers ask for.
    @property
    def page(self) -> str:
        """The page."""
        return self._page

    def welcome(self, page: Any) -> bool:
        """Take a page in, and tell it what it needs first, unless there are too many."""
        if len(self._pages) >= MOST_PAGES:
            return False
        self._pages.add(page)
        page.send(self._greeting)
        page.send(json.dumps(self._history))
        return True

    def let_go(self, page: Any) -> None:
        """Forget a page."""
        self._pages.discard(page)

    def hear(self, page: Any, text: str | bytes) -> None:
        """Hand on what a page says, and answer it."""
        if answer := self._hear(text):
            page.send(json.dumps({"answer": answer}))
