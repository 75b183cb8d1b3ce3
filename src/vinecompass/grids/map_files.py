"""Map files: a grey PNG with alpha, a TOML file beside it, and a world file for GIS programs."""

from __future__ import annotations

import hashlib
import io
import os
import warnings
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import tomlkit
from numpy.typing import NDArray
from PIL import Image
from pydantic import Field, model_validator

from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.files import (
    Count,
    Model,
    NotNegative,
    Number,
    Size,
    Whole,
    atomic_write,
    check_replaced,
    check_suffix,
    is_forced,
    one_writer,
    read_bytes,
    read_model,
)
from vinecompass.geometry import COVARIANCE_PARTS, covariances_of
from vinecompass.grids.edits import Edit
from vinecompass.grids.grid import BY_HAND, CLOSED_BY_HAND, MOST_CELLS, Grid
from vinecompass.grids.map_doubt import MapDoubt
from vinecompass.grids.zones import Zone, Zones

__all__ = ["Making", "MapRecord", "check_map_name", "read_map", "read_map_record", "write_map"]

LARGEST_FILE = 512 * 2**20
CLEAREST, DARKEST = 254, 1
"""Grey levels between which log-odds stay finite when read back."""
DoubtRow = tuple[Number, Number, Number, Number, Number, Number, Number, Number]
ROUNDED = 1e-7
"""What rounding may take from the eigenvalues of a covariance."""
BLACK = 0
"""The grey level of what a person closed: black, as an image editor paints it."""


class MapPlace(Model):
    """Where a picture lies, how large its cells are, and what it was when it was written."""

    cell_size: Size = Field(description="m")
    corner: tuple[Number, Number] = Field(description="[x, y] of the outer corner of the lowest, leftmost cell, m")
    turn_deg: Number = Field(0.0, description="degrees")
    size: tuple[Whole, Whole] = Field(description="[columns, rows], whole numbers")
    picture_digest: str | None = Field(None, description="SHA-256 of the picture when it was written")
    doubt: list[DoubtRow] = Field(
        default_factory=list,
        description="[[x, y, variances of x, y, heading, covariances of x and y, x and heading, y and heading], ...], "
        "m and radians",
    )

    @model_validator(mode="after")
    def _doubts_are_covariances(self) -> MapPlace:
        doubt = _doubt(self)
        if doubt is not None and np.linalg.eigvalsh(doubt.covariances).min() < -ROUNDED:
            raise ValueError("doubt has a row whose last six numbers are no covariance")
        return self


class ReadingCounts(Model):
    """How many cells of each reading a picture had when it was written."""

    occupied: Count = Field(description="a whole number of cells")
    free: Count = Field(description="a whole number of cells")
    unknown: Count = Field(description="a whole number of cells")


class Making(Model):
    """How well the drive that a map was made from fits together."""

    scans_kept: Count = Field(description="a whole number of scans")
    agreement: Number = Field(description="mean agreement of each scan with those before, 0 to 1")
    loops_closed: Count = Field(description="a whole number of loops")
    loop_error: NotNegative = Field(description="what closed loops still miss by, RMS, m")
    loop_error_deg: NotNegative = Field(description="and in heading, RMS, degrees")


class MapHeader(MapPlace):
    """What the TOML file beside a map's picture holds."""

    readings: ReadingCounts | None = Field(None, description="a [readings] table")
    making: Making | None = Field(None, description="a [making] table")
    unedited: MapPlace | None = Field(None, description="an [unedited] table: the map before its edits")
    edit: list[Edit] = Field(default_factory=list, description="[[edit]] tables")
    zone: Zones = Field(default_factory=list, description="[[zone]] tables")


@dataclass(frozen=True)
class MapRecord:
    """A map and all that its files hold.

    Parameters
    ----------
    grid : Grid
        As it is now.
    zones : tuple of Zone
    edits : tuple of Edit
        What was done to it since it was mapped.
    unedited : Grid or None
        The map before the edits; None if there are none, or if its picture is missing or was changed.
    painted : str
        What was changed in the picture since it was written, as in an image editor; empty if nothing was.
    making : Making or None
        How well the drive it was made from fits together; None if it was not made from one, or not saved with it.
    """

    grid: Grid
    zones: tuple[Zone, ...] = ()
    edits: tuple[Edit, ...] = ()
    unedited: Grid | None = None
    painted: str = ""
    making: Making | None = None


@checked
def write_map(
    grid: Grid,
    path: str | Path,
    *,
    zones: Sequence[Zone] = (),
    edits: Sequence[Edit] = (),
    unedited: Grid | None = None,
    making: Making | None = None,
) -> list[Path]:
    """Write a map as ``NAME.png``, ``NAME.toml`` and ``NAME.pgw``, and read it back.

    Grey is the probability of being free, transparent is never observed; the picture's top row is the grid's
    last row, so the picture looks like the floor seen from above.

    The files change over together: until the TOML file is in place, the old map is read, and from then on the new
    one, even if the program dies in between. Of two writers of one map, the last one's is there whole.

    Parameters
    ----------
    grid : Grid
    path : path-like
        Must end in ``.png``.
    zones : sequence of Zone, optional
    edits : sequence of Edit, optional
        What led from `unedited` to `grid`.
    unedited : Grid, optional
        Kept as ``NAME.unedited.png``, so that edits can be undone.
    making : Making, optional

    Returns
    -------
    list of Path
        The files written.

    Raises
    ------
    InputError
        The name does not end in ``.png``, a file cannot be written, or does not read back as it was written.
    """
    path = check_map_name(path)
    picture = _encode(grid)
    header = tomlkit.document()
    header.update({"format": "vinecompass map", "version": 1, **_place(grid, picture)})
    written = _decoded(picture, grid, path)
    header["readings"] = _counts(written)
    pictures = {path: picture}
    if unedited is not None:
        before = _encode(unedited)
        header["unedited"] = _place(unedited, before)
        pictures[_unedited(path)] = before
        header["edit"] = [edit.model_dump(exclude_none=True, mode="json") for edit in edits]
    if making is not None:
        header["making"] = making.model_dump()
    if zones:
        header["zone"] = [zone.model_dump(exclude_unset=True, mode="json") for zone in zones]
    world_file = _world_file(grid)
    with one_writer(path.parent):
        _finish_cut_save(path)
        try:
            for name, content in pictures.items():
                atomic_write(_waiting(name), content)
            atomic_write(path.with_suffix(".toml"), tomlkit.dumps(header))
        except BaseException:
            for name in pictures:
                _waiting(name).unlink(missing_ok=True)
            raise
        for name in pictures:
            os.replace(_waiting(name), name)
        atomic_write(path.with_suffix(".pgw"), world_file)
        if not np.array_equal(read_map_record(path).grid.log_odds, written.log_odds):
            raise InputError("does not read back as it was written", file=path, expected="a disk that keeps its files")
    return [path, path.with_suffix(".toml"), path.with_suffix(".pgw"), *list(pictures)[1:]]


def check_map_name(path: str | Path) -> Path:
    """Return a path at which a map may be written, or raise `InputError`: a new one, or another map's.

    Worth knowing before long work for it.
    """
    path = check_suffix(path, ".png")
    header = path.with_suffix(".toml")
    check_replaced(header, "a vinecompass map")
    if path.exists() and not header.exists() and not is_forced():
        raise InputError(
            f"is a picture with no {header.name} beside it, and no map",
            file=path,
            expected="a new name, a map to replace, or --force",
        )
    return path


@checked
def read_map(path: str | Path) -> Grid:
    """Read a map: the picture (PNG or PGM) and the TOML file of the same name beside it.

    The picture may have been painted on in any image editor: black is occupied, white is free; in a picture
    with transparency, transparent is unknown, and in a plain grey one middle grey is. `read_map_record` tells what
    was painted.

    Raises
    ------
    InputError
        A file is missing, truncated, no picture, too large, or its size is not what the TOML file says.
    """
    return read_map_record(path).grid


@checked
def read_map_record(path: str | Path) -> MapRecord:
    """Read a map with its zones, its edits, and what was painted on it; raise `InputError` as `read_map` does."""
    path = Path(path)
    if not path.is_file() and not (path.name and _waiting(path).is_file()):
        read_bytes(path, largest=LARGEST_FILE)  # Raises, and says why it cannot be read.
    header = read_model(path.with_suffix(".toml"), MapHeader, kind="map")
    data, belongs = _picture_of(path, header)
    grid = _read_picture(data, header, path)
    painted = "" if belongs else _painted_since(grid, header.readings)
    unedited, base = None, _unedited(path)
    if header.unedited is not None and (base.is_file() or _waiting(base).is_file()):
        before, belongs = _picture_of(base, header.unedited)
        if belongs:
            unedited = _read_picture(before, header.unedited, base)
    return MapRecord(grid, tuple(header.zone), tuple(header.edit), unedited, painted, header.making)


def _picture_of(path: Path, place: MapPlace) -> tuple[bytes, bool]:
    """Return the picture to which a place in a TOML file belongs, or else the one that stands there, and whether.

    It may wait to be put in place, where a save was cut short or is not through yet.
    """
    for name in (path, _waiting(path)):
        if name.is_file() and _belongs(data := read_bytes(name, largest=LARGEST_FILE), place):
            return data, True
    # Painted on; or put in place by its writer just now.
    data = read_bytes(path, largest=LARGEST_FILE)
    return data, _belongs(data, place)


def _belongs(picture: bytes, place: MapPlace) -> bool:
    return place.picture_digest is None or _digest(picture) == place.picture_digest


def _finish_cut_save(path: Path) -> None:
    """Put waiting pictures in place whose TOML file is there already, as the next save would lose them; no others."""
    waiting = [name for name in (path, _unedited(path)) if _waiting(name).is_file()]
    header_path = path.with_suffix(".toml")
    header = read_model(header_path, MapHeader, kind="map") if waiting and header_path.is_file() else None
    for name in waiting:
        place = header if name == path or header is None else header.unedited
        if place is not None and place.picture_digest and _belongs(_waiting(name).read_bytes(), place):
            os.replace(_waiting(name), name)
        else:
            _waiting(name).unlink()


def _painted_since(grid: Grid, before: ReadingCounts | None) -> str:
    if before is None:
        return "painted on since it was written"
    now = _counts(grid)
    changes = [f"{now[name] - count:+d} cells {name}" for name, count in before if now[name] != count]
    return "painted on since it was written: " + (", ".join(changes) or "as many cells of each reading, elsewhere")


def _counts(grid: Grid) -> dict[str, int]:
    return {"occupied": int(grid.occupied.sum()), "free": int(grid.free.sum()), "unknown": int(grid.unknown.sum())}


def _digest(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()


def _waiting(path: Path) -> Path:
    """Return where a new picture waits until the TOML file that belongs to it is in place."""
    return path.with_name(f".{path.name}.next")


def _unedited(path: Path) -> Path:
    return path.with_name(f"{path.stem}.unedited.png")


def _doubt(place: MapPlace) -> MapDoubt | None:
    """Return the doubt that a header's rows tell of."""
    if not place.doubt:
        return None
    rows = np.array(place.doubt)
    return MapDoubt(rows[:, :2], covariances_of(rows[:, 2:]))


def _doubt_rows(doubt: MapDoubt | None) -> dict[str, object]:
    """Return the rows of a header that tell of a doubt."""
    if doubt is None:
        return {}
    rows = tomlkit.array()
    for place, covariance in zip(doubt.places, doubt.covariances, strict=True):
        values = [*np.round(place, 3), *(covariance[i, j] for i, j in COVARIANCE_PARTS)]
        rows.append([float(f"{value:.6g}") for value in values])
    return {"doubt": rows.multiline(True)}


def _place(grid: Grid, picture: bytes) -> dict[str, object]:
    rows, columns = grid.shape
    return {
        "cell_size": float(grid.cell_size),
        "corner": [float(value) for value in grid.corner],
        "turn_deg": float(np.degrees(grid.turn)),
        "size": [columns, rows],
        "picture_digest": _digest(picture),
        **_doubt_rows(grid.doubt),
    }


def _world_file(grid: Grid) -> str:
    """Return what a GIS program reads of where a picture lies: its axes, and the centre of its first pixel."""
    cosine, sine = grid.cell_size * np.cos(grid.turn), grid.cell_size * np.sin(grid.turn)
    top_left = grid.points_of([[grid.shape[0] - 1, 0]])[0]
    return "".join(f"{value:.10f}\n" for value in (cosine, sine, sine, -cosine, *top_left))


def _encode(grid: Grid) -> bytes:
    probability_free = 1.0 / (1.0 + np.exp(grid.log_odds.astype(np.float64)))
    grey = np.clip(np.rint(255.0 * probability_free), DARKEST, CLEAREST).astype(np.uint8)
    grey[grid.log_odds >= CLOSED_BY_HAND] = BLACK
    alpha = np.where(grid.log_odds == 0.0, 0, 255).astype(np.uint8)
    buffer = io.BytesIO()
    Image.fromarray(np.stack([grey, alpha], axis=-1)[::-1]).save(buffer, format="PNG")
    return buffer.getvalue()


def _decoded(picture: bytes, grid: Grid, path: Path) -> Grid:
    """Return what a grid is once written, to the nearest grey level."""
    return Grid(readings_of_grey(*decode_picture(picture, path)), grid.cell_size, grid.corner, grid.turn)


def _read_picture(data: bytes, place: MapPlace, path: Path) -> Grid:
    grey, observed = decode_picture(data, path)
    rows, columns = grey.shape
    if (columns, rows) != place.size:
        raise InputError(
            f"says {place.size[0]} x {place.size[1]} cells, {path.name} has {columns} x {rows}",
            file=path.with_suffix(".toml"),
            key="size",
            expected="the size of the picture",
        )
    turn = float(np.radians(place.turn_deg))
    return Grid(readings_of_grey(grey, observed), place.cell_size, place.corner, turn, _doubt(place))


def readings_of_grey(grey: NDArray[np.uint8], observed: NDArray[np.bool_]) -> NDArray[np.float32]:
    """Return the log-odds of a picture's grey levels, its top row last."""
    levels = np.log(255.0 / np.clip(np.arange(256), DARKEST, CLEAREST) - 1.0).astype(np.float32)
    levels[BLACK] = BY_HAND
    return np.where(observed, levels[grey], np.float32(0.0))[::-1].copy()


def decode_picture(data: bytes, path: Path) -> tuple[NDArray[np.uint8], NDArray[np.bool_]]:
    """Return grey levels and which pixels were observed, top row first."""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", Image.DecompressionBombWarning)
            picture = Image.open(io.BytesIO(data), formats=("PNG", "PPM"))
        if picture.width * picture.height > MOST_CELLS:
            raise Image.DecompressionBombError
        layers = _levels(picture)
    except Image.DecompressionBombError:
        raise InputError(
            "is too large a picture", file=path, expected=f"at most {MOST_CELLS // 10**6} million pixels"
        ) from None
    except (OSError, SyntaxError, ValueError) as error:
        raise InputError(
            f"is not a whole picture ({error})", file=path, expected="a PNG or PGM that opens in an image editor"
        ) from None
    if layers.ndim == 3:
        return layers[..., 0], layers[..., 1] > 127
    return layers, np.ones(layers.shape, dtype=bool)


def _levels(picture: Image.Image) -> NDArray[np.uint8]:
    """Return a picture's grey levels, 0 to 255, with what is transparent beside them where it has any of that."""
    if picture.mode.startswith(("I", "F")):
        # Of 16 bits, Pillow would keep the darkest 256 levels and call all others white.
        return (np.asarray(picture, dtype=float) * (255.0 / 65535.0)).round().clip(0.0, 255.0).astype(np.uint8)
    has_alpha = "A" in picture.getbands() or "transparency" in picture.info
    return np.asarray(picture.convert("LA" if has_alpha else "L"))
