"""Narrow places, found ahead of time: doorways and aisles that a robot passes only just, or not at all."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from vinecompass.costs.costmap import CostMap
from vinecompass.costs.free_width import free_width
from vinecompass.door import checked
from vinecompass.geometry import check_length
from vinecompass.robot import Robot

__all__ = ["NarrowPlace", "find_narrow_places"]

OPPOSITE = 1.7
"""Two nearest closed cells this many clearances apart stand on opposite sides (2 is straight across)."""
ONE_PLACE_WITHIN = 0.3
"""Metres: pieces of a middle line this near are one place."""
LEAST_WIDTH = 0.6
"""Share of the width needed below which a gap is no way for anyone, but a crack."""
LEAST_FLOOR = 0.3
"""Square metres of open floor that must lie at both ends of a place, so that it leads somewhere."""


@dataclass(frozen=True)
class NarrowPlace:
    """A doorway or aisle that is narrow for a robot.

    Parameters
    ----------
    x, y : float
        Its narrowest point in the site frame, m.
    width : float
        Free width there, m.
    needed : float
        What the robot needs there: the body at its narrowest and, since floor is priced by cells, one of them, m.
    length : float
        How far the place goes on, m.
    price : float
        What the narrowest point costs, metres-equivalent per metre; `inf` where it does not pass.
    closed_by : tuple of str
        The layers that close the floor on its two sides.
    decides : str
        What decides whether it passes, and how easily.
    """

    x: float
    y: float
    width: float
    needed: float
    length: float
    price: float
    closed_by: tuple[str, ...]
    decides: str

    @property
    def passes(self) -> bool:
        """Whether the robot passes at all."""
        return bool(np.isfinite(self.price))

    def __str__(self) -> str:
        passing = f"passes at {self.price:.1f} m per m" if self.passes else "does not pass"
        return (
            f"{self.x:.2f}, {self.y:.2f}: {self.width:.2f} m wide, needs {self.needed:.2f} m, {passing}; {self.decides}"
        )


@checked
def find_narrow_places(costmap: CostMap, robot: Robot, *, gap: float = 0.2) -> list[NarrowPlace]:
    """List the places where a robot has less than `gap` metres beside it on either side, the narrowest first.

    A narrow place is a run of middle line: of cells whose nearest closed cells stand on opposite sides. Cracks too
    narrow for any robot of the kind, and niches that lead nowhere, are left out.

    Parameters
    ----------
    costmap : CostMap
    robot : Robot
    gap : float
        Metres on each side of the body at its narrowest, above which a place is not narrow.

    Returns
    -------
    list of NarrowPlace

    Examples
    --------
    >>> from vinecompass import Grid, demo_file, price_floor, read_robot
    >>> grid = Grid(np.full((60, 120), -3.0, np.float32), cell_size=0.05)
    >>> grid.log_odds[:24, 60], grid.log_odds[40:, 60] = 3.0, 3.0
    >>> robot = read_robot(demo_file("robot.toml"))
    >>> [round(place.width, 2) for place in find_narrow_places(price_floor(grid, robot), robot)]
    [0.8]
    """
    check_length(gap, "gap")
    side = costmap.grid.cell_size
    needed = 2.0 * robot.body.inner_radius + side
    widest = robot.body.inner_radius + gap + side / 2.0
    middle = _middle_line(costmap, widest)
    middle &= costmap.clearance >= LEAST_WIDTH * needed / 2.0
    labels, _ = ndimage.label(ndimage.binary_dilation(middle, iterations=max(int(ONE_PLACE_WITHIN / side / 2.0), 1)))
    places = []
    for label, window in enumerate(ndimage.find_objects(labels), start=1):
        cells = np.argwhere(middle[window] & (labels[window] == label)) + [part.start for part in window]
        if len(cells) and _leads_somewhere(costmap, cells, widest):
            places.append(_described(costmap, robot, cells, needed))
    return sorted(places, key=lambda place: (place.width, place.x, place.y))


def _middle_line(costmap: CostMap, widest: float) -> NDArray[np.bool_]:
    """Tell which cells lie between closed cells on opposite sides, no more than twice `widest` apart."""
    nearest = ndimage.distance_transform_edt(~costmap.forbidden, return_distances=False, return_indices=True)
    narrow = (costmap.clearance < widest) & ~costmap.forbidden
    side = costmap.grid.cell_size
    result = np.zeros(narrow.shape, bool)
    for axis in (0, 1):
        ahead = [slice(None), slice(None)]
        behind = [slice(None), slice(None)]
        ahead[axis], behind[axis] = slice(1, None), slice(None, -1)
        a, b = tuple(ahead), tuple(behind)
        apart = np.hypot(*(nearest[i][a] - nearest[i][b] for i in (0, 1))) * side
        opposite = apart > OPPOSITE * np.maximum(costmap.clearance[a], costmap.clearance[b])
        result[a] |= opposite & narrow[a]
    return result


def _leads_somewhere(costmap: CostMap, cells: NDArray[np.int64], widest: float) -> bool:
    """Tell whether floor at both ends of a place is open: taken out, it leaves two pieces of floor about it or more."""
    side = costmap.grid.cell_size
    margin = int(np.ceil(1.5 * widest / side)) + 2
    low, high = np.maximum(cells.min(0) - margin, 0), cells.max(0) + margin + 1
    block = ~costmap.forbidden[low[0] : high[0], low[1] : high[1]]
    plug = np.zeros(block.shape, bool)
    plug[tuple((cells - low).T)] = True
    reach = ndimage.distance_transform_edt(~plug) * side
    # The plug fills the place from side to side.
    left, count = ndimage.label(block & (reach > costmap.clearance[cells[:, 0], cells[:, 1]].max() + side))
    areas = ndimage.sum_labels(np.ones(block.shape), left, np.arange(1, count + 1)) * side**2
    return int(np.sum(areas >= LEAST_FLOOR)) >= 2


def _described(costmap: CostMap, robot: Robot, cells: NDArray[np.int64], needed: float) -> NarrowPlace:
    grid = costmap.grid
    widths = costmap.clearance[cells[:, 0], cells[:, 1]]
    cell = cells[int(np.argmin(widths))]
    x, y = grid.points_of(cell[None])[0]
    width, sides = free_width(costmap, cell)
    closed_by = tuple(dict.fromkeys(costmap.closing_layer(one) for one in sides))
    # The best of the cells beside it: the middle of an even number of cells lies between two.
    low = np.maximum(cell - 1, 0)
    price = float(costmap.prices[low[0] : cell[0] + 2, low[1] : cell[1] + 2].min())
    extent = np.ptp(cells, axis=0) * grid.cell_size
    return NarrowPlace(
        float(x),
        float(y),
        width,
        needed,
        float(np.hypot(*extent)),
        price,
        closed_by,
        _decides(costmap, robot, closed_by, sides, price, width, needed),
    )


def _decides(
    costmap: CostMap,
    robot: Robot,
    closed_by: tuple[str, ...],
    sides: NDArray[np.int64],
    price: float,
    width: float,
    needed: float,
) -> str:
    if np.isfinite(price):
        return "costs.comfort and costs.contact_price decide its price"
    if "map" in closed_by and any(costmap.grid.unknown[tuple(cell)] for cell in sides):
        return "unknown floor beside it: costs.unknown decides, or mapping it once more"
    others = [name for name in closed_by if name != "map"]
    if others:
        return f"the layer {others[0]!r} decides, which closes a side of it"
    body = 2.0 * robot.body.inner_radius
    if width >= body:
        return f"the map's cell of {costmap.grid.cell_size:g} m decides: there is none to spare beside the body"
    return f"body.outline decides: it is {100.0 * (body - width):.0f} cm too wide"
