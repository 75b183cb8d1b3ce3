"""vinecompass locate: localize a run in a map."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from vinecompass.cli.common import (
    FILE,
    Outcome,
    chosen_odometry,
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
)
from vinecompass.errors import InputError

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from vinecompass.localization import Localization
    from vinecompass.runs import Run, Track
    from vinecompass.settings import Settings

__all__ = ["locate", "run_locate"]

FRAME_EVERY = 1.0
"""Seconds of the drive from one frame of the film to the next."""
CHANGES_TOLD = 8
LEARNING_STEP = 2.0
"""Metres of way between poses compared to learn noise: over less, the estimate's own error would be learned too."""


@click.command(short_help="Localize a run in a map.")
@click.argument("map", type=FILE)
@click.argument("run", type=FILE)
@click.option("--at", help="Where it began, roughly, x,y,heading_deg; the run's own start if nothing is given.")
@click.option("--anywhere", is_flag=True, help="Search the whole map for where it began.")
@click.option("--dock", help="Where it began, by the name of a [[dock]] of the settings.")
@click.option("-o", "--out", type=FILE, required=True, help="The track to write, a CSV file.")
@odometry_option
@click.option("--learn-noise", is_flag=True, help="Say how the odometry erred, as settings for the next time.")
@settings_option
@seed_option
@picture_option
@click.option("--film", type=FILE, help="Film the cloud and the scan into this GIF file.")
@json_option
def locate(
    map: Path,
    run: Path,
    at: str | None,
    anywhere: bool,
    dock: str | None,
    out: Path,
    odometry: str,
    learn_noise: bool,
    settings: Path | None,
    seed: int,
    picture: Path | None,
    film: Path | None,
    as_json: bool,
) -> int:
    """Localize RUN in MAP with a particle filter, and say how sure it is, and when and why it was not.

    A rough start suffices, and is compared with the rest of the map. Exit status 1 if it never settles, or is lost
    in the end.
    """
    outcome = run_locate(
        map,
        run,
        at,
        out,
        anywhere=anywhere,
        dock=dock,
        odometry=odometry,
        learn_noise=learn_noise,
        settings=settings,
        seed=seed,
        picture=picture,
        film=film,
    )
    return tell(outcome, as_json)


def run_locate(
    map_path: Path,
    run_path: Path,
    at: str | None,
    out: Path,
    *,
    anywhere: bool = False,
    dock: str | None = None,
    odometry: str = "fused",
    learn_noise: bool = False,
    settings: Path | None = None,
    seed: int,
    picture: Path | None,
    film: Path | None = None,
) -> Outcome:
    """Do what the command does."""
    import numpy as np

    from vinecompass.files import check_suffix
    from vinecompass.localization import localize
    from vinecompass.runs import read_run, write_track

    check_suffix(out, ".csv")
    tuned = load_settings(settings)
    grid, run = load_map(map_path), read_run(run_path)
    start = _start(run, tuned, at, anywhere, dock)
    watch = None
    if film is not None:
        from vinecompass.figures import LocalizationFilm

        check_suffix(film, ".gif")
        watch = LocalizationFilm(grid, every=FRAME_EVERY)
    track = chosen_odometry(run, odometry)
    with progress_bar() as progress:
        found = localize(
            grid, run, start, odometry=track, settings=tuned.localization, seed=seed, watch=watch, progress=progress
        )
    files = {"track": str(write_track(found.track, out))}
    if picture is not None:
        from vinecompass.figures import draw_localization, save_figure

        files["picture"] = str(save_figure(draw_localization(grid, run, found), picture))
    if film is not None and watch is not None:
        files["film"] = str(watch.save(film))
    agreement = found.mean_agreement
    last = found.changes[-1]
    settled = found.settled_at is not None
    truth = _against_truth(found, run)
    warning = "" if found.second_opinion is None else found.second_opinion.warning
    line = (
        f"tracking after {found.settled_after:.1f} m, mean agreement {agreement:.3f}"
        if settled
        else f"never settled in {found.ways[-1]:.1f} m: {last.reason}"
    )
    if truth:
        line += (
            f", then {truth['position_rmse_m']:.3f} m and {truth['heading_rmse_deg']:.2f} degrees off (RMSE), "
            f"{100.0 * truth['inside_ellipse_share']:.0f} % of the time inside its 95 % ellipse"
        )
    details = [f"warning: {warning}"] if warning else []
    told = [change for change in found.changes if change.state != "tracking"][:CHANGES_TOLD]
    details += [f"{change.t:.1f} s {change.state}: {change.reason}" for change in told]
    quality: dict[str, Any] = {
        "settled": settled,
        "settled_after_m": found.settled_after,
        "last_state": last.state,
        "agreement_mean": agreement,
        "tracking_share": found.tracked.mean(),
        "last_spread_m": found.spreads[-1, 0],
        "last_spread_deg": np.degrees(found.spreads[-1, 1]),
        "particles_mean": found.counts.mean(),
        "warning": warning,
        "states": [{"begin_s": c.t, "state": c.state, "reason": c.reason} for c in found.changes],
    }
    if learn_noise and settled:
        learned = _learned(track, found)
        quality["learned"] = learned
        details += ["learned, for the settings:", "  [localization]"]
        details += [f"  {key} = {value:.4g}" for key, value in learned.items()]
    done = settled and last.state != "lost"
    return Outcome(
        "locate",
        line,
        quality=quality,
        truth=truth,
        files=files,
        done=done,
        details=details,
        hint=f"vinecompass price {map_path} --robot {run_path / 'robot.toml'} --picture prices.png"
        if done
        else "vinecompass locate … --anywhere, or vinecompass judge, to see whether the map is of this place",
    )


def _start(
    run: Run, settings: Settings, at: str | None, anywhere: bool, dock: str | None
) -> NDArray[np.float64] | None:
    given = [
        name for name, value in (("--at", at), ("--anywhere", anywhere or None), ("--dock", dock)) if value is not None
    ]
    if len(given) > 1:
        raise InputError("does not go with another start", key=given[1], value=given[0], expected="one of them")
    if anywhere:
        return None
    if dock is not None:
        return settings.find_dock(dock).site_pose
    return run.start if at is None else find_pose(at, option="--at")


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
