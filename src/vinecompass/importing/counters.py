"""Counters that begin anew when they are full."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

__all__ = ["unwrapped"]


def unwrapped(counts: NDArray[np.float64], span: float) -> NDArray[np.float64]:
    """Return what counters ``(N, wheels)`` that begin anew after a span have counted, as if they had never done so.

    >>> unwrapped(np.array([[65530.0], [3.0], [65534.0]]), 2.0**16).ravel().tolist()
    [65530.0, 65539.0, 65534.0]
    """
    steps = np.mod(np.diff(counts, axis=0) + 0.5 * span, span) - 0.5 * span
    return np.concatenate([counts[:1], counts[:1] + np.cumsum(steps, axis=0)])
