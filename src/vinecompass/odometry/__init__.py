"""Floor 2: motion from the wheels or an odometry stream, and scans straightened by it."""

from vinecompass.odometry.dead_reckoning import dead_reckon, odometry_track
from vinecompass.odometry.deskew import deskewed_ends, deskewed_hits
from vinecompass.odometry.motion import Motion, motion_at

__all__ = ["Motion", "dead_reckon", "deskewed_ends", "deskewed_hits", "motion_at", "odometry_track"]
