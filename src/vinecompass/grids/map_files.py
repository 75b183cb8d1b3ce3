"""Map files: a grey PNG with alpha, a TOML file beside it, and a world file for GIS programs."""

from __future__ import annotations

import hashlib
import io
import warnings
from pathlib import Path

import numpy as np
import tomlkit
from numpy.typing import NDArray
from PIL import Image
from pydantic import Field

from vinecompass.errors import InputError
from vinecompass.files import Model, Number, Positive, Whole, atomic_write, check_suffix, read_bytes, read_model
from vinecompass.grids.grid import Grid

__all__ = ["read_map", "write_map"]

LARGEST_SIDE = 20_000
"""Pixels: a square kilometre at 0.05 m. A larger picture is refused before it is decoded."""
LARGEST_FILE = 512 * 2**20
CLEAREST, DARKEST = 254, 1
"""Grey levels between which log-odds stay finite when read back."""


class MapHeader(Model):
    """What the TOML file beside a map's picture holds."""

    cell_size: Positive = Field(description="m")
    corner: tuple[Number, Number] = Field(description="[x, y] of the outer corner of the lowest, leftmost cell, m")
    turn_deg: Number = Field(0.0, description="degrees")
    size: tuple[Whole, Whole] = Field(description="[columns, rows], whole numbers")
    picture_digest: str | None = Field(None, description="SHA-256 of the picture when it was written")


def write_map(grid: Grid, path: str | Path) -> list[Path]:
    """Write a map as ``NAME.png``, ``NAME.toml`` and ``NAME.pgw``, each atomically, the picture first.

    Grey is the probability of being free, transparent is never observed; the picture's top row is the grid's
    last row, so the picture looks like the floor seen from above.

    Parameters
    ----------
    grid : Grid
    path : path-like
        Must end in ``.png``.

    Returns
    -------
    list of Path
        The files written.
    """
    path = check_suffix(path, ".png")
    probability_free = 1.0 / (1.0 + np.exp(grid.log_odds.astype(np.float64)))
    grey = np.clip(np.rint(255.0 * probability_free), DARKEST, CLEAREST).astype(np.uint8)
    alpha = np.where(grid.log_odds == 0.0, 0, 255).astype(np.uint8)
    buffer = io.BytesIO()
    Image.fromarray(np.stack([grey, alpha], axis=-1)[::-1]).save(buffer, format="PNG")
    picture = buffer.getvalue()
    rows, columns = grid.shape
    header = tomlkit.document()
    header.update(
        {
            "format": "vinecompass map", "version": 1, "cell_size": float(grid.cell_size),
            "corner": [float(value) for value in grid.corner], "turn_deg": float(np.degrees(grid.turn)),
            "size": [columns, rows], "picture_digest": hashlib.sha256(picture).hexdigest(),
        }
    )  # fmt: skip
    cosine, sine = grid.cell_size * np.cos(grid.turn), grid.cell_size * np.sin(grid.turn)
    top_left = grid.points_of([[rows - 1, 0]])[0]
    world = "".join(f"{value:.10f}\n" for value in (cosine, sine, sine, -cosine, *top_left))
    return [
        atomic_write(path, picture),
        atomic_write(path.with_suffix(".toml"), tomlkit.dumps(header)),
        atomic_write(path.with_suffix(".pgw"), world),
    ]


def read_map(path: str | Path) -> Grid:
    """Read a map: the picture (PNG or PGM) and the TOML file of the same name beside it.

    The picture may have been painted on in any image editor: black is occupied, white is free; in a picture
    with transparency, transparent is unknown, and in a plain grey one middle grey is.

    Raises
    ------
    InputError
        A file is missing, truncated, no picture, too large, or its size is not what the TOML file says.
    """
    path = Path(path)
    header_path = path.with_suffix(".toml")
    data = read_bytes(path, largest=LARGEST_FILE)
    header = read_model(header_path, MapHeader, kind="map")
    grey, observed = _decode(data, path)
    rows, columns = grey.shape
    if (columns, rows) != header.size:
        raise InputError(
            f"says {header.size[0]} x {header.size[1]} cells, {path.name} has {columns} x {rows}",
            file=header_path, key="size", expected="the size of the picture",
        )  # fmt: skip
    levels = np.log(255.0 / np.clip(np.arange(256), DARKEST, CLEAREST) - 1.0).astype(np.float32)
    log_odds = np.where(observed, levels[grey], np.float32(0.0))[::-1].copy()
    return Grid(log_odds, header.cell_size, header.corner, float(np.radians(header.turn_deg)))


def _decode(data: bytes, path: Path) -> tuple[NDArray[np.uint8], NDArray[np.bool_]]:
    """Return grey levels and which pixels were observed, top row first."""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", Image.DecompressionBombWarning)
            picture = Image.open(io.BytesIO(data), formats=("PNG", "PPM"))
        if max(picture.size) > LARGEST_SIDE:
            raise InputError(
                f"is {picture.width} x {picture.height} pixels", file=path, expected=f"at most {LARGEST_SIDE} a side"
            )
        has_alpha = "A" in picture.getbands() or "transparency" in picture.info
        layers = np.asarray(picture.convert("LA" if has_alpha else "L"))
    except InputError:
        raise
    except (OSError, SyntaxError, ValueError, Image.DecompressionBombError) as error:
        raise InputError(
            f"is not a whole picture ({error})", file=path, expected="a PNG or PGM that opens in an image editor"
        ) from None
    if has_alpha:
        return layers[..., 0], layers[..., 1] > 127
    return layers, np.ones(layers.shape, dtype=bool)
