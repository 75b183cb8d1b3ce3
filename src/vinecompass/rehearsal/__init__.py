"""Floor 7: the loop closed, with the simulator in place of the world."""

from vinecompass.rehearsal.faults import FAULTS, inject_fault
from vinecompass.rehearsal.live_faults import LIVE_FAULTS, LiveFault
from vinecompass.rehearsal.recording import record_drive
from vinecompass.rehearsal.rehearsal import Arrival, Rehearsal, rehearse

__all__ = ["FAULTS", "LIVE_FAULTS", "Arrival", "LiveFault", "Rehearsal", "inject_fault", "record_drive", "rehearse"]
