"""The loop's side of a served page: news are handed over, and what pages say waits to be heard."""

from __future__ import annotations

import contextlib
import os
import queue
import secrets
import socket
import subprocess
import sys
import threading
from importlib.util import find_spec
from typing import Any

from vinecompass.errors import InputError
from vinecompass.serving.frames import read_line, write_frame

__all__ = ["PageServer"]

LOCAL = ("127.0.0.1", "localhost", "::1")
MOST_WAITING = 20
"""News that wait to be handed over: what may be missed, is missed then."""
MOST_SAID = 100
"""That waits to be heard; what comes beyond is dropped."""


class PageServer:
    """A page served by a process of its own, so that neither it nor who looks at it ever holds the loop up.

    Parameters
    ----------
    page : str
        HTML.
    greeting : dict
        What every page is told first: numbers, texts, lists, and arrays.
    address : str
    port : int
        0 for any that is free.

    Attributes
    ----------
    url : str
        Where the page is.

    Raises
    ------
    InputError
        Tornado is not installed, or the address cannot be listened at.
    """

    def __init__(self, page: str, greeting: dict[str, Any], *, address: str, port: int) -> None:
        if find_spec("tornado") is None:
            raise InputError("needs Tornado", key="live", expected='pip install "vinecompass[page]"')
        token = "" if address in LOCAL else secrets.token_urlsafe(16)
        self._process = subprocess.Popen(
            [sys.executable, "-m", "vinecompass.serving.process"],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            # Control-C is for the loop to answer: the server ends with it.
            start_new_session=True,
            env=os.environ | {"PYTHONPATH": os.pathsep.join(path for path in sys.path if path)},
        )
        assert self._process.stdin is not None and self._process.stdout is not None
        write_frame(self._process.stdin, {"page": page, "address": address, "port": port, "token": token})
        ready = read_line(self._process.stdout) or {"trouble": "its process ended"}
        if "trouble" in ready:
            self._process.kill()
            self._close()
            told = f"cannot be listened at ({ready['trouble']})"
            raise InputError(told, key="address", value=f"{address}:{port}", expected="a free port of this machine")
        host = socket.gethostname() if address in ("", "0.0.0.0", "::") else address
        self.url = f"http://{host}:{ready['port']}/" + (f"?token={token}" if token else "")
        self._news: queue.Queue[dict[str, Any] | None] = queue.Queue()
        self._said: queue.Queue[str] = queue.Queue(MOST_SAID)
        self._threads = [threading.Thread(target=each, daemon=True) for each in (self._hand_over, self._listen)]
        for thread in self._threads:
            thread.start()
        self.greet(greeting)

    def tell(self, news: dict[str, Any], *, may_be_missed: bool = False) -> None:
        """Tell every page something, which may be missed where the last is still on its way."""
        if not may_be_missed or self._news.qsize() < MOST_WAITING:
            self._news.put({"news": news, "may_be_missed": may_be_missed})

    def greet(self, greeting: dict[str, Any]) -> None:
        """Tell every page this, and each that comes later first of all."""
        self._news.put({"greeting": greeting})

    def said(self) -> list[str]:
        """Return what pages said since the last time."""
        found = []
        while not self._said.empty():
            found.append(self._said.get_nowait())
        return found

    def end(self) -> None:
        """Let go of all pages."""
        self._news.put(None)
        self._threads[0].join(timeout=2.0)
        self._process.terminate()
        self._process.wait()
        self._threads[1].join(timeout=2.0)
        self._close()

    def _close(self) -> None:
        for stream in (self._process.stdin, self._process.stdout):
            assert stream is not None
            with contextlib.suppress(OSError):
                stream.close()
        self._process.wait()

    def _hand_over(self) -> None:
        """Hand news over to the process, one after another."""
        assert self._process.stdin is not None
        while (news := self._news.get()) is not None:
            try:
                write_frame(self._process.stdin, news)
            except (OSError, ValueError):
                return

    def _listen(self) -> None:
        """Keep what pages say."""
        assert self._process.stdout is not None
        with contextlib.suppress(OSError, ValueError):
            while (said := read_line(self._process.stdout)) is not None:
                with contextlib.suppress(queue.Full):
                    self._said.put_nowait(said["said"])
