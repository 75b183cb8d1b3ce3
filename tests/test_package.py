import ast
import copy
import dataclasses
import doctest
import importlib
import pkgutil
import re
import runpy
import subprocess
import sys
import tempfile
import tomllib
import unittest
from pathlib import Path
from unittest import mock

import vinecompass
from tests.support import new_folder, short_mapping, short_run, site
from vinecompass import Settings, plan_path, price_floor, read_settings
from vinecompass.settings import tunable_settings

ROOT = Path(__file__).parent.parent
SOURCE = Path(vinecompass.__file__).parent
FLOORS = {
    room: int(floor)
    for floor, rooms in re.findall(r"^\| (\d+) \| (`.+`) \|", (ROOT / "CONTRIBUTING.md").read_text(), re.MULTILINE)
    for room in re.findall(r"`(\w+)`", rooms.split("|")[0])
}


def modules():
    return [info.name for info in pkgutil.walk_packages([str(SOURCE)], "vinecompass.") if "__main__" not in info.name]


class TheHouse(unittest.TestCase):
    def test_rooms_import_only_from_lower_floors_as_contributing_tells(self):
        self.assertEqual(set(FLOORS), {path.name.removesuffix(".py") for path in SOURCE.glob("[a-z]*")})
        for path in SOURCE.rglob("*.py"):
            home = path.relative_to(SOURCE).parts[0].removesuffix(".py")
            if home.startswith("__"):
                continue
            for node in ast.walk(ast.parse(path.read_text())):
                if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("vinecompass."):
                    other = node.module.split(".")[1]
                    with self.subTest(file=str(path), imports=other):
                        self.assertTrue(other == home or FLOORS[other] < FLOORS[home])

    def test_the_core_imports_no_interface_package_and_the_package_imports_nothing(self):
        core = (
            "import sys, vinecompass.rehearsal; print([m for m in ('click', 'rich', 'matplotlib') if m in sys.modules])"
        )
        bare = "import sys, vinecompass; print([m for m in ('numpy', 'numba', 'pydantic') if m in sys.modules])"
        for code in (core, bare):
            told = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
            self.assertEqual(told.stdout.strip(), "[]")

    def test_every_public_name_is_there_and_documented(self):
        for name in vinecompass.__all__:
            value = getattr(vinecompass, name)
            if name != "__version__":
                self.assertTrue(value.__doc__, name)
        self.assertEqual(dir(vinecompass), sorted(vinecompass.__all__))
        with self.assertRaises(AttributeError):
            vinecompass.teleport  # noqa: B018


class WhatTheDocumentsSay(unittest.TestCase):
    def test_what_is_handed_over_prints_as_one_line_and_compares_by_value(self):
        made, grid = short_run(), short_mapping().grid
        costmap = price_floor(grid, made.robot)
        plan = plan_path(costmap, made.robot, made.start, made.truth.poses[-1], explain=False)
        for thing in (made, made.truth, grid, costmap, plan, site()):
            with self.subTest(type(thing).__name__):
                for text in (repr(thing), str(thing)):
                    self.assertLess(len(text), 200)
                    self.assertNotIn("\n", text)
                self.assertTrue(thing == copy.deepcopy(thing))
                self.assertFalse(thing == "something else")
        self.assertFalse(grid == dataclasses.replace(grid, log_odds=grid.log_odds + 1.0))
        self.assertFalse(made == made.shifted(1.0))

    def test_docstring_examples_run(self):
        tried = 0
        for name in modules():
            with self.subTest(module=name):
                result = doctest.testmod(importlib.import_module(name))
                self.assertEqual(result.failed, 0)
                tried += result.attempted
        self.assertGreater(tried, 30)

    def test_the_readme_example_runs(self):
        code = (ROOT / "README.md").read_text().split("```python")[1].split("```")[0]
        with tempfile.TemporaryDirectory() as folder, mock.patch("builtins.print") as told:
            exec(compile(code.replace('"demo-map.png"', f'"{folder}/demo-map.png"'), "README.md", "exec"), {})
        self.assertTrue(told.called)

    def test_the_guides_python_runs_too(self):
        for path in sorted((ROOT / "docs").glob("*.md")):
            for number, block in enumerate(path.read_text().split("```python")[1:]):
                with self.subTest(guide=path.name, block=number), mock.patch("builtins.print"):
                    exec(compile(block.split("```")[0], path.name, "exec"), {})

    def test_the_settings_page_lists_every_key_with_its_default(self):
        text = (ROOT / "docs" / "settings.md").read_text().split("```toml")[1].split("```")[0]
        path = new_folder() / "settings.toml"
        path.write_text(text)
        self.assertEqual(read_settings(path), Settings())
        self.assertEqual(
            {table: set(keys) for table, keys in tomllib.loads(text).items() if isinstance(keys, dict)},
            {
                table: set(keys)
                for table, keys in Settings().model_dump(by_alias=True).items()
                if isinstance(keys, dict)
            },
        )

    def test_the_settings_page_says_how_far_each_may_go_and_what_it_trades(self):
        text = (ROOT / "docs" / "settings.md").read_text()
        for one in tunable_settings():
            how = ", by factors" if one.span.logarithmic else ""
            row = f"| `{one.key}` | {one.span.low:g} to {one.span.high:g}{how} | {one.span.trades} | `{one.again}` |"
            self.assertIn(row, text)

    def test_the_examples_run_and_write_a_picture_each(self):
        for path in sorted((ROOT / "examples").glob("*.py")):
            with self.subTest(example=path.name), tempfile.TemporaryDirectory() as folder:
                picture = Path(folder) / "picture.png"
                with mock.patch.object(sys, "argv", [path.name, str(picture)]), mock.patch("builtins.print"):
                    runpy.run_path(str(path), run_name="__main__")
                self.assertEqual(picture.read_bytes()[:4], b"\x89PNG")


if __name__ == "__main__":
    unittest.main()
