"""Poses, frames and angles."""

from vinecompass.geometry.polylines import distance_along, polyline_headings, resample_polyline
from vinecompass.geometry.poses import (
    arc,
    arc_velocity,
    chain,
    compose,
    compose_covariances,
    interpolate_poses,
    inverse,
    relative,
    transform_points,
    turn_on_the_spot,
    wrap_angle,
    wrap_heading,
)

__all__ = [
    "arc",
    "arc_velocity",
    "chain",
    "compose",
    "compose_covariances",
    "distance_along",
    "interpolate_poses",
    "inverse",
    "polyline_headings",
    "relative",
    "resample_polyline",
    "transform_points",
    "turn_on_the_spot",
    "wrap_angle",
    "wrap_heading",
]
