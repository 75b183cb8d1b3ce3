"""The pose graph: poses linked by what was measured between them, and the poses that fit all links best."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy import sparse
from scipy.sparse.csgraph import dijkstra

from vinecompass.geometry import (
    compose,
    compose_covariances,
    inverse,
    inverse_covariance,
    relative,
    wrap_angle,
)
from vinecompass.mapping.link_fit import MeasuredLinks, best_poses, factors_of

__all__ = ["AGREES", "BELIEVED", "Link", "PoseGraph"]

FloatArray = NDArray[np.float64]
BELIEVED = 16.0
"""Normalised squared error of a loop at which it counts a quarter: beyond, it is on its way out."""
LEAST_WEIGHT = 0.25
RELAXING = 1.5
"""How much stricter each round of the graduated optimisation is than the one before. Twice as strict, a fifth
of 270 loops that were false moved the map of an estate by up to a third of what the true ones correct."""
MOST_STEPS = 30
AGREES = 7.8
"""Normalised squared error, of three degrees of freedom, that one true loop in twenty is beyond."""
INVERTED_AT_ONCE = 100
"""Poses whose covariances are asked for together: so many columns of the inverse are held."""


@dataclass(frozen=True)
class Link:
    """What was measured between two poses.

    Parameters
    ----------
    origin, target : int
        The numbers of the poses.
    pose : array, (3,)
        The target's pose in the frame of the origin, m and radians.
    information : array, (3, 3)
        Inverse of the measurement's covariance.
    is_loop : bool
        Whether the link may be wrong altogether, as a place taken for another is.
    is_whole : bool
        Whether it measures all of the pose: a loop along plain walls does not.
    """

    origin: int
    target: int
    pose: FloatArray
    information: FloatArray
    is_loop: bool
    is_whole: bool = True


@dataclass(frozen=True)
class _Ride:
    """That a pose is fixed in the frame of another, where ``pose`` is, with the covariance of that."""

    by: int
    pose: FloatArray
    covariance: FloatArray


class PoseGraph:
    """Poses in the plane and the links between them; the first pose stays where it is.

    A pose may be let ride on another, of the same place: so a graph stays small where a robot drives on known floor.

    Attributes
    ----------
    poses : array, (N, 3)
    links : list of Link
    weights : array, (links,)
        How much each link counted in the last optimisation: 1, or less for a loop that contradicts the rest.

    Notes
    -----
    Nonlinear least squares over poses (Lu and Milios, 1997; Grisetti, Kuemmerle, Stachniss and Burgard, 2010, "A
    tutorial on graph-based SLAM") by Levenberg and Marquardt's method. Loops have a Geman-McClure loss that begins
    wide and is narrowed step by step, so that false ones fall out (Yang, Antonante, Tzoumas and Carlone, 2020,
    "Graduated non-convexity for robust spatial perception").

    Examples
    --------
    >>> graph = PoseGraph([0.0, 0.0, 0.0])
    >>> for _ in range(2):
    ...     graph.extend([1.0, 0.0, 0.0], np.eye(3) * 100.0)
    >>> graph.close(0, 2, [2.03, 0.0, 0.0], np.eye(3) * 100.0)
    >>> graph.optimize()
    >>> graph.poses.round(3).tolist()
    [[0.0, 0.0, 0.0], [1.01, 0.0, 0.0], [2.02, 0.0, 0.0]]
    """

    def __init__(self, first: ArrayLike) -> None:
        self.poses: FloatArray = np.asarray(first, dtype=float)[None]
        self.links: list[Link] = []
        self.weights: FloatArray = np.zeros(0)
        self._rides: dict[int, _Ride] = {}
        self._free = np.zeros(1, int)
        """The numbers of the poses that ride on no other."""

    def extend(self, pose: ArrayLike, information: ArrayLike) -> None:
        """Add a pose, seen from the last one."""
        self._link(len(self.poses) - 1, len(self.poses), pose, information, is_loop=False)
        self._free = np.append(self._free, len(self.poses))
        self.poses = np.vstack([self.poses, compose(self.poses[-1], pose)])

    def close(
        self, origin: int, target: int, pose: ArrayLike, information: ArrayLike, *, is_whole: bool = True
    ) -> None:
        """Add a loop: the pose `target`, seen from `origin`; see `Link` for what it may be."""
        self._link(origin, target, pose, information, is_loop=True, is_whole=is_whole)

    def place(self, number: int, pose: ArrayLike) -> None:
        """Move a pose, and all after it as one, to where it was recognised, and let the link to it say the same."""
        moved = compose(np.asarray(pose, dtype=float), relative(self.poses[number:], self.poses[number]))
        self.poses = np.vstack([self.poses[:number], moved])
        for k, link in enumerate(self.links):
            if link.target == number and not link.is_loop:
                self.links[k] = replace(link, pose=relative(self.poses[number], self.poses[link.origin]))

    def _link(
        self,
        origin: int,
        target: int,
        pose: ArrayLike,
        information: ArrayLike,
        *,
        is_loop: bool,
        is_whole: bool = True,
    ) -> None:
        measured, weight = np.asarray(pose, dtype=float), np.asarray(information, dtype=float)
        self.links.append(Link(origin, target, measured, weight, is_loop, is_whole))
        self.weights = np.append(self.weights, 1.0)

    @property
    def rides(self) -> NDArray[np.bool_]:
        """Whether each pose ``(N,)`` rides on another."""
        return np.isin(np.arange(len(self.poses)), self._free, invert=True)

    def agreeing(self, number: int) -> list[Link]:
        """Return the loops from other poses to one that measure all of it and agree with the rest, the surest first."""
        squares = self._measured_links().squares(self.poses[self._free])
        found = [
            link
            for link, squared in zip(self.links, squares.tolist(), strict=True)
            if link.target == number and link.is_loop and link.is_whole and squared < AGREES
        ]
        return sorted(found, key=lambda link: -float(np.linalg.slogdet(link.information)[1]))

    def carry(self, loop: Link) -> None:
        """Let the target of a loop ride on its origin from now on, where it lies in its frame now.

        Its links become links of the origin, and what several say of the same two poses becomes one link: so the
        graph stays as sparse as it was, and hardly anything of what was measured is lost (Kretzschmar and Stachniss,
        2012, "Information-theoretic compression of pose graphs", keep it sparse by a tree).
        """
        ride = _Ride(
            loop.origin, relative(self.poses[loop.target], self.poses[loop.origin]), _inverse(loop.information)
        )
        self._rides[loop.target] = ride
        self._free = self._free[self._free != loop.target]
        links: dict[frozenset[int], tuple[Link, float]] = {}
        for link, weight in zip(self.links, self.weights.tolist(), strict=True):
            if loop.target in (link.origin, link.target):
                link = _transferred(link, loop.target, ride)
            ends = frozenset((link.origin, link.target))
            if ends in links:
                links[ends] = _joined(links[ends][0], link), links[ends][1]
            elif len(ends) == 2:
                links[ends] = link, weight
        self.links = [link for link, _ in links.values()]
        self.weights = np.array([weight for _, weight in links.values()])

    @property
    def counting_loops(self) -> list[int]:
        """The numbers of the links that are loops and were not outweighed by the rest."""
        return [k for k, link in enumerate(self.links) if link.is_loop and self.weights[k] > LEAST_WEIGHT]

    def ways(self, origin: int, lengths: ArrayLike, loop_length: float) -> FloatArray:
        """Return the shortest way ``(N,)`` from a pose to every other; two poses have one loop between them at most.

        From a pose to the one that it rides on it is as long as a loop.

        Parameters
        ----------
        origin : int
        lengths : array_like, (N - 1,)
            Between each pose and the next, m.
        loop_length : float
            Of a loop that counts and measures all of the pose, m.
        """
        loops = [(self.links[k].origin, self.links[k].target) for k in self.counting_loops if self.links[k].is_whole]
        loops += [(ride.by, number) for number, ride in self._rides.items()]
        steps = np.arange(len(self.poses) - 1)
        rows = np.concatenate([steps, [pair[0] for pair in loops]]).astype(int)
        columns = np.concatenate([steps + 1, [pair[1] for pair in loops]]).astype(int)
        values = np.concatenate([np.asarray(lengths, dtype=float), np.full(len(loops), loop_length)])
        table = sparse.coo_matrix((values, (rows, columns)), shape=(len(self.poses), len(self.poses)))
        return np.asarray(dijkstra(table.tocsr(), directed=False, indices=[origin]))[0]

    def covariances(self) -> FloatArray:
        """Return the covariance ``(N, 3, 3)`` of each pose's x, y and heading beside the first, m2, m rad and rad2."""
        result = np.zeros((len(self.poses), 3, 3))
        if not self.links:
            return result
        poses = self.poses[self._free]
        matrix, _ = self._measured_links().weighted(self.weights).normal_equations(poses)
        factors = factors_of(matrix)
        for first in range(1, len(poses), INVERTED_AT_ONCE):
            numbers = np.arange(first, min(first + INVERTED_AT_ONCE, len(poses)))
            rows = 3 * (numbers[:, None] - 1) + np.arange(3)
            right = np.zeros((matrix.shape[0], rows.size))
            right[rows.ravel(), np.arange(rows.size)] = 1.0
            columns = factors.solve(right).reshape(-1, len(numbers), 3)
            result[self._free[numbers]] = columns[rows, np.arange(len(numbers))[:, None]]
        for number, ride in self._rides.items():
            result[number] = compose_covariances(self.poses[ride.by], ride.pose, result[ride.by], ride.covariance)
        return result

    def optimize(self) -> None:
        """Move the poses to where the links fit best, and weigh the loops."""
        if not self.links:
            return
        is_loop = np.array([link.is_loop for link in self.links])
        links, poses = self._measured_links(), self.poses[self._free]
        # Wide enough for the worst loop to begin with, as if all were true; then narrower and narrower. One that the
        # rest outweighed before is given another hearing only where a new one contradicts the rest as well.
        counts, squares = is_loop & (self.weights > LEAST_WEIGHT), links.squares(poses)
        width = max(1.0, 2.0 * float(np.max(squares[counts], initial=0.0)) / BELIEVED)
        while True:
            bound = width * BELIEVED
            self.weights = np.where(is_loop, (bound / (bound + squares)) ** 2, 1.0)
            # On the way to the last round a step is enough: the next one weighs the loops anew.
            poses = best_poses(links.weighted(self.weights), poses, most_steps=MOST_STEPS if width == 1.0 else 1)
            if width == 1.0:
                break
            width, squares = max(1.0, width / RELAXING), links.squares(poses)
        self.poses = self.poses.copy()
        self.poses[self._free] = poses
        for number, ride in self._rides.items():
            self.poses[number] = compose(self.poses[ride.by], ride.pose)

    def _measured_links(self) -> MeasuredLinks:
        """Return the links, with origin and target counted among the poses that ride on no other."""
        return MeasuredLinks(
            np.searchsorted(self._free, [link.origin for link in self.links]),
            np.searchsorted(self._free, [link.target for link in self.links]),
            np.array([link.pose for link in self.links]),
            np.array([link.information for link in self.links]),
        )


def _transferred(link: Link, number: int, ride: _Ride) -> Link:
    """Return a link of a pose as one from the pose that it rides on."""
    if link.target == number:
        link = _reversed(link)
    pose = compose(ride.pose, link.pose)
    covariance = compose_covariances(ride.pose, link.pose, ride.covariance, np.linalg.inv(link.information))
    return replace(link, origin=ride.by, pose=pose, information=_inverse(covariance))


def _inverse(matrix: FloatArray) -> FloatArray:
    return np.asarray(np.linalg.inv(matrix))


def _reversed(link: Link) -> Link:
    """Return a link the other way round."""
    covariance = inverse_covariance(link.pose, np.linalg.inv(link.information))
    return replace(
        link,
        origin=link.target,
        target=link.origin,
        pose=inverse(link.pose),
        information=_inverse(covariance),
    )


def _joined(kept: Link, other: Link) -> Link:
    """Return what two links between the same poses say together.

    If they contradict each other, one alone: that which is no loop, or else the first.
    """
    if other.origin != kept.origin:
        other = _reversed(other)
    off = other.pose - kept.pose
    off[2] = wrap_angle(off[2])
    both = np.linalg.inv(kept.information) + np.linalg.inv(other.information)
    if off @ np.linalg.solve(both, off) > AGREES:
        return other if kept.is_loop and not other.is_loop else kept
    information = kept.information + other.information
    pose = kept.pose + np.linalg.solve(information, other.information @ off)
    return replace(
        kept,
        pose=pose,
        information=information,
        is_loop=kept.is_loop and other.is_loop,
        is_whole=kept.is_whole or other.is_whole,
    )
