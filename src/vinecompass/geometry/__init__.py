"""Poses, frames and angles."""

from vinecompass.geometry.chances import chi_square_bound
from vinecompass.geometry.checks import check_length, checked_points, checked_pose
from vinecompass.geometry.polylines import distance_along, polyline_headings, resample_polyline, rounded_polyline
from vinecompass.geometry.poses import (
    COVARIANCE_PARTS,
    arc,
    arc_velocity,
    chain,
    compose,
    compose_covariances,
    covariances_of,
    interpolate_poses,
    inverse,
    inverse_covariance,
    relative,
    transform_points,
    turn_on_the_spot,
    wrap_angle,
    wrap_heading,
)
from vinecompass.geometry.surfaces import oriented_points, transform_oriented

__all__ = [
    "COVARIANCE_PARTS",
    "arc",
    "arc_velocity",
    "chain",
    "check_length",
    "checked_points",
    "checked_pose",
    "chi_square_bound",
    "compose",
    "compose_covariances",
    "covariances_of",
    "distance_along",
    "interpolate_poses",
    "inverse",
    "inverse_covariance",
    "oriented_points",
    "polyline_headings",
    "relative",
    "resample_polyline",
    "rounded_polyline",
    "transform_oriented",
    "transform_points",
    "turn_on_the_spot",
    "wrap_angle",
    "wrap_heading",
]
