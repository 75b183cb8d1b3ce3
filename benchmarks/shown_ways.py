"""Hide settings, plan ways with them, and learn the prices back; run with ``python -m benchmarks.shown_ways [N]``.

Ways of straight lines through made-up cellars, to be found back on ways that had no part in the choice.
"""

from __future__ import annotations

import sys
from concurrent.futures import ProcessPoolExecutor
from itertools import permutations

import numpy as np

from benchmarks.drive_sites import cellar, map_of
from vinecompass import demo_file, price_floor, read_robot
from vinecompass.settings import CostSettings, find_setting
from vinecompass.tuning import ShownWay, learn_prices
from vinecompass.tuning.shown_prices import plan_beside

WAYS = 6
"""Ways shown in each cellar; two of them are held back."""
FALLS = ("line", "parabola", "exponential")


def hidden_settings(rng: np.random.Generator) -> CostSettings:
    """Draw settings from the inner part of their spans, where they change ways."""
    low, high = find_setting("costs.contact_price").span.low, find_setting("costs.contact_price").span.high
    price = float(np.exp(rng.uniform(np.log(1.5 * low), np.log(0.8 * high))))
    return CostSettings(contact_price=price, comfort=float(rng.uniform(0.1, 1.5)), fall=FALLS[rng.integers(3)])


def one(seed: int) -> tuple[int, CostSettings, CostSettings, tuple[float, float]]:
    """Learn the prices of one cellar; return what was hidden and found, and how far plans run from ways held back."""
    site, rng = cellar(seed, people=0), np.random.default_rng(seed)
    robot, grid, hidden = read_robot(demo_file("robot.toml")), map_of(site), hidden_settings(rng)
    costmap = price_floor(grid, robot, settings=hidden)
    ends = list(permutations([stop.site_pose for stop in site.stops], 2))
    rng.shuffle(ends)
    ways: list[ShownWay] = []
    for start, end in ends:
        way = ShownWay.through(f"way {len(ways)}", np.array([start, end]))
        plan = plan_beside(costmap, robot, way)
        if plan.found and plan.length > 4.0:
            ways.append(ShownWay.through(way.name, plan.poses))
        if len(ways) == WAYS:
            break
    found = learn_prices(grid, robot, ways)
    return seed, hidden, found.settings, found.apart(held_back=True)


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 10
    near = 0
    with ProcessPoolExecutor() as pool:
        for seed, hidden, found, (before, after) in pool.map(one, range(count)):
            near += after <= 0.10
            print(
                f"cellar {seed}: hidden {hidden.contact_price:.1f}, {hidden.comfort:.2f} m, {hidden.fall}; "
                f"found {found.contact_price:.1f}, {found.comfort:.2f} m, {found.fall}; "
                f"plans {after:.3f} m from ways held back, before {before:.3f} m",
                flush=True,
            )
    print(f"{near} of {count} within 0.10 m")


if __name__ == "__main__":
    main()
