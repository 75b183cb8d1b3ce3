"""Matching scans against what was seen before."""

from vinecompass.matching.pose_search import Candidate, PoseSearch
from vinecompass.matching.scan_matching import Match, SearchWindow, match_scan
from vinecompass.matching.wall_grid import WallGrid

__all__ = ["Candidate", "Match", "PoseSearch", "SearchWindow", "WallGrid", "match_scan"]
