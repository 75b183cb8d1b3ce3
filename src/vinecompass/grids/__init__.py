"""Floor 1: occupancy grids, their files, ray integration and clearance."""

from vinecompass.grids.beam_grid import BeamGrid, Beams, SensorModel
from vinecompass.grids.clearance import clearance, likelihood_field
from vinecompass.grids.grid import DECIDED, Grid
from vinecompass.grids.map_files import read_map, write_map
from vinecompass.grids.zones import Zone, cells_inside, read_zones

__all__ = [
    "DECIDED", "BeamGrid", "Beams", "Grid", "SensorModel", "Zone", "cells_inside", "clearance", "likelihood_field",
    "read_map", "read_zones", "write_map",
]  # fmt: skip
