"""Narrow places: found by how the floor hangs together, measured, and tried with the body."""
