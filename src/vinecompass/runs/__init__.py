"""Recorded runs, their streams and their files."""

from vinecompass.runs.cleaned import cleaned, repeats
from vinecompass.runs.comparison import RelationError, TrackError, compare_relations, compare_tracks
from vinecompass.runs.run import Run
from vinecompass.runs.run_files import RUN_MARKER, check_run_folder, read_run, read_track, write_run, write_track
from vinecompass.runs.streams import Commands, Imu, Positions, Scan, Scans, Track, Wheels, joined, readings_of, rows_of

__all__ = [
    "RUN_MARKER",
    "Commands",
    "Imu",
    "Positions",
    "RelationError",
    "Run",
    "Scan",
    "Scans",
    "Track",
    "TrackError",
    "Wheels",
    "check_run_folder",
    "cleaned",
    "compare_relations",
    "compare_tracks",
    "joined",
    "read_run",
    "read_track",
    "readings_of",
    "repeats",
    "rows_of",
    "write_run",
    "write_track",
]
