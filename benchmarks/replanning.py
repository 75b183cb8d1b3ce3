"""Plans mended after changes beside plans made anew by SciPy, on tiny floors with one-way zones: prints what differs.

Run with ``python -m benchmarks.replanning [SEQUENCES]``.
"""

from __future__ import annotations

import sys

import numpy as np
from numpy.typing import NDArray

from benchmarks.planning_yardsticks import scipy_costs
from vinecompass import CostToGo

__all__ = ["what_differs"]

PRICES = (1.0, 1.0, 1.0, 2.0, 3.5, np.inf)


def what_differs(seed: int) -> list[str]:
    """Change a floor a few times and plan after each; return where the cost is not what it is anew."""
    rng = np.random.default_rng(seed)
    rows, columns = (int(side) for side in rng.integers(3, 9, 2))
    goal = _cell(rng, rows, columns)
    prices = rng.choice(PRICES, size=(rows, columns)).astype(np.float32)
    prices[goal] = 1.0
    one_way = _one_way(rng, rows, columns) if rng.random() < 0.7 else None
    field, told = CostToGo(prices, goal, one_way), []
    for change in range(int(rng.integers(2, 7))):
        start = _cell(rng, rows, columns)
        cost, wanted = field.plan(start).cost, float(scipy_costs(prices, start, one_way)[goal])
        if np.isinf(prices[start]):
            wanted = np.inf
        if cost != wanted and not abs(cost - wanted) < 1e-6 * wanted:
            told.append(f"seed {seed}, change {change}: {cost} for {wanted}")
        row, column = _cell(rng, rows, columns)
        block = prices[row : row + rng.integers(1, 5), column : column + rng.integers(1, 7)]
        block[:] = rng.choice(PRICES, size=block.shape)
        field.change((row, column), block)
    return told


def _cell(rng: np.random.Generator, rows: int, columns: int) -> tuple[int, int]:
    return int(rng.integers(rows)), int(rng.integers(columns))


def _one_way(rng: np.random.Generator, rows: int, columns: int) -> NDArray[np.float32]:
    """Return headings of one or two zones, in eighths of a turn."""
    headings = np.full((rows, columns), np.nan, np.float32)
    for _ in range(rng.integers(1, 3)):
        row, column = _cell(rng, rows, columns)
        headings[row : row + rng.integers(1, 5), column : column + rng.integers(1, 5)] = rng.integers(8) * np.pi / 4.0
    return headings


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    told = [line for seed in range(count) for line in what_differs(seed)]
    print(*told, f"{count} sequences: {len(told)} plans differ", sep="\n")


if __name__ == "__main__":
    main()
