"""vinecompass tune --replay: drive a trial of a study again, and make a page that plays it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from vinecompass.errors import InputError

if TYPE_CHECKING:
    from vinecompass.tuning import Case, Study

__all__ = ["replay_trial"]


def replay_trial(case: Case, study: Study, number: int, folder: Path) -> Path:
    """Write the page that plays a trial of a study, which is the same again by its row alone."""
    from vinecompass.costs import price_floor
    from vinecompass.pages import play_of_mission, write_replay
    from vinecompass.rehearsal import MomentLog
    from vinecompass.settings import changed_settings
    from vinecompass.tuning import MissionCase, MissionCases

    trial = next((trial for trial in study.trials if trial.number == number), None)
    if trial is None:
        raise InputError("is not in the study", key="--replay", value=number, expected=f"0 to {len(study.trials) - 1}")
    if isinstance(case, MissionCases):
        case = case.of(trial)
    if not isinstance(case, MissionCase):
        raise InputError("was not driven", key="--replay", value=number, expected="a study of rehearsals")
    log = MomentLog()
    play = play_of_mission(case.rehearse(trial, log), log, f"trial {number}")
    costs = changed_settings(case.settings, trial.values).costs
    costmap = price_floor(case.grid, case.robot, zones=case.site.zones, settings=costs)
    page = folder / "replays" / f"trial-{number:06d}.html"
    return write_replay([play], case.grid, page, costmap=costmap, zones=case.site.zones)
