"""Floor 2: matching a scan against a likelihood field."""

from vinecompass.matching.scan_matching import Field, Match, SearchWindow, match_scan

__all__ = ["Field", "Match", "SearchWindow", "match_scan"]
