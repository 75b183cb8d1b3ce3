"""A path over cells made short and smooth, without touching a closed cell."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from vinecompass.costs.kernels import line_price
from vinecompass.planning.search.kernels import smooth_points

__all__ = ["shorten", "smooth"]

FloatArray = NDArray[np.float64]


def shorten(prices: NDArray[np.float32], points: FloatArray, one_way: NDArray[np.float32]) -> FloatArray:
    """Replace stretches of a path by straight lines wherever a line is no dearer; return the corners that stay.

    Parameters
    ----------
    prices : array, (rows, columns)
    points : array, (N, 2)
        Column and row coordinates in cells; neighbours are joined by open straight lines.
    one_way : array, (rows, columns), float32
        Heading against which no line may go, `nan` where any may; of size 0 if there is none.
    """
    along = np.concatenate([[0.0], np.cumsum([line_price(prices, one_way, *a, *b) for a, b in pairwise(points)])])
    kept = [0]
    while kept[-1] < len(points) - 1:
        here = kept[-1]
        # Reach out in doubling steps, then fall back by halves to the farthest point still worth a straight line.
        reach, stride = here + 1, 1
        while stride:
            ahead = min(reach + stride, len(points) - 1)
            price = line_price(prices, one_way, *points[here], *points[ahead]) if ahead > reach else np.inf
            if price < np.inf and price <= (along[ahead] - along[here]) * (1.0 + 1e-6):
                reach, stride = ahead, stride * 2
            else:
                stride //= 2
        kept.append(reach)
    return points[kept]


def smooth(
    prices: NDArray[np.float32],
    points: FloatArray,
    one_way: NDArray[np.float32],
    clearance: NDArray[np.float32],
    *,
    rounds: int,
) -> FloatArray:
    """Round off a path of evenly spaced points ``(N, 2)`` in cells: each moves towards the middle of its neighbours.

    A point stays where it is if a line to a neighbour would meet a closed cell, the two lines would get dearer, or
    the clearance there ``(rows, columns)`` would be less than at it and both its neighbours.
    """
    return np.asarray(smooth_points(prices, one_way, clearance, points.copy(), rounds))
