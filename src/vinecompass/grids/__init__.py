"""Occupancy grids, their files, ray integration and clearance."""

from vinecompass.grids.beam_grid import BeamGrid, Beams, SensorModel
from vinecompass.grids.clearance import clearance, likelihood_field
from vinecompass.grids.editing import apply_edits
from vinecompass.grids.edits import (
    AddZone,
    Crop,
    Edit,
    Merge,
    Origin,
    Paint,
    Pockets,
    Resample,
    Specks,
    Turn,
    check_edits,
)
from vinecompass.grids.floor_plans import FloorPlan, grid_from_plan, read_floor_plan
from vinecompass.grids.grid import CLOSED_BY_HAND, DECIDED, Grid
from vinecompass.grids.making import grey_levels, grid_from_drawing, grid_from_picture, grid_from_polygons
from vinecompass.grids.map_doubt import MapDoubt
from vinecompass.grids.map_files import Making, MapRecord, check_map_name, read_map, read_map_record, write_map
from vinecompass.grids.map_rays import MapRays
from vinecompass.grids.open_edges import open_edges
from vinecompass.grids.resampling import in_frame, main_direction, overlaid, strongest
from vinecompass.grids.zones import Zone, cells_inside, read_zones, zone_cells

__all__ = [
    "CLOSED_BY_HAND",
    "DECIDED",
    "AddZone",
    "BeamGrid",
    "Beams",
    "Crop",
    "Edit",
    "FloorPlan",
    "Grid",
    "Making",
    "MapDoubt",
    "MapRays",
    "MapRecord",
    "Merge",
    "Origin",
    "Paint",
    "Pockets",
    "Resample",
    "SensorModel",
    "Specks",
    "Turn",
    "Zone",
    "apply_edits",
    "cells_inside",
    "check_edits",
    "check_map_name",
    "clearance",
    "grey_levels",
    "grid_from_drawing",
    "grid_from_picture",
    "grid_from_plan",
    "grid_from_polygons",
    "in_frame",
    "likelihood_field",
    "main_direction",
    "open_edges",
    "overlaid",
    "read_floor_plan",
    "read_map",
    "read_map_record",
    "read_zones",
    "strongest",
    "write_map",
    "zone_cells",
]
