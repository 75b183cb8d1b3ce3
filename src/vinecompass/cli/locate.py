"""vinecompass locate: localize a run in a map."""

from __future__ import annotations

import math
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import click

from vinecompass.cli.clock import read_told_run
from vinecompass.cli.common import (
    Outcome,
    find_pose,
    json_option,
    load_map,
    load_settings,
    odometry_option,
    picture_option,
    progress_bar,
    seed_option,
    settings_option,
    tell,
    with_doubts,
)
from vinecompass.cli.outputs import FILE, OUT, Writing
from vinecompass.errors import InputError

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from vinecompass.localization import Localization
    from vinecompass.runs import Run, Track
    from vinecompass.settings import Settings

__all__ = ["LocateOptions", "locate", "run_locate"]

FRAME_EVERY = 1.0
"""Seconds of the drive from one frame of the film to the next."""
CHANGES_TOLD = 8
LEARNING_STEP = 2.0
"""Metres of way between poses compared to learn noise: over less, the estimate's own error would be learned too."""


@click.command(cls=Writing, short_help="Localize a run in a map.")
@click.argument("map", type=FILE)
@click.argument("run", type=FILE)
@click.option("--at", help="Where it began, roughly, x,y,heading_deg; the run's own start if nothing is given.")
@click.option("--anywhere", is_flag=True, help="Search the whole map for where it began.")
@click.option("--dock", help="Where it began, by the name of a [[dock]] of the settings.")
@click.option("-o", "--out", type=OUT, required=True, help="The track to write, a CSV file.")
@odometry_option
@click.option("--learn-noise", is_flag=True, help="Say how the odometry erred, as settings for the next time.")
@settings_option
@seed_option
@picture_option
@click.option("--film", type=OUT, help="Film the cloud and the scan into this GIF file.")
@json_option
def locate(as_json: bool, **given: Any) -> int:
    """Localize RUN in MAP with a particle filter, and say how sure it is, and when and why it was not.

    A rough start suffices, and is compared with the rest of the map. Exit status 1 if it never settles, or is lost
    in the end.
    """
    return tell(run_locate(LocateOptions(**given)), as_json)


@dataclass(frozen=True)
class LocateOptions:
    """What the command is given, as its help tells."""

    map: Path
    run: Path
    out: Path
    at: str | None = None
    anywhere: bool = False
    dock: str | None = None
    odometry: Literal["fused", "wheels", "scans"] = "fused"
    learn_noise: bool = False
    settings: Path | None = None
    seed: int = 0
    picture: Path | None = None
    film: Path | None = None


def run_locate(given: LocateOptions) -> Outcome:
    """Do what the command does."""
    from vinecompass.files import FILM, TRACK, check_suffix
    from vinecompass.fusion import choose_odometry, learn_noise
    from vinecompass.localization import localize
    from vinecompass.runs import cleaned, write_track

    check_suffix(given.out, ".csv", TRACK)
    tuned = load_settings(given.settings)
    grid, (recorded, clock) = load_map(given.map), read_told_run(given.run)
    run, left_out = cleaned(recorded)
    start = _start(run, tuned, given)
    watch = None
    if given.film is not None:
        from vinecompass.figures import LocalizationFilm

        check_suffix(given.film, ".gif", FILM)
        watch = LocalizationFilm(grid, every=FRAME_EVERY)
    chosen = choose_odometry(run, given.odometry)
    track, doubts, left_out = chosen.track, chosen.doubts, (*left_out, *chosen.notes)
    with progress_bar() as progress:
        found = localize(
            grid,
            run,
            start,
            odometry=track,
            settings=tuned.localization,
            seed=given.seed,
            watch=watch,
            progress=progress,
        )
    files = {"track": str(write_track(clock.recorded_track(found.track), given.out))}
    if given.picture is not None:
        from vinecompass.figures import draw_localization, save_figure

        files["picture"] = str(save_figure(draw_localization(grid, run, found), given.picture))
    if given.film is not None and watch is not None:
        files["film"] = str(watch.save(given.film))
    truth, details = _against_truth(found, run), [*clock.sentences(), *left_out, *_changes_told(found)]
    quality = _quality(found) | {"times_count_from_s": clock.begins, "left_out": list(left_out)}
    if given.learn_noise and found.settled_at is not None:
        learned = quality["learned"] = _learned(track, found)
        details += ["learned, for the settings:", "  [localization]"]
        details += [f"  {key} = {value:.4g}" for key, value in learned.items()]
        noises = {name: noise for name, noise in learn_noise(run, found.track).items() if noise.known}
        details += ["and of the sensors, for the robot file:"]
        details += [f"  {name} = {noise.value:.3g} (filed {noise.filed:.3g})" for name, noise in noises.items()]
        quality["learned_of_sensors"] = {name: noise.value for name, noise in noises.items()}
    quality["doubts"] = list(doubts)
    done = not doubts and found.settled_at is not None and found.changes[-1].state != "lost"
    return Outcome(
        "locate",
        with_doubts(_line(found, truth), doubts),
        quality=quality,
        truth=truth,
        files=files,
        done=done,
        details=details,
        hint=_next(given, doubted=bool(doubts), done=done),
    )


def _next(given: LocateOptions, *, doubted: bool, done: bool) -> str:
    """Return the command that comes next."""
    if doubted:
        return f"vinecompass check {given.run}"
    if done:
        return f"vinecompass price {given.map} --robot {given.run / 'robot.toml'} --picture prices.png"
    return "vinecompass locate … --anywhere, or vinecompass judge, to see whether the map is of this place"


def _line(found: Localization, truth: dict[str, float]) -> str:
    """Return what came of it, in a sentence."""
    line = f"never settled in {found.ways[-1]:.1f} m: {found.changes[-1].reason}"
    if found.settled_at is not None:
        line = f"tracking after {found.settled_after:.1f} m, mean agreement {found.mean_agreement:.3f}"
    if truth:
        line += (
            f", then {truth['position_rmse_m']:.3f} m and {truth['heading_rmse_deg']:.2f} degrees off (RMSE), "
            f"{100.0 * truth['inside_ellipse_share']:.0f} % of the time inside its 95 % ellipse"
        )
    return line


def _changes_told(found: Localization) -> list[str]:
    """Return the warning if there is one, and the first changes of state to anything but tracking."""
    warning = "" if found.second_opinion is None else found.second_opinion.warning
    told = [change for change in found.changes if change.state != "tracking"][:CHANGES_TOLD]
    lines = [f"{change.t:.1f} s {change.state}: {change.reason}" for change in told]
    return [f"warning: {warning}", *lines] if warning else lines


def _quality(found: Localization) -> dict[str, Any]:
    """Return what the localization tells of itself."""
    return {
        "settled": found.settled_at is not None,
        "settled_after_m": found.settled_after,
        "last_state": found.changes[-1].state,
        "agreement_mean": found.mean_agreement,
        "tracking_share": found.tracked.mean(),
        "last_spread_m": found.spreads[-1, 0],
        "last_spread_deg": math.degrees(found.spreads[-1, 1]),
        "particles_mean": found.counts.mean(),
        "warning": "" if found.second_opinion is None else found.second_opinion.warning,
        "states": [{"begin_s": c.t, "state": c.state, "reason": c.reason} for c in found.changes],
    }


def _start(run: Run, settings: Settings, given: LocateOptions) -> NDArray[np.float64] | None:
    """Return where the run began, as it was told; None where that is to be found out."""
    options = (("--at", given.at), ("--anywhere", given.anywhere or None), ("--dock", given.dock))
    named = [name for name, value in options if value is not None]
    if len(named) > 1:
        raise InputError("does not go with another start", key=named[1], value=named[0], expected="one of them")
    if given.anywhere:
        return None
    if given.dock is not None:
        return settings.find_dock(given.dock).site_pose
    return run.start if given.at is None else find_pose(given.at, option="--at")


def _against_truth(found: Localization, run: Run) -> dict[str, float]:
    import numpy as np

    from vinecompass.runs import compare_tracks

    if run.truth is None or found.settled_at is None:
        return {}
    # What counts is how true it was while it said so.
    error = compare_tracks(found.track, run.truth).where(found.tracked)
    return {
        "position_rmse_m": error.position_rmse,
        "heading_rmse_deg": float(np.degrees(error.heading_rmse)),
        "largest_position_error_m": float(error.position.max()),
        "largest_heading_error_deg": float(np.degrees(np.abs(error.heading).max())),
        "inside_ellipse_share": float(found.inside_ellipse(run.truth)[found.tracked].mean()),
    }


def _learned(odometry: Track, found: Localization) -> dict[str, float]:
    from vinecompass.localization import learn_motion_noise
    from vinecompass.runs import Track

    tracked = Track(found.track.t[found.tracked], found.track.poses[found.tracked])
    noise = learn_motion_noise(odometry, tracked, every=LEARNING_STEP)
    return {
        "distance_noise": noise.distance,
        "sideways_noise": noise.sideways,
        "turn_noise": noise.turn,
        "turn_noise_per_metre": noise.turn_per_metre,
    }
