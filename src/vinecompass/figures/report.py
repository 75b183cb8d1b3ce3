"""The report: one self-contained HTML page with every step's figure and numbers."""

from __future__ import annotations

import base64
from collections.abc import Mapping, Sequence
from html import escape
from pathlib import Path
from typing import Any

from vinecompass.figures.canvas import AUBERGINE, CHARCOAL, PAPER, RUST, SAND, TEAL
from vinecompass.files import MADE_BY, atomic_write

__all__ = ["write_report"]

STYLE = f"""
body {{ background: {PAPER}; color: {CHARCOAL}; font: 16px/1.5 system-ui, sans-serif; margin: 2rem auto;
  max-width: 1180px; padding: 0 1rem; }}
h1, h2 {{ color: {AUBERGINE}; }} h2 {{ border-top: 1px solid {SAND}; padding-top: 1.2rem; text-transform: capitalize; }}
img {{ max-width: 100%; border: 1px solid {SAND}; }}
iframe {{ width: 100%; height: 800px; border: 1px solid {SAND}; }}
table {{ border-collapse: collapse; margin: .6rem 2rem .6rem 0; display: inline-table; vertical-align: top; }}
caption {{ text-align: left; font-weight: 600; }}
td {{ padding: .15rem 1.2rem .15rem 0; border-bottom: 1px solid {SAND}; }}
td + td {{ text-align: right; font-variant-numeric: tabular-nums; }}
a {{ color: {TEAL}; }} .reached {{ display: table; }} .reached td + td {{ text-align: left; }}
.no {{ color: {RUST}; font-weight: 600; }} code {{ background: #F1EADD; padding: 0 .25rem; }}
"""


def write_report(steps: Sequence[Mapping[str, Any]], path: str | Path) -> Path:
    """Write the report of a sequence of steps, atomically.

    Parameters
    ----------
    steps : sequence of mapping
        Each as a command's ``--json`` prints it; a file called "picture" is put into the page itself, one called "page"
        is shown from beside it.
    path : path-like
        The HTML file.
    """
    body = "".join(_section(number, step) for number, step in enumerate(steps, start=1))
    page = (
        f'<!DOCTYPE html>\n<html lang="en"><head><meta charset="utf-8"><meta name="generator" content="{MADE_BY}">'
        f"<title>Vine Compass: demo report</title>"
        f"<style>{STYLE}</style></head><body><h1>From a recording to a robot that arrives</h1>"
        f"<p>Every number below is in the <code>--json</code> output of the command that made it. Where it says "
        f"<em>truth</em>, the simulator's own poses and walls are the judge.</p>{_reached(steps)}{body}</body></html>\n"
    )
    return atomic_write(path, page)


def _reached(steps: Sequence[Mapping[str, Any]]) -> str:
    """Return a table of what each step came to, which leads to its section."""
    rows = "".join(
        f'<tr><td><a href="#step-{number}">{escape(step["command"])}</a></td>'
        f"<td{_mark(step)}>{escape(step['message'])}</td></tr>"
        for number, step in enumerate(steps, start=1)
    )
    return f'<table class="reached"><caption>What was reached</caption>{rows}</table>'


def _mark(step: Mapping[str, Any]) -> str:
    return "" if step["done"] else ' class="no"'


def _section(number: int, step: Mapping[str, Any]) -> str:
    heading = f'<h2 id="step-{number}">{number}. {escape(step["command"])}</h2>'
    parts = [f"{heading}<p{_mark(step)}>{escape(step['message'])}</p>"]
    picture = step["files"].get("picture")
    if picture:
        data = base64.b64encode(Path(picture).read_bytes()).decode("ascii")
        parts.append(f'<img alt="{escape(step["message"])}" src="data:image/png;base64,{data}">')
    page = step["files"].get("page")
    if page:
        name = escape(Path(page).name)
        parts.append(f'<p><a href="{name}">Open it as a page of its own</a></p>')
        parts.append(f'<iframe src="{name}" title="{escape(step["message"])}" loading="lazy"></iframe>')
    parts += [_table(caption, step[caption]) for caption in ("quality", "truth") if step[caption]]
    return "".join(parts)


def _table(caption: str, values: Mapping[str, Any]) -> str:
    rows = "".join(f"<tr><td>{escape(key)}</td><td>{escape(_shown(value))}</td></tr>" for key, value in values.items())
    return f"<table><caption>{escape(caption)}</caption>{rows}</table>"


def _shown(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return f"{value:.4g}"
    return "none" if value in (None, "") else str(value)
