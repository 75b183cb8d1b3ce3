"""The poses that fit measured links best: least squares over the errors of all links."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy import sparse
from scipy.sparse.linalg import SuperLU, splu

from vinecompass.geometry import wrap_angle

__all__ = ["MeasuredLinks", "best_poses", "factors_of"]

FloatArray = NDArray[np.float64]
FIRST_DAMPING, LEAST_DAMPING, MOST_DAMPING = 1e-6, 1e-9, 1e6
"""Share by which the diagonal is raised to begin with, at least, and at most."""
GAINED, GAINED_SHARE = 1e-6, 1e-4
"""By how much the cost must fall, and by what share, for another step to be worth it."""


@dataclass(frozen=True)
class MeasuredLinks:
    """What was measured between poses, link by link.

    Parameters
    ----------
    origin, target : array of int, (L,)
        Which of the poses each link is between.
    measured : array, (L, 3)
        The target's pose in the frame of the origin, m and radians.
    information : array, (L, 3, 3)
        Inverse of the measurement's covariance.
    """

    origin: NDArray[np.int64]
    target: NDArray[np.int64]
    measured: FloatArray
    information: FloatArray

    def weighted(self, weights: FloatArray) -> MeasuredLinks:
        """Return the same links, each with so much of its information ``(L,)``."""
        return replace(self, information=self.information * weights[:, None, None])

    def errors(self, poses: FloatArray) -> FloatArray:
        """Return by how much the links miss ``(L, 3)`` with poses ``(N, 3)``, each in its origin's frame."""
        _, _, ahead, left = self._seen_from_origins(poses)
        turned = poses[self.target, 2] - poses[self.origin, 2]
        measured = self.measured
        return np.column_stack([ahead - measured[:, 0], left - measured[:, 1], wrap_angle(turned - measured[:, 2])])

    def squares(self, poses: FloatArray) -> FloatArray:
        """Return the squares ``(L,)`` of the errors by what is expected of them."""
        errors = self.errors(poses)
        return np.asarray(np.einsum("li,lij,lj->l", errors, self.information, errors))

    def normal_equations(self, poses: FloatArray) -> tuple[sparse.csc_array, FloatArray]:
        """Return the matrix and the right side for the steps of all poses but the first, which is fixed."""
        jacobian = self._jacobian(poses)
        weighted = np.einsum("lij,lik->lkj", self.information, jacobian)
        blocks = weighted @ jacobian
        sides = -np.einsum("lkj,lj->lk", weighted, self.errors(poses))
        numbers = 3 * np.stack([self.origin, self.target], axis=1)[:, :, None] + np.arange(3)
        numbers = numbers.reshape(len(blocks), 6)
        size = 3 * len(poses)
        rows, columns = np.broadcast_arrays(numbers[:, :, None], numbers[:, None, :])
        matrix = sparse.coo_array((blocks.ravel(), (rows.ravel(), columns.ravel())), shape=(size, size)).tocsc()
        right = np.zeros(size)
        np.add.at(right, numbers.ravel(), sides.ravel())
        return matrix[3:, 3:], right[3:]

    def _jacobian(self, poses: FloatArray) -> FloatArray:
        """Return how the error of each link moves ``(L, 3, 6)`` with its origin, three columns, and its target."""
        cosine, sine, ahead, left = self._seen_from_origins(poses)
        jacobian = np.zeros((len(ahead), 3, 6))
        jacobian[:, 0, 3], jacobian[:, 0, 4] = cosine, sine
        jacobian[:, 1, 3], jacobian[:, 1, 4] = -sine, cosine
        jacobian[:, 2, 5] = 1.0
        jacobian[:, :, :3] = -jacobian[:, :, 3:]
        jacobian[:, 0, 2], jacobian[:, 1, 2] = left, -ahead
        return jacobian

    def _seen_from_origins(self, poses: FloatArray) -> tuple[FloatArray, FloatArray, FloatArray, FloatArray]:
        """Return the cosine and sine of each origin's heading ``(L,)``, and how far ahead and left the target is, m."""
        here, there = poses[self.origin], poses[self.target]
        cosine, sine = np.cos(here[:, 2]), np.sin(here[:, 2])
        dx, dy = there[:, 0] - here[:, 0], there[:, 1] - here[:, 1]
        return cosine, sine, cosine * dx + sine * dy, cosine * dy - sine * dx


def best_poses(links: MeasuredLinks, poses: FloatArray, *, most_steps: int) -> FloatArray:
    """Return the poses ``(N, 3)`` that fit links best, found from a guess in some steps; the first stays as it is.

    Notes
    -----
    Levenberg and Marquardt's method.
    """
    damping, cost = FIRST_DAMPING, float(np.sum(links.squares(poses)))
    for _ in range(most_steps):
        matrix, right = links.normal_equations(poses)
        while True:
            moved = poses.copy()
            moved[1:] += factors_of(_damped(matrix, damping)).solve(right).reshape(-1, 3)
            new_cost = float(np.sum(links.squares(moved)))
            if new_cost <= cost or damping > MOST_DAMPING:
                break
            damping *= 10.0
        poses, damping = moved, max(damping / 10.0, LEAST_DAMPING)
        gained, cost = cost - new_cost, new_cost
        if gained < GAINED_SHARE * cost + GAINED:
            break
    poses[1:, 2] = wrap_angle(poses[1:, 2])
    return poses


def factors_of(matrix: sparse.csc_array) -> SuperLU:
    """Return the factors of a sparse symmetric matrix."""
    return splu(matrix, permc_spec="MMD_AT_PLUS_A")


def _damped(matrix: sparse.csc_array, damping: float) -> sparse.csc_array:
    """Return a matrix whose diagonal is raised by a share."""
    columns = np.repeat(np.arange(matrix.shape[1]), np.diff(matrix.indptr))
    shares = np.where(matrix.indices == columns, 1.0 + damping, 1.0)
    return sparse.csc_array((matrix.data * shares, matrix.indices, matrix.indptr), shape=matrix.shape)
