"""Do the tests notice? Changes one place of the code at a time, and counts how many of the changes they catch.

Not part of the suite: ``python tests/mutants.py`` takes about an hour. Each change is made in a copy of the project.
Packages for this exist; none of them knows that a compiled kernel stays in the caches of all that call it.
"""

from __future__ import annotations

import argparse
import ast
import os
import random
import shutil
import subprocess
import sys
import tempfile
from collections import defaultdict
from collections.abc import Iterator
from pathlib import Path
from typing import Any

PROJECT = Path(__file__).resolve().parents[1]
ROOMS = ("motion", "contact", "following", "navigation")
TESTS = {
    "motion": ("motion", "simulation", "following", "navigation", "localization", "rehearsal"),
    "contact": ("contact", "following", "navigation", "costs", "planning", "rehearsal"),
    "following": ("following", "navigation", "rehearsal"),
    "navigation": ("navigation", "rehearsal"),
}
"""The rooms whose tests may catch a change in a room, the likeliest first."""
LONGEST = 900.0
"""Seconds after which tests that do not end have noticed."""
OPPOSITES: dict[type[ast.AST], Any] = {
    ast.Lt: ast.GtE,
    ast.GtE: ast.Lt,
    ast.Gt: ast.LtE,
    ast.LtE: ast.Gt,
    ast.Eq: ast.NotEq,
    ast.NotEq: ast.Eq,
    ast.Is: ast.IsNot,
    ast.IsNot: ast.Is,
    ast.In: ast.NotIn,
    ast.NotIn: ast.In,
    ast.Add: ast.Sub,
    ast.Sub: ast.Add,
    ast.Mult: ast.Div,
    ast.Div: ast.Mult,
    ast.And: ast.Or,
    ast.Or: ast.And,
}
OTHER_CALLS = {"min": "max", "max": "min", "sin": "cos", "cos": "sin", "any": "all", "all": "any"}


ROUNDING = 1e-5
"""Numbers below this keep rounding at bay: how small they are matters to nobody."""
LEFT_ALONE = (ast.Raise, ast.Assert, ast.JoinedStr, ast.Import, ast.ImportFrom, ast.AnnAssign, ast.arguments)
"""Texts, types, errors and defaults: what they say is not what the code does."""


def other_than(node: ast.AST) -> tuple[ast.AST, str] | None:
    """Return what stands for another thing than a node, and what was changed; None where there is nothing to change."""
    match node:
        case ast.Compare(left, [operator, *_], comparators):
            turned = ast.Compare(left, [OPPOSITES[type(operator)](), *node.ops[1:]], comparators)
            return turned, f"`{ast.unparse(node)}` turned round"
        case ast.BinOp(left, operator, right) if type(operator) in OPPOSITES:
            opposite = OPPOSITES[type(operator)]
            return ast.BinOp(left, opposite(), right), f"`{ast.unparse(node)}` with {opposite.__name__}"
        case ast.BoolOp(operator, values):
            opposite = OPPOSITES[type(operator)]
            return ast.BoolOp(opposite(), values), f"`{ast.unparse(node)}` with {opposite.__name__}"
        case ast.UnaryOp(ast.Not() | ast.USub(), operand):
            return operand, f"`{ast.unparse(node)}` without the sign"
        case ast.Constant(bool() as value):
            return ast.Constant(not value), f"not {value}"
        case ast.Constant(float() as value) if not 0.0 < value < ROUNDING:
            return ast.Constant(3.0 * value or 1.0), f"{3.0 * value or 1.0} for {value}"
        case ast.Call(ast.Name(name) as function) if name in OTHER_CALLS:
            return ast.Call(
                ast.Name(OTHER_CALLS[name], function.ctx), node.args, node.keywords
            ), f"{name} the other way"
        case ast.Call(ast.Attribute(value, name) as function) if name in OTHER_CALLS:
            other = ast.Attribute(value, OTHER_CALLS[name], function.ctx)
            return ast.Call(other, node.args, node.keywords), f"{name} the other way"
    return None


class Places(ast.NodeTransformer):
    """Walks through all places that can be changed, counts them, and changes the one chosen."""

    def __init__(self, chosen: int = -1) -> None:
        self.chosen = chosen
        self.count = 0
        self.told = ""

    def visit(self, node: ast.AST) -> ast.AST:
        """Visit a node and all below it."""
        if isinstance(node, LEFT_ALONE):
            return node
        if isinstance(node, ast.FunctionDef):
            node.body = [self.visit(each) for each in node.body]  # type: ignore[misc]
            return node
        self.generic_visit(node)
        other = other_than(node)
        if other is None:
            return node
        self.count += 1
        if self.count - 1 != self.chosen:
            return node
        self.told = f"{getattr(node, 'lineno', 0)}: {other[1]}"
        return other[0]


def files_of(room: str) -> Iterator[Path]:
    """Yield the files of a room that hold code, from the project's folder on."""
    for path in sorted((PROJECT / "src/vinecompass" / room).rglob("*.py")):
        if path.name != "__init__.py":
            yield path.relative_to(PROJECT)


def changed(path: Path, chosen: int) -> tuple[str, str]:
    """Return a file's code with one place changed, and what was changed."""
    places = Places(chosen)
    tree = places.visit(ast.parse((PROJECT / path).read_text()))
    return ast.unparse(ast.fix_missing_locations(tree)), places.told


def choose(count: int, seed: int) -> list[tuple[str, Path, int]]:
    """Choose places evenly over the rooms: the room, the file, and the place's number in it."""
    rng = random.Random(seed)
    chosen = []
    for i, room in enumerate(ROOMS):
        places = []
        for path in files_of(room):
            walked = Places()
            walked.visit(ast.parse((PROJECT / path).read_text()))
            places += [(room, path, number) for number in range(walked.count)]
        chosen += rng.sample(places, count * (i + 1) // len(ROOMS) - count * i // len(ROOMS))
    return chosen


def users_of(module: str) -> set[str]:
    """Return every module of the project that imports one, on however long a way, and the module itself."""
    users = defaultdict(set)
    source = PROJECT / "src"
    for path in source.rglob("*.py"):
        user = ".".join(path.relative_to(source).with_suffix("").parts).removesuffix(".__init__")
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.ImportFrom) and node.module:
                users[node.module].add(user)
    found, waiting = set(), {module}
    while waiting:
        one = waiting.pop()
        found.add(one)
        waiting |= users[one] - found
    return found


def forget_compiled(copy: Path, path: Path) -> None:
    """Delete what is kept of compiled kernels that may call those in a file."""
    module = ".".join(path.with_suffix("").parts[1:])
    for name in users_of(module):
        file = copy / "src" / Path(*name.split("."))
        for kept in file.parent.glob(f"__pycache__/{file.name}.*.nb[ic]"):
            kept.unlink()


def passes(copy: Path, rooms: tuple[str, ...]) -> bool:
    """Run the tests of some rooms, one after the other, until one notices."""
    environment = {**os.environ, "PYTHONPATH": str(copy / "src"), "PYTHONDONTWRITEBYTECODE": "1"}
    for room in rooms:
        command = [sys.executable, "-m", "unittest", "discover", "-f", "-t", ".", "-s", f"tests/{room}"]
        try:
            done = subprocess.run(command, cwd=copy, env=environment, capture_output=True, timeout=LONGEST)
        except subprocess.TimeoutExpired:
            return False
        if done.returncode:
            return False
    return True


def copied(folder: str) -> Path:
    """Copy the project, with what is compiled already, and see that the tests pass there."""
    copy = Path(folder) / "project"
    shutil.copytree(PROJECT, copy, ignore=shutil.ignore_patterns(".*"), symlinks=True)
    every_room = tuple(dict.fromkeys(room for rooms in TESTS.values() for room in rooms))
    if not passes(copy, every_room):
        sys.exit("the tests fail before anything is changed")
    return copy


def main() -> None:
    """Change one place after the other and say which changes no test noticed."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--count", type=int, default=60, help="how many places to change")
    parser.add_argument("--seed", type=int, default=0, help="which places")
    parser.add_argument("--part", default="1/1", help="only every n-th of them, as 1/2 and 2/2 on two cores")
    given = parser.parse_args()
    part, parts = (int(number) for number in given.part.split("/"))
    chosen = choose(given.count, given.seed)[part - 1 :: parts]
    noticed = 0
    with tempfile.TemporaryDirectory() as folder:
        copy = copied(folder)
        for room, path, number in chosen:
            code, told = changed(path, number)
            (copy / path).write_text(code)
            forget_compiled(copy, path)
            survived = passes(copy, TESTS[room])
            noticed += not survived
            print(f"{'SURVIVED' if survived else 'noticed '} {path}:{told}", flush=True)
            shutil.copy2(PROJECT / path, copy / path)
            forget_compiled(copy, path)
    print(f"{noticed} of {len(chosen)} noticed")


if __name__ == "__main__":
    main()
