"""Pages for a browser: the replay of a run or a mission."""

from vinecompass.pages.plays import Event, Play, play_of_mapping, play_of_mission, play_of_run, read_play
from vinecompass.pages.replay import write_replay

__all__ = ["Event", "Play", "play_of_mapping", "play_of_mission", "play_of_run", "read_play", "write_replay"]
