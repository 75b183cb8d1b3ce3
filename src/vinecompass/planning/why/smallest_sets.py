"""The smallest sets of things that, taken away together, open a way for a point."""

from __future__ import annotations

import heapq
from collections.abc import Iterator, Sequence
from itertools import count

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

__all__ = ["smallest_sets"]

Mask = NDArray[np.bool_]
MOST_KNOWN = 64
"""Sets that are kept for each piece of floor."""


def smallest_sets(
    walls: Mask, closing: Sequence[Mask], start: tuple[int, int], goal: tuple[int, int]
) -> Iterator[frozenset[int]]:
    """Yield the sets of things over whose floor a way leads from a cell to a cell, those of the fewest first.

    Parameters
    ----------
    walls : array of bool, (rows, columns)
        What nothing opens.
    closing : sequence of array of bool, (rows, columns)
        The cells that each thing closes; 62 things at most.
    start, goal : (row, column)

    Yields
    ------
    frozenset of int
        Numbers of things in `closing`, none of them without need: no set holds another one that opens a way.

    Notes
    -----
    The minimum constraint removal problem (Hauser, 2014), exactly: pieces of floor that the same things close are nodes
    of a graph, and the sets by which each is reached are grown from the smallest.

    Examples
    --------
    >>> walls, left, right = (np.zeros((3, 7), bool) for _ in range(3))
    >>> left[:, 2] = right[:, 4] = True
    >>> list(smallest_sets(walls, [left, right], (1, 0), (1, 6)))
    [frozenset({0, 1})]
    """
    codes = np.zeros(walls.shape, np.int64)
    for number, cells in enumerate(closing):
        codes[cells] |= 1 << number
    pieces, code_of = _pieces(np.where(walls, -1, codes))
    neighbours = _neighbours(pieces, len(code_of))
    first, last = int(pieces[start]), int(pieces[goal])
    known: list[list[int]] = [[] for _ in code_of]
    order = count()
    begin = int(code_of[first]) if first > 0 else 0
    waiting = [(begin.bit_count(), next(order), first, begin)] if first > 0 and last > 0 else []
    while waiting:
        _, _, piece, chosen = heapq.heappop(waiting)
        if any(other & chosen == other for other in known[piece]) or len(known[piece]) >= MOST_KNOWN:
            continue
        known[piece].append(chosen)
        if piece == last:
            yield frozenset(number for number in range(len(closing)) if chosen >> number & 1)
        for near in neighbours[piece]:
            whole = chosen | int(code_of[near])
            if not any(other & whole == other for other in known[near]):
                heapq.heappush(waiting, (whole.bit_count(), next(order), near, whole))


def _pieces(codes: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return the number of each cell's piece of floor of one code, 0 for walls, and the code of each piece."""
    pieces, code_of, total = np.zeros(codes.shape, np.int64), [np.zeros(1, np.int64)], 0
    for code in np.unique(codes):
        if code < 0:
            continue
        alike = codes == code
        rows, columns = np.flatnonzero(alike.any(axis=1)), np.flatnonzero(alike.any(axis=0))
        window = np.s_[rows[0] : rows[-1] + 1, columns[0] : columns[-1] + 1]
        labels, number = ndimage.label(alike[window])
        pieces[window][labels > 0] = labels[labels > 0] + total
        total += number
        code_of.append(np.full(number, code))
    return pieces, np.concatenate(code_of)


def _neighbours(pieces: NDArray[np.int64], number: int) -> list[list[int]]:
    """Return which pieces each borders on."""
    beside: list[list[int]] = [[] for _ in range(number)]
    for a, b in ((pieces[:, :-1], pieces[:, 1:]), (pieces[:-1], pieces[1:])):
        border = (a != b) & (a > 0) & (b > 0)
        for one, other in np.unique(np.stack([a[border], b[border]], axis=-1), axis=0).tolist():
            beside[one].append(other)
            beside[other].append(one)
    return beside
