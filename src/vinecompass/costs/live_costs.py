"""The costmap in the loop: each scan re-prices the floor about what has changed, not the site."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.contact import Walking
from vinecompass.costs.costmap import people_layer, price_floor, with_people
from vinecompass.costs.fall import ClearanceLayer
from vinecompass.costs.gone import GoneWalls
from vinecompass.costs.layers import Layer
from vinecompass.costs.live_obstacles import LiveObstacles
from vinecompass.door import checked
from vinecompass.geometry import inverse, transform_points
from vinecompass.grids import Beams, Grid, Zone, clearance
from vinecompass.robot import Robot
from vinecompass.settings import CostSettings

__all__ = ["LiveCosts", "Window"]

Window = tuple[slice, slice]
PERSON_SLACK = 0.25
"""Metres about a person in which what a scan hits belongs to that person: the scan is a moment old."""
NO_WINDOW = (slice(0, 0), slice(0, 0))


class LiveCosts:
    """A costmap kept up to date with what the scanners see and where people walk.

    Map, zones and the user's own layers are charged once. A scan enters and erases obstacles in a window about the
    robot; what changed, and the floor within the clearance layer's reach of it, is priced anew. Prices and forbidden
    cells are always those that `price_floor` would give; so are clearances, up to that reach.

    Parameters
    ----------
    grid : Grid
    robot : Robot
    zones : sequence of Zone
    extra_layers : sequence of Layer
        The user's own.
    settings : CostSettings, optional

    Attributes
    ----------
    costmap : CostMap
        Whose arrays change in place with every call.
    obstacles : LiveObstacles
    """

    @checked
    def __init__(
        self,
        grid: Grid,
        robot: Robot,
        *,
        zones: Sequence[Zone] = (),
        extra_layers: Sequence[Layer] = (),
        settings: CostSettings | None = None,
    ) -> None:
        s = self._settings = settings or CostSettings()
        self._grid = grid
        self._robot = robot
        self.obstacles = LiveObstacles(grid, apart=s.obstacle_apart, memory=s.obstacle_memory, reach=s.obstacle_reach)
        costmap = price_floor(grid, robot, zones=zones, obstacles=self.obstacles, extra_layers=extra_layers, settings=s)
        self.costmap = with_people(costmap, robot, (), s)
        self._gone = GoneWalls(grid)
        self._unchanging = [name for name in costmap.layers if name not in ("obstacles", "clearance")]
        self._base = np.prod([costmap.layers[name] for name in self._unchanging], axis=0, dtype=np.float32)
        self._closed = np.isinf(self._base)
        body = robot.body
        self._people_windows: list[Window] = []
        self._reach = max(body.inner_radius + s.comfort, body.outer_radius) + 2.0 * grid.cell_size

    def see(
        self, t: float, pose: ArrayLike, beams: Beams, sensor: str = "scans", people: Sequence[Walking] = ()
    ) -> Window:
        """Take in a scan's beams, from a body at a pose ``(3,)`` in the site frame.

        What is seen of people who walk is no obstacle: where they are now, they will not be when the robot gets there.
        What is seen of those who stand is forgotten soon: they may walk away while the robot looks elsewhere.

        Returns
        -------
        rows, columns : slice
            The cells whose prices may have changed; empty slices if none has.
        """
        walkers, standers = (
            _end_on(beams, pose, [each for each in people if each.walks == walks]) for walks in (True, False)
        )
        seen = replace(beams, hit=beams.hit & ~walkers)
        return self._take_up(*self.obstacles.see(t, pose, seen, sensor, brief=standers))

    def open_what_is_gone(self, t: float, pose: ArrayLike, beams: Beams) -> NDArray[np.float64]:
        """Open what the map closes and a scan's beams pass, as often before; what stands there now closes it.

        Parameters
        ----------
        t : float
            Now, s.
        pose : array_like, (3,)
            Of the body, in the site frame; it must be sure.
        beams : Beams

        Returns
        -------
        array, (N, 2)
            The centres of the cells opened, in the site frame, m.
        """
        cells = self._gone.see(t, np.asarray(pose, dtype=float), beams)
        if len(cells) > 0:
            where = tuple(cells.T)
            layers = self.costmap.layers
            layers["map"][where] = 1.0
            self._base[where] = np.prod([layers[name][where] for name in self._unchanging], axis=0, dtype=np.float32)
            self._closed[where] = np.isinf(self._base[where])
            self.obstacles.open(self._gone.mask)
            self._take_up(cells.min(axis=0), cells.max(axis=0) + 1)
        return self._grid.points_of(cells)

    def may_be_gone(self, x: float, y: float) -> bool:
        """Tell whether beams begin to pass what the map has about a point, in the site frame, m."""
        return self._gone.in_doubt(x, y)

    def forget(self) -> Window:
        """Forget all obstacles, as where the robot was elsewhere all along. Returns the cells priced anew."""
        return self._take_up(*self.obstacles.forget())

    def _take_up(self, first: NDArray[np.int64], last: NDArray[np.int64]) -> Window:
        """Close and open the cells of a window by what stands there now, and price them."""
        if np.any(first >= last):
            return NO_WINDOW
        changed = np.s_[first[0] : last[0], first[1] : last[1]]
        stands = self.obstacles.mask[changed]
        self.costmap.layers["obstacles"][changed] = np.where(stands, np.inf, 1.0)
        self.costmap.forbidden[changed] = self._closed[changed] | stands
        return self._price_anew(changed)

    def meet(self, people: Sequence[Walking]) -> Window:
        """Charge for people where they are now, and no longer where they were. Returns the cells priced anew."""
        layer = people_layer(self.costmap, self._robot, people, self._settings)
        factors = self.costmap.layers["people"]
        eggs = list(layer.eggs(self._grid))
        windows = self._people_windows + [window for window, _ in eggs]
        if not windows:
            return NO_WINDOW
        for window in self._people_windows:
            factors[window] = 1.0
        for window, egg in eggs:
            np.maximum(factors[window], egg, out=factors[window])
        self._people_windows = [window for window, _ in eggs]
        *lower, _, near = self.costmap.stack
        self.costmap = replace(self.costmap, stack=(*lower, layer, near))
        for window in windows:
            self._multiply(window)
        rows, columns = (
            slice(min(part.start for part in parts), max(part.stop for part in parts))
            for parts in zip(*windows, strict=True)
        )
        return rows, columns

    def _price_anew(self, changed: Window) -> Window:
        """Measure clearance within reach of changed cells, and price them."""
        window, source = self._widened(changed, 1), self._widened(changed, 2)
        rows, columns = source
        beyond = self.costmap.closed_beyond
        sides = (
            beyond and rows.start == 0,
            beyond and rows.stop == self._grid.shape[0],
            beyond and columns.start == 0,
            beyond and columns.stop == self._grid.shape[1],
        )
        distance = clearance(self.costmap.forbidden[source], self._grid.cell_size, closed_beyond=sides)
        inner = tuple(slice(w.start - s.start, w.stop - s.start) for w, s in zip(window, source, strict=True))
        near = replace(self._near, clearance=distance[inner])
        self.costmap.clearance[window] = near.clearance
        self.costmap.layers["clearance"][window] = near.charge(self._grid, self._robot)
        self._multiply(window)
        return window

    @property
    def _near(self) -> ClearanceLayer:
        layer = self.costmap.stack[-1]
        assert isinstance(layer, ClearanceLayer)
        return layer

    def _multiply(self, window: Window) -> None:
        layers = self.costmap.layers
        product = self._base[window] * layers["obstacles"][window]
        product *= layers["people"][window]
        product *= layers["clearance"][window]
        self.costmap.prices[window] = product

    def _widened(self, window: Window, times: int) -> Window:
        cells = times * int(np.ceil(self._reach / self._grid.cell_size))
        rows, columns = (
            slice(max(part.start - cells, 0), min(part.stop + cells, side))
            for part, side in zip(window, self._grid.shape, strict=True)
        )
        return rows, columns


def _end_on(beams: Beams, pose: ArrayLike, people: Sequence[Walking]) -> NDArray[np.bool_]:
    """Tell which beams end at one of some people."""
    on = np.zeros(len(beams.ends), bool)
    places = transform_points(inverse(pose), [(each.x, each.y) for each in people]) if people else np.zeros((0, 2))
    for person, (x, y) in zip(people, places.tolist(), strict=True):
        on |= np.hypot(beams.ends[:, 0] - x, beams.ends[:, 1] - y) < person.radius + PERSON_SLACK
    return on
