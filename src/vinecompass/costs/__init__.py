"""What the floor costs, and where the body fits."""

from vinecompass.costs.body_check import BodyCheck, body_clearance, body_touches, standing_robot, touches_on_the_way
from vinecompass.costs.costmap import Charge, CostMap, PricedFloor, price_floor, price_stack
from vinecompass.costs.costmap_files import write_costmap
from vinecompass.costs.fall import FALLS, ClearanceLayer, price_at_gap
from vinecompass.costs.layers import Layer, MapLayer, PointsLayer, ZoneLayer, one_way_headings
from vinecompass.costs.live_costs import LiveCosts
from vinecompass.costs.live_obstacles import LiveObstacles
from vinecompass.costs.passing import OTHER_SIDE, Side, side_with_room
from vinecompass.costs.people import PeopleLayer

__all__ = [
    "FALLS",
    "OTHER_SIDE",
    "BodyCheck",
    "Charge",
    "ClearanceLayer",
    "CostMap",
    "Layer",
    "LiveCosts",
    "LiveObstacles",
    "MapLayer",
    "PeopleLayer",
    "PointsLayer",
    "PricedFloor",
    "Side",
    "ZoneLayer",
    "body_clearance",
    "body_touches",
    "one_way_headings",
    "price_at_gap",
    "price_floor",
    "price_stack",
    "side_with_room",
    "standing_robot",
    "touches_on_the_way",
    "write_costmap",
]
