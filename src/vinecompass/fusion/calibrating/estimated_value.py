"""A value that a run tells about its robot, and how well."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = ["EstimatedValue", "curvature_errors"]


@dataclass(frozen=True)
class EstimatedValue:
    """A value, its standard error, what the robot file says, and the standard error at which it is worth amending."""

    value: float
    error: float
    filed: float
    enough: float

    @property
    def known(self) -> bool:
        """Whether the run told enough to amend the file."""
        return self.error <= self.enough


def curvature_errors(jacobian: Any) -> NDArray[np.float64]:
    """Return standard errors for residuals that scatter by 1, from the curvature at the solution."""
    return np.sqrt(np.diag(np.linalg.pinv(np.asarray(jacobian.T @ jacobian))))
