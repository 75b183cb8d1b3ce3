"""How a scan agrees with the map from a pose, beam by beam: which beams do not, and where."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.sparse.csgraph import connected_components
from scipy.spatial import KDTree

from vinecompass.geometry import transform_points
from vinecompass.grids import Grid, MapRays
from vinecompass.localization.kernels import AGREES, PASSES, SHORT, UNMAPPED, judge_beams

__all__ = ["Disagreement", "ScanAgreement", "ScanJudge"]

FloatArray = NDArray[np.float64]
PASSED_BY = 0.5
"""Metres that a beam goes on behind a mapped wall before it counts as having passed it: beams along a wall graze it."""
HAS_A_SAY = 0.5
"""Share of the beams that must end where the map knows something, or it has no say on the whole scan."""
TOGETHER = 0.5
"""Metres within which ends that disagree are told of as one place."""
WORDS = {PASSES: "pass mapped walls", SHORT: "end on nothing mapped"}


@dataclass(frozen=True)
class Disagreement:
    """A place where beams disagree with the map.

    Parameters
    ----------
    place : array, (2,)
        The middle of their ends in the site frame, m.
    beams : int
        How many they are.
    kind : str
        What they do.
    """

    place: FloatArray
    beams: int
    kind: str

    def __str__(self) -> str:
        return f"{self.beams} beams {self.kind} about {self.place[0]:.1f}, {self.place[1]:.1f}"


@dataclass(frozen=True)
class ScanAgreement:
    """How a scan agrees with the map from a pose.

    Parameters
    ----------
    share : float
        Share of the beams that agree, 0 to 1, of those that returned and ended where the map knows something:
        about the share of what is seen that stands as it did when the map was made. `nan` if these are less than half
        of them.
    ends : array, (N, 2)
        Where the returning beams ended, in the site frame, m.
    verdicts : array, (N,), int8
        Of each: 0 it agrees, 1 it passes a mapped wall, 2 it ends on free floor, 3 it ends where nothing is known.
    """

    share: float
    ends: FloatArray
    verdicts: NDArray[np.int8]

    @property
    def disagreements(self) -> list[Disagreement]:
        """The places where three beams or more disagree, those of most beams first."""
        found = []
        for kind, words in WORDS.items():
            ends = self.ends[self.verdicts == kind]
            if len(ends) < 3:
                continue
            near = KDTree(ends).sparse_distance_matrix(KDTree(ends), TOGETHER, output_type="coo_matrix")
            count, labels = connected_components(near, directed=False)
            for k in range(count):
                group = ends[labels == k]
                if len(group) >= 3:
                    found.append(Disagreement(group.mean(axis=0), len(group), words))
        return sorted(found, key=lambda one: -one.beams)


class ScanJudge:
    """Judges scans by a map.

    Parameters
    ----------
    grid : Grid
    rays : MapRays
        Of the same map.
    near : float
        Metres from a mapped wall within which a beam's end agrees.
    """

    def __init__(self, grid: Grid, rays: MapRays, *, near: float) -> None:
        self._unknown = grid.unknown
        self._rays = rays
        self._scale = 1.0 / grid.cell_size
        self._near = near * self._scale

    def verdicts(self, pose: FloatArray, origins: FloatArray, ends: FloatArray) -> NDArray[np.int8]:
        """Return the verdict on each beam ``(N,)``, from `origins` to `ends` ``(N, 2)`` in the body frame, m."""
        return np.asarray(
            judge_beams(
                self._rays.distance,
                self._unknown,
                self._rays.to_cells(pose),
                origins * self._scale,
                ends * self._scale,
                self._near,
                PASSED_BY * self._scale,
            )
        )

    def judge(self, pose: FloatArray, origins: FloatArray, ends: FloatArray) -> ScanAgreement:
        """Return how beams from `origins` to `ends` ``(N, 2)``, in the body frame, m, agree from a pose ``(3,)``."""
        verdicts = self.verdicts(pose, origins, ends)
        return ScanAgreement(agreeing_share(verdicts), transform_points(pose, ends), verdicts)


def agreeing_share(verdicts: NDArray[np.int8]) -> float:
    """Return the share of beams that agree, of those the map has a say on; `nan` if these are less than half."""
    counts = np.bincount(verdicts, minlength=4).tolist()
    known = len(verdicts) - counts[UNMAPPED]
    return counts[AGREES] / known if known > 0 and known >= HAS_A_SAY * len(verdicts) else float("nan")
