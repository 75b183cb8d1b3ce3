"""The health report of a recorded run."""

from vinecompass.health.check import check
from vinecompass.health.findings import Finding, FrameLink, Health, StreamHealth

__all__ = ["Finding", "FrameLink", "Health", "StreamHealth", "check"]
