"""Poses that have names, as files that a person writes hold them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from vinecompass.files import Model, Number

__all__ = ["NamedPose"]


class NamedPose(Model):
    """A pose in the site frame with a name: a ``[[stop]]`` of a site, a ``[[dock]]`` of the settings."""

    name: str = Field(description="a name")
    pose: tuple[Number, Number, Number] = Field(description="[x, y, heading_deg] in the site frame")

    @property
    def site_pose(self) -> NDArray[np.float64]:
        """The pose ``(3,)``, m and radians."""
        x, y, heading_deg = self.pose
        return np.array([x, y, np.radians(heading_deg)])
