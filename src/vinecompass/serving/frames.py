"""What a loop and its page's process tell each other through their pipes: one frame a message."""

from __future__ import annotations

import pickle
import struct
from typing import IO, Any

__all__ = ["read_frame", "write_frame"]


def write_frame(stream: IO[bytes], message: dict[str, Any]) -> None:
    """Write a message and what is left of others."""
    told = pickle.dumps(message, protocol=5)
    stream.write(struct.pack(">Q", len(told)) + told)
    stream.flush()


def read_frame(stream: IO[bytes]) -> dict[str, Any] | None:
    """Read a message of the other process, which is ours; None when it has ended."""
    head = stream.read(8)
    if len(head) < 8:
        return None
    message: dict[str, Any] = pickle.loads(stream.read(struct.unpack(">Q", head)[0]))
    return message
