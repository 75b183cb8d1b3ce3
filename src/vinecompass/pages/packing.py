"""Numbers packed for a page: few bytes each, in an alphabet that HTML can hold."""

from __future__ import annotations

import base64
from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

__all__ = ["Packer"]

FINEST = 0.01
"""Metres that positions are rounded to, on all but the largest maps."""
MOST_UNITS = 32000
"""From the origin, in 16 bits."""
BEYOND = 1.5
"""Times the floor's extent within which positions are told: what lies beyond is put on that edge."""


class Packer:
    """Packs positions on a floor in 16 bits each, from its middle.

    Parameters
    ----------
    corners : array, (N, 2)
        Of the floor, m.
    """

    def __init__(self, corners: ArrayLike) -> None:
        points = np.asarray(corners, dtype=float)
        low, high = points.min(axis=0), points.max(axis=0)
        self.origin = 0.5 * (low + high)
        self.unit = max(FINEST, BEYOND * 0.5 * float((high - low).max()) / MOST_UNITS)

    def ragged(self, parts: Sequence[NDArray[np.float64]]) -> dict[str, str]:
        """Return points ``(N, 2)`` of each moment: where each moment's begin, and all of them."""
        points = np.concatenate(parts) if parts else np.zeros((0, 2))
        units = np.nan_to_num((points - self.origin) / self.unit)
        return _packed(parts, np.clip(np.round(units), -MOST_UNITS, MOST_UNITS))

    def headings(self, parts: Sequence[NDArray[np.float64]]) -> dict[str, str]:
        """Return angles ``(N,)`` of each moment, in ten-thousandths of a radian."""
        angles = np.concatenate(parts) if parts else np.zeros(0)
        return _packed(parts, np.round(1e4 * np.arctan2(np.sin(angles), np.cos(angles))))

    @staticmethod
    def numbers(values: ArrayLike) -> str:
        """Return numbers in 32 bits each, row after row; `nan` stays what it is."""
        return _text(np.asarray(values, "<f4"))


def _packed(parts: Sequence[NDArray[np.float64]], units: NDArray[np.float64]) -> dict[str, str]:
    begins = np.concatenate([[0], np.cumsum([len(part) for part in parts])])
    return {"begins": _text(begins.astype("<u4")), "units": _text(units.astype("<i2"))}


def _text(values: NDArray[Any]) -> str:
    return base64.b64encode(np.ascontiguousarray(values).tobytes()).decode("ascii")
