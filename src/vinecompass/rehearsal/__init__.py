"""A mission over a link, judged by the truth, and drives recorded in the simulator."""

from vinecompass.rehearsal.faults import FAULTS, inject_fault
from vinecompass.rehearsal.moments import Moment, MomentLog, read_moments
from vinecompass.rehearsal.recording import record_drive
from vinecompass.rehearsal.rehearsal import Arrival, Rehearsal, rehearse, rehearse_mission

__all__ = [
    "FAULTS",
    "Arrival",
    "Moment",
    "MomentLog",
    "Rehearsal",
    "inject_fault",
    "read_moments",
    "record_drive",
    "rehearse",
    "rehearse_mission",
]
