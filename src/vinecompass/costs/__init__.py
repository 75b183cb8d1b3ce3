"""Floor 2: what the floor costs, and where the body fits."""

from vinecompass.costs.body_check import body_clearance, body_touches
from vinecompass.costs.costmap import CostMap, CostSettings, price_floor
from vinecompass.costs.costmap_files import write_costmap
from vinecompass.costs.layers import ClearanceLayer, Layer, MapLayer, ZoneLayer

__all__ = [
    "ClearanceLayer", "CostMap", "CostSettings", "Layer", "MapLayer", "ZoneLayer",
    "body_clearance", "body_touches", "price_floor", "write_costmap",
]  # fmt: skip
