"""Measurement models: how likely a scan is from each of many poses, and which of its beams are asked."""

from __future__ import annotations

from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from vinecompass.grids import Grid, MapRays, clearance
from vinecompass.localization.kernels import choose_points, weigh_by_beams, weigh_particles
from vinecompass.robot import Robot
from vinecompass.settings import LocalizationSettings

__all__ = [
    "BeamMixtureModel",
    "LikelihoodFieldModel",
    "MeasurementModel",
    "bordered",
    "choose_beams",
    "measurement_model",
]

FloatArray = NDArray[np.float64]
BEFORE, WITHIN = 0.2, 0.1
"""Metres before its end at which a beam must not be within something solid, and from free floor where that begins."""
POINTS_APART = 0.15
"""Metres. Of the points in a square of this side, one is weighed."""


class MeasurementModel(Protocol):
    """What a particle filter asks of a measurement model."""

    def log_likelihoods(self, poses: FloatArray, origins: FloatArray, ends: FloatArray) -> FloatArray:
        """Return for each pose ``(N,)`` the log of how likely beams from `origins` to `ends` ``(M, 2)`` are, summed.

        Poses ``(N, 3)`` are in the site frame, beams in the body frame, m.
        """


class LikelihoodFieldModel:
    """A beam is likely if it ends near a mapped wall, unless it came to its end through something solid.

    The far side of a crate is a wall as well; but no beam ends there from within. Whatever else it passed on its way
    does not count.

    Parameters
    ----------
    grid : Grid
    rays : MapRays
        Of the same map.
    spread : float
        Standard deviation of a beam's end about the wall, m.
    stray_share : float
        Share of beams that end on nothing mapped, people and moved things: an end in the open can make a pose no
        less likely than this.

    Notes
    -----
    Thrun, Burgard and Fox (2005), "Probabilistic Robotics", section 6.4.
    """

    def __init__(self, grid: Grid, rays: MapRays, *, spread: float, stray_share: float) -> None:
        self._rays = rays
        self._cell_size = grid.cell_size
        field = rays.likelihood_field(spread)
        stray = float(np.log(stray_share))
        self._log_field = bordered(np.log((1.0 - stray_share) * field + stray_share), stray)
        within = grid.occupied & (clearance(grid.free, grid.cell_size) > WITHIN)
        self._from_within = bordered(np.where(within, np.float32(stray), np.float32(0.0)), 0.0)

    def log_likelihoods(self, poses: FloatArray, origins: FloatArray, ends: FloatArray) -> FloatArray:
        """Return the log of how likely the beams are from each pose ``(N,)``, up to a constant."""
        cells = self._rays.to_cells(poses)
        way = ends - origins
        before = ends - BEFORE * way / np.maximum(np.hypot(way[:, :1], way[:, 1:]), BEFORE)
        on_walls = weigh_particles(self._log_field, cells, ends / self._cell_size)
        return np.asarray(on_walls + weigh_particles(self._from_within, cells, before / self._cell_size))


class BeamMixtureModel:
    """A beam is likely if it is as long as one cast into the map, or ended on something before, or anywhere.

    Parameters
    ----------
    grid : Grid
    rays : MapRays
        Of the same map.
    farthest : float
        The longest range that a beam can have, m.
    spread : float
        Standard deviation of a beam that hits the mapped wall, m.
    stray_share : float
        Share of beams that do not: three in four of them end on something before the wall.

    Notes
    -----
    Thrun, Burgard and Fox (2005), "Probabilistic Robotics", section 6.3. Many times as slow as the likelihood
    field; it knows that no beam passes a wall.
    """

    SHORT_OF_STRAYS = 0.75
    DECAY = 0.25
    """Per metre: how the chance that something unmapped ends a beam falls with the way."""

    def __init__(self, grid: Grid, rays: MapRays, *, farthest: float, spread: float, stray_share: float) -> None:
        self._rays = rays
        self._scale = 1.0 / grid.cell_size
        short = self.SHORT_OF_STRAYS * stray_share
        self._mixture = np.array([1.0 - stray_share, short, stray_share - short])
        self._spread = spread * self._scale
        self._decay = self.DECAY / self._scale
        self._farthest = farthest * self._scale

    def log_likelihoods(self, poses: FloatArray, origins: FloatArray, ends: FloatArray) -> FloatArray:
        """Return the log of how likely the beams are from each pose ``(N,)``, per cell of their length."""
        return np.asarray(
            weigh_by_beams(
                self._rays.distance,
                self._rays.to_cells(poses),
                origins * self._scale,
                ends * self._scale,
                self._mixture,
                self._spread,
                self._decay,
                self._farthest,
            )
        )


def measurement_model(grid: Grid, rays: MapRays, robot: Robot, settings: LocalizationSettings) -> MeasurementModel:
    """Return the measurement model that the settings name, for any of the robot's lidars."""
    s = settings
    # A stray share of nothing at all would make a single stray beam rule out every pose.
    stray = max(s.stray_share, 1e-3)
    if s.measurement == "beams":
        return BeamMixtureModel(grid, rays, farthest=robot.farthest, spread=s.field_spread, stray_share=stray)
    return LikelihoodFieldModel(grid, rays, spread=s.field_spread, stray_share=stray)


def bordered(field: NDArray[np.float32], outside: float) -> NDArray[np.float32]:
    """Return a field with one more cell on each side, as `weigh_particles` takes it."""
    return np.pad(field.astype(np.float32), 1, constant_values=np.float32(outside))


def choose_beams(ends: FloatArray, most: int) -> NDArray[np.int64]:
    """Return the indices of at most `most` of a scan's ends ``(N, 2)``, m, that together say the most about the pose.

    Most beams end on what is near: between two racks they would all but drown the few that see the aisle's end, and
    those alone tell how far along it the robot is. So ends are taken evenly over what was hit, not over the beams.
    Preferring rare directions of surface besides (normal-space sampling) was tried, and lost: in a plain aisle the
    rarest is a person walking ahead.
    """
    return np.asarray(choose_points(ends, POINTS_APART, most))
