"""A mission over a link, judged by the truth, and drives recorded in the simulator."""

from vinecompass.rehearsal.faults import FAULTS, inject_fault
from vinecompass.rehearsal.recording import record_drive
from vinecompass.rehearsal.rehearsal import Arrival, Rehearsal, rehearse, rehearse_mission

__all__ = ["FAULTS", "Arrival", "Rehearsal", "inject_fault", "record_drive", "rehearse", "rehearse_mission"]
