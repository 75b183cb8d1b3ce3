"""Floor 2: matching a scan against a growing grid."""

from vinecompass.matching.scan_matching import Match, SearchWindow, match_scan

__all__ = ["Match", "SearchWindow", "match_scan"]
