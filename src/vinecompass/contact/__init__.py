"""The body against cells, points, segments and moving discs, at a pose and swept over a motion."""

from vinecompass.contact.shapes import OPEN_FLOOR, BodyShape, Cells, cells_shape_of, shape_of
from vinecompass.contact.sweep import first_run_into, runs_into, samples_of_sweep
from vinecompass.contact.walking import PERSON_RADIUS, Walking

__all__ = [
    "OPEN_FLOOR",
    "PERSON_RADIUS",
    "BodyShape",
    "Cells",
    "Walking",
    "cells_shape_of",
    "first_run_into",
    "runs_into",
    "samples_of_sweep",
    "shape_of",
]
