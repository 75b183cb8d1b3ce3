"""The navigator, rounds, recoveries and safety."""

from vinecompass.navigation.input_watch import InputWatch
from vinecompass.navigation.loop_planning import LoopPlanner
from vinecompass.navigation.mission.mission_log import Intervention, MissionLog, StateEntry, StopResult
from vinecompass.navigation.mission.round import Round, RoundStop, StopGoal, read_round
from vinecompass.navigation.mission.state import State
from vinecompass.navigation.navigator import Navigator
from vinecompass.navigation.plan_keeper import GlobalPlanner
from vinecompass.navigation.recovery.recoveries import RECOVERIES
from vinecompass.navigation.recovery.recovery import Recovery
from vinecompass.navigation.safety import Safety
from vinecompass.navigation.scene import Scene
from vinecompass.navigation.sensing.command_delay import CommandDelay
from vinecompass.navigation.sensing.situation import Situation
from vinecompass.navigation.warm_up import warm_up

__all__ = [
    "RECOVERIES",
    "CommandDelay",
    "GlobalPlanner",
    "InputWatch",
    "Intervention",
    "LoopPlanner",
    "MissionLog",
    "Navigator",
    "Recovery",
    "Round",
    "RoundStop",
    "Safety",
    "Scene",
    "Situation",
    "State",
    "StateEntry",
    "StopGoal",
    "StopResult",
    "read_round",
    "warm_up",
]
