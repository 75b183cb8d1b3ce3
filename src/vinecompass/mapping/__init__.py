"""Maps from runs, and how true they are."""

from vinecompass.mapping.build_map import Mapping, build_map
from vinecompass.mapping.loop_closure import Loop
from vinecompass.mapping.mapper import Mapper
from vinecompass.mapping.pose_graph import Link, PoseGraph

__all__ = [
    "Link",
    "Loop",
    "Mapper",
    "Mapping",
    "PoseGraph",
    "build_map",
]
