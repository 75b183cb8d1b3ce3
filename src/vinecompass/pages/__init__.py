"""Pages for a browser: the replay of a run or a mission, and the live page beside a loop."""

from vinecompass.pages.live import Live, run_live
from vinecompass.pages.live_recording import LiveRecording, record_live
from vinecompass.pages.plays import Event, Play, play_of_mapping, play_of_mission, play_of_run, read_play
from vinecompass.pages.replay import write_replay
from vinecompass.pages.replay_film import write_film

__all__ = [
    "Event",
    "Live",
    "LiveRecording",
    "Play",
    "play_of_mapping",
    "play_of_mission",
    "play_of_run",
    "read_play",
    "record_live",
    "run_live",
    "write_film",
    "write_replay",
]
