"""Searches over cells: Dijkstra, A*, any-angle A*, and replanning."""
