"""What a loop and its page's process tell each other through their pipes.

What the loop hands over holds arrays, and is pickled: nobody else writes to that pipe. What comes back is JSON, a line
a message, as it comes from whoever looks at the page.
"""

from __future__ import annotations

import json
import pickle
import struct
from typing import IO, Any

__all__ = ["read_frame", "read_line", "write_frame", "write_line"]

LONGEST_LINE = 65536
"""Bytes of a message that comes back."""


def write_frame(stream: IO[bytes], message: dict[str, Any]) -> None:
    """Hand a message over."""
    told = pickle.dumps(message, protocol=5)
    stream.write(struct.pack(">Q", len(told)) + told)
    stream.flush()


def read_frame(stream: IO[bytes]) -> dict[str, Any] | None:
    """Read a message of the loop's; None when its process has ended."""
    head = stream.read(8)
    if len(head) < 8:
        return None
    message: dict[str, Any] = pickle.loads(stream.read(struct.unpack(">Q", head)[0]))
    return message


def write_line(stream: IO[bytes], message: dict[str, Any]) -> None:
    """Write a message back."""
    stream.write(json.dumps(message).encode() + b"\n")
    stream.flush()


def read_line(stream: IO[bytes]) -> dict[str, Any] | None:
    """Read a message that comes back; None when the process has ended."""
    line = stream.readline(LONGEST_LINE)
    message: dict[str, Any] | None = json.loads(line) if line else None
    return message
