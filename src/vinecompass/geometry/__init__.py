"""Floor 0: poses, frames and angles."""

from vinecompass.geometry.polylines import distance_along, resample_polyline
from vinecompass.geometry.poses import (
    arc,
    arc_velocity,
    chain,
    compose,
    interpolate_poses,
    inverse,
    relative,
    transform_points,
    wrap_angle,
    wrap_heading,
)

__all__ = [
    "arc", "arc_velocity", "chain", "compose", "distance_along", "interpolate_poses", "inverse",
    "relative", "resample_polyline", "transform_points", "wrap_angle", "wrap_heading",
]  # fmt: skip
