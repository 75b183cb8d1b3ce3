"""Motion from the wheels, an odometry stream or the scans alone, and scans straightened by it."""

from vinecompass.odometry.dead_reckoning import dead_reckon, odometry_track, turned_by_gyro, wheel_ways
from vinecompass.odometry.deskew import (
    believed_ranges,
    deskewed_ends,
    deskewed_hits,
    returned_beams,
    straightened_beams,
)
from vinecompass.odometry.laser_odometry import LaserOdometry, ScanMotion, laser_track, track_of
from vinecompass.odometry.motion import BodyVelocity, SweepMotion, motion_at, motions, swept_scans
from vinecompass.odometry.scan_motion import ScanMotionWatch, contradictions_of_scans

__all__ = [
    "BodyVelocity",
    "LaserOdometry",
    "ScanMotion",
    "ScanMotionWatch",
    "SweepMotion",
    "believed_ranges",
    "contradictions_of_scans",
    "dead_reckon",
    "deskewed_ends",
    "deskewed_hits",
    "laser_track",
    "motion_at",
    "motions",
    "odometry_track",
    "returned_beams",
    "straightened_beams",
    "swept_scans",
    "track_of",
    "turned_by_gyro",
    "wheel_ways",
]
