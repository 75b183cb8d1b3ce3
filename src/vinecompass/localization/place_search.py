"""Search of the whole map for the places where a scan fits."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vinecompass.door import checked
from vinecompass.geometry import compose, relative, wrap_angle
from vinecompass.grids import Grid, MapRays, likelihood_field, strongest
from vinecompass.localization.kernels import PASSES, UNMAPPED, choose_points, weigh_particles
from vinecompass.localization.measurement_model import bordered
from vinecompass.localization.scan_agreement import ScanJudge, agreeing_share
from vinecompass.matching import Candidate, PoseSearch
from vinecompass.odometry import returned_beams
from vinecompass.robot import Robot
from vinecompass.runs import Scan

__all__ = ["Place", "PlaceSearch", "distinct", "find_places"]

FloatArray = NDArray[np.float64]
COARSE_CELL, COARSE_SPREAD, FINE_SPREAD = 0.1, 0.15, 0.08
"""Metres: the cells searched, and the likelihood field's spread in the search and in the refinement after it."""
HEADING_STEP = np.radians(2.0)
ENDS_APART, MOST_ENDS = 0.3, 80
"""Of the ends in a square of this side, m, one is looked at, and so many in all."""
LEAST_FIT = 0.3
"""Below it, nothing fits."""
REFINEMENTS = ((0.05, np.radians(1.0)), (0.025, np.radians(0.33)))
"""Steps of the refinement, m and radians: two each way."""
OFFSETS = np.stack(np.meshgrid(*[np.arange(-2.0, 3.0)] * 3, indexing="ij"), axis=-1).reshape(-1, 3)
ONE_PLACE_WITHIN, ONE_PLACE_WITHIN_TURN = 0.5, 0.2
"""Metres and radians within which two places are one."""


@dataclass(frozen=True)
class Place:
    """A pose at which a scan fits the map.

    Parameters
    ----------
    pose : array, (3,)
        In the site frame, m and radians.
    fit : float
        How well the scan fits, 0 to 1: the mean likelihood of its ends, those where nothing is known counting half,
        times the share that pass no mapped wall.
    agreement : float
        Share of its beams that agree with the map, 0 to 1, as in `ScanAgreement`.
    """

    pose: FloatArray
    fit: float
    agreement: float

    def __str__(self) -> str:
        x, y, heading = self.pose
        return f"{x:.2f}, {y:.2f}, {round(float(np.degrees(heading)))} degrees"

    def is_near(self, pose: FloatArray, reach: float, turn: float) -> bool:
        """Tell whether a pose lies within so many metres and radians."""
        away = pose - self.pose
        return bool(np.hypot(away[0], away[1]) <= reach and abs(wrap_angle(away[2])) <= turn)

    def is_like(self, other: Place) -> bool:
        """Tell whether two places are one."""
        return self.is_near(other.pose, ONE_PLACE_WITHIN, ONE_PLACE_WITHIN_TURN)

    def times_better(self, other: Place) -> float:
        """Return how many times as well the scan fits here as at another place."""
        return self.fit / max(other.fit, 0.01)


def distinct(places: list[Place]) -> list[Place]:
    """Return places without those that are one with an earlier one."""
    kept: list[Place] = []
    for place in places:
        if not any(place.is_like(other) for other in kept):
            kept.append(place)
    return kept


@checked
def find_places(
    grid: Grid, robot: Robot, scan: Scan, *, sweep: FloatArray | None = None, share: float = 0.9, near: float = 0.18
) -> list[Place]:
    """Return all places on a map where a scan fits nearly as well as at the best one, the best first.

    Parameters
    ----------
    grid : Grid
    robot : Robot
    scan : Scan
    sweep : array, (beams, 3), optional
        The body's pose as each beam fired, seen from its pose at the stamp (see `SweepMotion`); standing still if not
        given.
    share : float
        Of the best one's fit, that the others must come up to.
    near : float
        Metres from a mapped wall within which a beam's end agrees.

    Returns
    -------
    list of Place
        None if the scan fits nowhere.

    Examples
    --------
    >>> from vinecompass import demo_file, grid_from_polygons, read_robot
    >>> robot = read_robot(demo_file("robot.toml"))
    >>> hall = grid_from_polygons([[0, 0], [9, 0], [9, 5], [6, 5], [6, 7], [0, 7]], [], 0.05)
    >>> seen = MapRays(hall).ranges([[3.42, 3.0, 0.0]], robot.scanner.beam_angles, farthest=16.0)[0]
    >>> [str(place) for place in find_places(hall, robot, Scan(0.0, seen))]
    ['3.00, 3.00, 0 degrees']
    """
    poses = np.zeros((robot.scanner.beams, 3)) if sweep is None else sweep
    rays = MapRays(grid)
    origins, ends = returned_beams(scan.ranges, robot.scanner, poses)
    return PlaceSearch(grid, rays, ScanJudge(grid, rays, near=near)).anywhere(origins, ends, share=share)


class PlaceSearch:
    """A map made ready to be searched.

    Parameters
    ----------
    grid : Grid
    rays : MapRays
        Of the same map.
    judge : ScanJudge
        Of the same map.
    """

    def __init__(self, grid: Grid, rays: MapRays, judge: ScanJudge) -> None:
        self._rays = rays
        self._judge = judge
        self._frame = grid.frame
        self._cell_size = grid.cell_size
        every = max(round(COARSE_CELL / grid.cell_size), 1)
        occupied, surface, free = (strongest(cells, every) for cells in (grid.occupied, rays.surface, grid.free))
        coarse = every * grid.cell_size
        self._floor = free & ~occupied
        self._search = PoseSearch(likelihood_field(surface, coarse, COARSE_SPREAD), coarse)
        self._fine = bordered(rays.likelihood_field(FINE_SPREAD), 0.0)

    def anywhere(
        self, origins: FloatArray, ends: FloatArray, *, share: float = 0.9, most_ends: int = MOST_ENDS
    ) -> list[Place]:
        """Return all places that fit nearly as well as the best one, the best first; none if nothing fits.

        Parameters
        ----------
        origins, ends : array, (N, 2)
            Of the beams, in the body frame, m.
        share : float
            Of the best one's fit, that the others must come up to.
        most_ends : int
            How many of the ends are looked at, at most.
        """
        chosen = choose_points(ends, ENDS_APART, most_ends)
        # The coarse cells blur how well a place fits: a little more is taken in, and judged on the fine map.
        found = self._search.find_all(
            ends[chosen],
            headings=np.arange(-np.pi, np.pi, HEADING_STEP),
            floor=self._floor,
            least=LEAST_FIT,
            share=share - 0.1,
        )
        ranked = sorted((self._refined(one, origins, ends, chosen) for one in found), key=lambda one: -one.fit)
        if not ranked or ranked[0].fit <= LEAST_FIT:
            return []
        return distinct(ranked[:1] + [place for place in ranked[1:] if place.fit > share * ranked[0].fit])

    def near(
        self,
        pose: FloatArray,
        origins: FloatArray,
        ends: FloatArray,
        *,
        reach: float,
        turn: float,
        most_ends: int = MOST_ENDS,
    ) -> Place:
        """Return the place that fits best within `reach` metres and `turn` radians of a pose ``(3,)``."""
        chosen = choose_points(ends, ENDS_APART, most_ends)
        local = relative(pose, self._frame)
        steps = int(np.ceil(min(turn, np.pi) / HEADING_STEP))
        found = self._search.find(
            ends[chosen],
            headings=local[2] + HEADING_STEP * np.arange(-steps, steps + 1),
            low=local[:2] - reach,
            high=local[:2] + reach,
        )
        return self._refined(found or Candidate(local, 0.0), origins, ends, chosen)

    def _refined(self, candidate: Candidate, origins: FloatArray, ends: FloatArray, chosen: NDArray[np.int64]) -> Place:
        few = ends[chosen]
        pose, fit = compose(self._frame, candidate.pose), 0.0
        for step, turn in REFINEMENTS:
            tried = pose + OFFSETS * [step, step, turn]
            fits = weigh_particles(self._fine, self._rays.to_cells(tried), few / self._cell_size)
            best = int(np.argmax(fits))
            pose, fit = tried[best], float(fits[best]) / len(few)
        pose[2] = wrap_angle(pose[2])
        verdicts = self._judge.verdicts(pose, origins, ends)
        passing, unmapped = (np.count_nonzero(verdicts[chosen] == kind) / len(few) for kind in (PASSES, UNMAPPED))
        return Place(pose, fit * (1.0 - passing) / (1.0 - 0.5 * unmapped), agreeing_share(verdicts))
