"""Links to robots: simulated, and recorded."""

from vinecompass.links.link import Readings, RobotLink, Witness
from vinecompass.links.live_faults import LIVE_FAULTS, LiveFault
from vinecompass.links.recorded import RecordedLink
from vinecompass.links.recorder import Recorder
from vinecompass.links.simulated import SimulatedLink

__all__ = [
    "LIVE_FAULTS",
    "LiveFault",
    "Readings",
    "RecordedLink",
    "Recorder",
    "RobotLink",
    "SimulatedLink",
    "Witness",
]
