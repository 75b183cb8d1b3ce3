"""Floor 6: the loop closed, with the simulator in place of the world."""

from vinecompass.rehearsal.faults import FAULTS, inject_fault
from vinecompass.rehearsal.recording import record_drive
from vinecompass.rehearsal.rehearsal import Rehearsal, rehearse

__all__ = ["FAULTS", "Rehearsal", "inject_fault", "record_drive", "rehearse"]
