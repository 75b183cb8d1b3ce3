"""Narrow places, found ahead of time: doorways and aisles that a robot passes only just, or not at all."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from vinecompass.costs import BodyCheck, CostMap
from vinecompass.door import checked
from vinecompass.geometry import check_length
from vinecompass.planning.methods import find_way
from vinecompass.planning.narrow.free_width import FreeWidth, free_width
from vinecompass.planning.narrow.necks import Neck, find_necks
from vinecompass.planning.problem import Problem
from vinecompass.robot import Robot
from vinecompass.settings import PlanSettings

__all__ = ["NarrowPlace", "find_narrow_places"]

LEAST_WIDTH = 0.6
"""Share of the width needed below which a gap is no way for anyone, but a crack."""
MOST_STANDING = 500
"""Places on a side at which it is tried whether the body fits."""
TRYING = PlanSettings(body_retries=10)
BESIDE = 1.5
"""Metres on either side of a narrow place from which it is tried whether the body comes through."""


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
        How wide the body is at its narrowest, m.
    length : float
        How far the place goes on, m.
    price : float
        What the narrowest point costs the body's origin, metres-equivalent per metre; `inf` where it is closed to it.
    passes : bool
        Whether a way through was found with the whole body, from one side or from the other.
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
    passes: bool
    closed_by: tuple[str, ...]
    decides: str

    def __str__(self) -> str:
        passing = f"passes at {self.price:.1f} m per m" if self.passes else "does not pass"
        return (
            f"{self.x:.2f}, {self.y:.2f}: {self.width:.2f} m wide for a body of {self.needed:.2f} m, {passing}; "
            f"{self.decides}"
        )


@checked
def find_narrow_places(costmap: CostMap, robot: Robot, *, gap: float = 0.2) -> list[NarrowPlace]:
    """List the places where a robot has less than `gap` metres beside it on either side, the narrowest first.

    A narrow place lies between two parts of the floor, which it joins; see `find_necks`. Corners are none, nor are
    niches, nor cracks too narrow for any robot of the kind. Whether the robot passes is tried by planning through it.

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
    side, half = costmap.grid.cell_size, robot.body.inner_radius
    necks = find_necks(costmap, LEAST_WIDTH * half, half + gap + side / 2.0)
    places = [_described(costmap, robot, neck) for neck in necks]
    narrow = [place for place in places if place.width <= 2.0 * (half + gap)]
    return sorted(narrow, key=lambda place: (place.width, place.x, place.y))


def _described(costmap: CostMap, robot: Robot, neck: Neck) -> NarrowPlace:
    cell = neck.cells[neck.narrowest]
    x, y = costmap.grid.points_of(cell[None])[0]
    across = free_width(costmap, cell)
    # The best of the cells beside it: the middle of an even number of cells lies between two.
    low = np.maximum(cell - 1, 0)
    price = float(costmap.prices[low[0] : cell[0] + 2, low[1] : cell[1] + 2].min())
    closed_by = tuple(dict.fromkeys(costmap.closing_layer(one) or "map" for one in across.sides))
    needed = 2.0 * robot.body.inner_radius
    passes = _passes(costmap, robot, neck, across)
    # What the body comes through is as wide as it, however the map is rounded.
    width = max(across.width, needed) if passes else across.width
    place = NarrowPlace(float(x), float(y), width, needed, neck.length, price, passes, closed_by, "")
    return replace(place, decides=_decides(costmap, place, across.sides))


def _passes(costmap: CostMap, robot: Robot, neck: Neck, across: FreeWidth) -> bool:
    """Tell whether the body comes through from one side to the other, facing along it, one way or the other."""
    grid, robot_wide = costmap.grid, 2.0 * robot.body.inner_radius
    if across.width < robot_wide - 2.0 * grid.cell_size:
        return False
    cell = neck.cells[neck.narrowest]
    reach = int((BESIDE + robot.body.outer_radius) / grid.cell_size)
    low = np.maximum(cell - reach, 0)
    window = costmap.window(low, np.minimum(cell + reach + 1, grid.shape))
    rows, columns = np.indices(window.grid.shape) - (cell - low)[:, None, None]
    along = rows * np.sin(across.heading) + columns * np.cos(across.heading)
    ahead = rows * np.cos(across.heading) - columns * np.sin(across.heading)
    # The origin is not to go round it, through another place nearby.
    around = (np.abs(ahead) <= 1.0) & (np.abs(along) > 0.5 * across.width / grid.cell_size + 2.0)
    cut = replace(window, prices=np.where(around, np.float32(np.inf), window.prices))
    labels, _ = ndimage.label(np.isfinite(cut.prices))
    here = labels[tuple(slice(at - 1, at + 2) for at in (cell - low).clip(1))].max()
    if here == 0:
        return False
    sides = [_standing(cut, robot, cell - low, (labels == here) & (way * ahead > 1.0)) for way in (-1, 1)]
    if len(sides[0]) == 0 or len(sides[1]) == 0:
        return False
    about = np.array([0.0, 0.0, np.pi])
    ways = ((sides[0], sides[1] + about), (sides[1], sides[0] + about))
    return any(_comes_through(Problem(cut, robot, start, goal)) for start, goal in ways)


def _standing(costmap: CostMap, robot: Robot, neck: NDArray[np.int64], where: NDArray[np.bool_]) -> NDArray[np.float64]:
    """Return a pose on one side of a neck, facing it, with the most room and then the nearest; empty if none."""
    cells = np.argwhere(where)
    roomy = robot.body.outer_radius + costmap.grid.cell_size
    away = np.hypot(*(cells - neck).T) * costmap.grid.cell_size
    cells, away = cells[away < BESIDE], away[away < BESIDE]
    order = np.lexsort([away, -np.minimum(costmap.clearance[tuple(cells.T)], roomy)])[:MOST_STANDING]
    points, middle = costmap.grid.points_of(cells[order]), costmap.grid.points_of(neck[None])[0]
    towards = middle - points
    poses = np.column_stack([points, np.arctan2(towards[:, 1], towards[:, 0])])
    fitting = poses[BodyCheck(costmap, robot).touched(poses) < 0] if len(poses) else poses
    return fitting[0] if len(fitting) else np.zeros(0)


def _comes_through(problem: Problem) -> bool:
    """Tell whether a way is found that the whole body can drive: on lines, or else on arcs."""
    for method in ("a-star", "lattice") if problem.turns_on_the_spot else ("lattice",):
        way = find_way(problem, method, TRYING, 0)
        if len(way.poses) and problem.check.touched_along(way.poses) is None:
            return True
    return False


def _decides(costmap: CostMap, place: NarrowPlace, sides: NDArray[np.int64]) -> str:
    if place.passes:
        return "costs.comfort and costs.contact_price decide its price"
    if place.width > place.needed + 2.0 * costmap.grid.cell_size:
        return "it is wide enough, but beside it there is no room to turn into it"
    if "map" in place.closed_by and any(costmap.grid.unknown[tuple(cell)] for cell in sides):
        return "unknown floor beside it: costs.unknown decides, or mapping it once more"
    others = [name for name in place.closed_by if name != "map"]
    if others:
        return f"the layer {others[0]!r} decides, which closes a side of it"
    short = 100.0 * (place.needed - place.width)
    if short >= 0.5:
        return f"body.outline decides: it is {short:.0f} cm too wide"
    return f"the map's cell of {costmap.grid.cell_size:g} m decides: there is none to spare beside the body"
