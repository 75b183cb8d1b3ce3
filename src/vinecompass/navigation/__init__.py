"""Floor 6: the navigator, rounds, recovery, safety, and the settings of every stage."""

from vinecompass.navigation.input_watch import InputWatch
from vinecompass.navigation.mission_log import Intervention, MissionLog, StateEntry, StopResult
from vinecompass.navigation.navigator import Navigator
from vinecompass.navigation.recovery import RECOVERIES
from vinecompass.navigation.round import Round, RoundStop, StopGoal, read_round
from vinecompass.navigation.safety import Safety
from vinecompass.navigation.scene import Scene

__all__ = [
    "RECOVERIES",
    "InputWatch",
    "Intervention",
    "MissionLog",
    "Navigator",
    "Round",
    "RoundStop",
    "Safety",
    "Scene",
    "StateEntry",
    "StopGoal",
    "StopResult",
    "read_round",
]
