"""A film of what a replay plays, for where no page can be opened: an animated GIF, or MP4 where ffmpeg is there."""

from __future__ import annotations

import io
import shutil
import subprocess
from collections.abc import Sequence
from pathlib import Path

import numpy as np
from PIL import Image

from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.figures.film import (
    LOCAL,
    MISS,
    OCCUPIED,
    PARTICLE,
    PERSON,
    SCAN,
    WAY,
    Sheet,
    draw_body,
    save_film,
)
from vinecompass.files import atomic_write, check_suffix
from vinecompass.grids import Grid
from vinecompass.pages.plays import STATES_OF_TROUBLE, Play, scan_points

__all__ = ["write_film"]

FRAME_MS = 100
VIDEO = "a video"


@checked
def write_film(play: Play, grid: Grid, path: str | Path, *, every: float = 1.0) -> Path:
    """Write a film of a play on a map, atomically: a frame every so many seconds, ten frames a second.

    Parameters
    ----------
    play : Play
    grid : Grid
    path : str or Path
        A ``.gif``, or an ``.mp4`` where the program ffmpeg is installed.
    every : float
        Seconds of the drive between frames.

    Raises
    ------
    InputError
        The name ends otherwise, `every` is no time, or ffmpeg is not there or fails.
    """
    if not every > 0.0:
        raise InputError("is no time", key="every", value=every, expected="seconds above 0")
    path = Path(path)
    if path.suffix.lower() == ".mp4":
        check_suffix(path, ".mp4", VIDEO)
        if shutil.which("ffmpeg") is None:
            raise InputError(
                "needs the program ffmpeg", file=path, expected="it installed, or a name that ends in .gif"
            )
        return atomic_write(path, _video(_frames(play, grid, every)))
    return save_film(_frames(play, grid, every), path, frame_ms=FRAME_MS)


def _frames(play: Play, grid: Grid, every: float) -> list[Image.Image]:
    """Return the pictures of a play."""
    sheet, poses, scans = Sheet(grid), play.poses, scan_points(play)
    frames, due = [], -np.inf
    for i, now in enumerate(play.moments):
        if now.t < due and i + 1 < len(play.moments):
            continue
        due = now.t + every
        said = f"{now.t - play.moments[0].t:6.1f} s  {now.state}" + (f": {now.reason}" if now.reason else "")
        picture, pen = sheet.frame(said, MISS if now.state in STATES_OF_TROUBLE else OCCUPIED)
        plans = [poses for t, poses in play.plans if t <= now.t]
        lines = [(plans[-1][:, :2] if plans else np.zeros((0, 2)), WAY, 3), (poses[: i + 1, :2], OCCUPIED, 1)]
        for points, colour, width in [*lines, (now.local[:, :2], LOCAL, 3)]:
            if len(points) > 1:
                pen.line(sheet.pixels(points), fill=colour, width=width)
        for x, y in sheet.pixels(scans[i]):
            pen.rectangle((x - 1, y - 1, x + 1, y + 1), fill=SCAN)
        for x, y in sheet.pixels(now.cloud[:, :2]):
            pen.point((x, y), fill=PARTICLE)
        for (x, y), radius in zip(sheet.pixels(now.people[:, :2]), now.people[:, 2] / sheet.scale, strict=True):
            pen.ellipse((x - radius, y - radius, x + radius, y + radius), fill=PERSON, outline=OCCUPIED)
        draw_body(pen, sheet.pixels(now.pose[None, :2])[0], float(now.pose[2]), max(3.0, 0.4 / sheet.scale))
        frames.append(picture)
    return frames


def _video(frames: Sequence[Image.Image]) -> bytes:
    """Return pictures as an MP4 file's bytes."""
    pictures = io.BytesIO()
    for frame in frames:
        frame.convert("RGB").save(pictures, "PNG")
    # Both sides even, as the codec wants them; the index in pieces, so that it can be written to a pipe.
    call = ["ffmpeg", "-loglevel", "error", "-f", "image2pipe", "-framerate", f"{1000 / FRAME_MS:g}", "-i", "-"]
    call += ["-vf", "pad=ceil(iw/2)*2:ceil(ih/2)*2", "-pix_fmt", "yuv420p", "-bitexact", "-threads", "1"]
    call += ["-movflags", "frag_keyframe+empty_moov", "-f", "mp4", "-"]
    made = subprocess.run(call, input=pictures.getvalue(), capture_output=True, check=False)
    if made.returncode != 0:
        told = made.stderr.decode("utf-8", "replace").strip().splitlines()
        raise InputError(
            f"fails ({(told or ['no word'])[-1][:120]})", key="ffmpeg", expected="a working ffmpeg, or .gif"
        )
    return made.stdout
