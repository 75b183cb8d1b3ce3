"""Floor 3: motion from all sensors together, and the mounts and scales that fit it best."""

from vinecompass.fusion.fuse import Fused, cleaned, fuse
from vinecompass.fusion.odometry_fusion import OdometryFusion, SourceReport
from vinecompass.fusion.settings import FusionSettings

__all__ = ["Fused", "FusionSettings", "OdometryFusion", "SourceReport", "cleaned", "fuse"]
