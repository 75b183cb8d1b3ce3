"""Floor 5: the loop closed, with the simulator in place of the world."""

from vinecompass.rehearsal.recording import record_drive
from vinecompass.rehearsal.rehearsal import Rehearsal, rehearse

__all__ = ["Rehearsal", "record_drive", "rehearse"]
