"""What a robot file says otherwise than a run does: the lidar's mount, the sizes of the wheels, the gyro's scale."""

from __future__ import annotations

import numpy as np

from vinecompass.fusion.calibrating.calibration import Calibration
from vinecompass.fusion.calibrating.estimated_value import EstimatedValue
from vinecompass.geometry import wrap_angle

__all__ = ["lidar_elsewhere", "turned_lidar", "wrong_gyro_scale", "wrong_sizes"]

MOUNT_TOLERANCE, HEADING_TOLERANCE, SIZE_TOLERANCE, GYRO_TOLERANCE = 0.04, np.radians(1.5), 0.03, 0.08
"""Metres, radians, and shares by which mounts, sizes and scales may differ from the robot file."""
SURE_ERRORS = 4.0
"""Standard errors that a difference must exceed as well."""


def turned_lidar(calibration: Calibration) -> str:
    """Return in a clause how the lidar looks another way than the robot file says; empty if it does not."""
    heading = calibration.values["mount_heading"]
    turned = float(wrap_angle(heading.value - heading.filed))
    if not _differs(turned, heading.error, HEADING_TOLERANCE):
        return ""
    return (
        f"it looks {np.degrees(turned):+.1f} +- {np.degrees(heading.error):.1f} degrees from where the robot file says"
    )


def lidar_elsewhere(calibration: Calibration) -> str:
    """Return in a clause how the lidar sits elsewhere than the robot file says; empty if it does not.

    Where the scans are mirrored, its place is not to be told.
    """
    x, y = calibration.values["mount_x"], calibration.values["mount_y"]
    elsewhere = any(_differs(each.value - each.filed, each.error, MOUNT_TOLERANCE) for each in (x, y))
    if calibration.mirrored or not elsewhere:
        return ""
    return (
        f"it sits {x.value - x.filed:+.3f} +- {x.error:.3f} m ahead and "
        f"{y.value - y.filed:+.3f} +- {y.error:.3f} m to the left of where the robot file says"
    )


def wrong_sizes(calibration: Calibration) -> dict[str, str]:
    """Return in a clause each how wheels are of another size, or farther apart, than the robot file says."""
    found = {}
    for key in ("wheel_radius", "track_width"):
        value = calibration.values.get(key)
        if value is not None and not calibration.mirrored and _differs_by_share(value, SIZE_TOLERANCE):
            found[key] = (
                f"{value.value:.4f} +- {value.error:.4f} m by the motion, the robot file says {value.filed:g} m"
            )
    return found


def wrong_gyro_scale(calibration: Calibration) -> str:
    """Return in a clause how the gyro reads more or less than the scans turn; empty if it does not."""
    scale = calibration.values.get("turn_rate_scale")
    if scale is None or calibration.mirrored or not _differs_by_share(scale, GYRO_TOLERANCE):
        return ""
    return (
        f"it reads {scale.value:.3f} +- {scale.error:.3f} of what the scans turn, the robot file says {scale.filed:g}"
    )


def _differs(off: float, error: float, tolerance: float) -> bool:
    return abs(off) > max(tolerance, SURE_ERRORS * error)


def _differs_by_share(value: EstimatedValue, tolerance: float) -> bool:
    return _differs(value.value / value.filed - 1.0, value.error / value.filed, tolerance)
