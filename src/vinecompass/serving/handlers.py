"""What the page's server does with a request: Tornado's side of it."""

from __future__ import annotations

from asyncio import Future
from typing import Any, Protocol

from tornado.web import HTTPError, RequestHandler
from tornado.websocket import WebSocketClosedError, WebSocketHandler

__all__ = ["PageHandler", "TalkHandler"]

POLICY = "default-src 'none'; img-src data:; style-src 'unsafe-inline'; script-src 'unsafe-inline'; connect-src 'self'"


class Served(Protocol):
    """What the handlers ask for."""

    page: str

    def allows(self, host: str, origin: str | None, token: str) -> bool:
        """Tell whether who asks may."""

    def welcome(self, talk: TalkHandler) -> bool:
        """Take a page in."""

    def let_go(self, talk: TalkHandler) -> None:
        """Forget a page."""

    def hear(self, text: str | bytes) -> None:
        """Hand on what a page says."""


class PageHandler(RequestHandler):
    """Gives the page to who may have it."""

    def initialize(self, served: Served) -> None:
        """Take what it serves."""
        self._served = served

    def get(self) -> None:
        """Give the page."""
        request = self.request
        if not self._served.allows(request.host, request.headers.get("Origin"), self.get_argument("token", "")):
            raise HTTPError(403)
        self.set_header("Content-Security-Policy", POLICY)
        self.set_header("X-Content-Type-Options", "nosniff")
        self.set_header("Referrer-Policy", "no-referrer")
        self.set_header("Cache-Control", "no-store")
        self.write(self._served.page)


class TalkHandler(WebSocketHandler):
    """Talks with one page."""

    def initialize(self, served: Served) -> None:
        """Take what it serves."""
        self._served = served
        self._sending: Future[None] | None = None

    def check_origin(self, origin: str) -> bool:
        """Tell whether the page that asks is this server's own."""
        return self._served.allows(self.request.host, origin, self.get_argument("token", ""))

    def prepare(self) -> None:
        """Refuse who comes from nowhere, too: no browser does."""
        if self.request.headers.get("Origin") is None:
            raise HTTPError(403)

    def open(self, *_: Any) -> None:
        """Take the page in."""
        if not self._served.welcome(self):
            self.close(1013, "too many pages")

    def on_message(self, message: str | bytes) -> None:
        """Hand on what it says."""
        self._served.hear(message)

    def on_close(self) -> None:
        """Forget it."""
        self._served.let_go(self)

    def send(self, text: str, *, may_be_missed: bool = False) -> None:
        """Send a message; one that may be missed only if the last one is not still on its way."""
        if may_be_missed and self._sending is not None and not self._sending.done():
            return
        try:
            self._sending = self.write_message(text)
            # A page that went meanwhile is forgotten when it is closed.
            self._sending.add_done_callback(lambda sent: sent.exception())
        except WebSocketClosedError:
            self._served.let_go(self)
