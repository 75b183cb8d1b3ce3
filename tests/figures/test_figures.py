import inspect
import io
import subprocess
import sys
import unittest
from unittest import mock

import numpy as np
from matplotlib.figure import Figure
from matplotlib.text import Text
from PIL import Image

from tests.support import assert_input_error, new_folder, robot, room, short_mapping, short_run, site
from vinecompass import (
    MissionCase,
    Problem,
    Settings,
    Site,
    Study,
    Trial,
    check,
    compare_planners,
    demo_file,
    draw,
    figures,
    find_narrow_places,
    fuse,
    localize,
    measure_map,
    plan_path,
    price_floor,
    rehearse_mission,
)
from vinecompass.figures import (
    draw_cost_change,
    draw_costs,
    draw_drive,
    draw_fusion,
    draw_health,
    draw_layers,
    draw_local_plan,
    draw_localization,
    draw_mapping,
    draw_meetings,
    draw_plan,
    draw_plan_comparison,
    draw_profile,
    draw_run,
    drawn_for_notebook,
    html_for_notebook,
    save_figure,
)
from vinecompass.figures.report import write_report
from vinecompass.navigation import Round
from vinecompass.rehearsal import inject_fault
from vinecompass.settings import CostSettings

GRID = short_mapping().grid


def near(picture, colour, tolerance=12):
    """Share of the pixels that have about this colour."""
    wanted = np.array([int(colour[i : i + 2], 16) for i in (1, 3, 5)])
    return float(np.mean(np.abs(picture.astype(int) - wanted).max(axis=-1) < tolerance))


class Figures(unittest.TestCase):
    def test_each_is_a_sheet_of_1280_by_800_in_our_colours_and_states_its_number(self):
        costmap = price_floor(GRID, robot(), zones=site().zones)
        start, goal = site().start_pose, np.array([36.9, 21.5, 0.0])
        plan = plan_path(costmap, robot(), start, goal)
        nowhere = plan_path(costmap, robot(), start, np.array([32.0, 24.0, 0.0]))
        softer = price_floor(GRID, robot(), zones=site().zones, settings=CostSettings(comfort=1.2))
        compared = compare_planners(Problem(costmap, robot(), start, goal), ["a-star", "rrt-connect"])
        found = localize(GRID, short_run(), start + [0.3, 0.2, 0.2], seed=1)
        lost = localize(room(), short_run(), [3.0, 2.0, 0.0], seed=1)
        scenes = []
        walker = Site.model_validate(
            site().model_dump()
            | {
                "people": [
                    {
                        "name": "worker",
                        "route": [(39.0, 20.8), (39.0, 26.0)],
                        "speed": 0.6,
                        "attention": 0.0,
                        "begin": 0.0,
                    }
                ]
            }
        )

        def look(navigator):
            if navigator.phase == "driving" and navigator.local_plan.considered is not None:
                scenes.append(navigator.scene())

        mission = rehearse_mission(walker, robot(), GRID, goal, seed=1, time_limit=5.0, watch=look)
        accuracy = measure_map(GRID, site(), short_run())
        bad = inject_fault(short_run(), "frozen scans", 8.0, 10.0)
        aubergine, teal, olive, sand, burgundy = "#2E1A2F", "#0F6E6E", "#7A9A3B", "#DDD3C2", "#6B1E3A"
        slate, rust = "#3B6FB5", "#C7643A"
        for name, figure, words, colours in (
            ("run", draw_run(short_run()), "m off after", [aubergine]),
            ("check", draw_health(check(bad), bad), "usable: scans: frozen scans", [slate, rust]),
            ("fuse", draw_fusion(fuse(short_run()), short_run()), "off; fused, 0.", [teal, rust, slate]),
            ("map", draw_mapping(short_mapping(), short_run(), accuracy), "% of occupied cells", [aubergine, sand]),
            ("locate", draw_localization(GRID, short_run(), found), "Tracking after", [aubergine, olive, slate]),
            ("lost", draw_localization(room(), short_run(), lost), "Not localized", [aubergine, rust]),
            ("price", draw_costs(costmap, robot()), "open to Tendril", [aubergine, burgundy, sand]),
            ("plan", draw_plan(costmap, robot(), [plan], [start, goal]), "m to the goal", [teal, burgundy]),
            ("no plan", draw_plan(costmap, robot(), [nowhere], [start, goal]), "No plan: goal closed", [burgundy]),
            (
                "narrow",
                draw_costs(costmap, robot(), find_narrow_places(costmap, robot())),
                "narrow places are not",
                [slate],
            ),
            ("layers", draw_layers(costmap), "3 layers charge", [aubergine, burgundy]),
            ("profile", draw_profile(costmap, robot(), (34.0, 24.0), (38.0, 19.0)), "Along 6.4 m", [slate, burgundy]),
            ("change", draw_cost_change(costmap, softer, "as set", "soft.toml"), "With soft.toml", [aubergine]),
            ("compared", draw_plan_comparison(compared), "plans cheapest", [teal, slate]),
            (
                "tree",
                draw_plan(costmap, robot(), [compared.rows[1].best], [start, goal]),
                "m to the goal",
                [teal],
            ),
            ("drive", draw_drive(GRID, mission, site().zones), "0 of 1 stops reached", [aubergine, teal]),
            ("moment", draw_local_plan(GRID, robot(), scenes[-1]), "driving: ", ["#E39B1D", teal, "#A8A29A"]),
            ("meetings", draw_meetings(GRID, [mission]), "1 meetings: the body came", [rust, aubergine]),
        ):
            with self.subTest(name=name):
                self.assertIn(words, figure.texts[0].get_text())
                path = save_figure(figure, new_folder() / "figure.png")
                self.assertFalse([text for text in figure.findobj(Text) if "\\math" in text.get_text()])
                with Image.open(io.BytesIO(path.read_bytes())) as opened:
                    self.assertEqual(opened.size, (1280, 800))
                    pixels = np.asarray(opened.convert("RGB"))
                self.assertGreater(near(pixels, "#FBF7F0"), 0.2)
                for colour in colours:
                    self.assertGreater(near(pixels, colour), 3e-5, colour)
                if name == "drive":
                    told = {text.get_text() for text in figure.findobj(Text)}
                    self.assertLessEqual({"zones", *(zone.name for zone in site().zones)}, told)

    def test_every_drawing_takes_axes_and_a_sheet_their_place(self):
        for name in figures.__all__:
            if name.startswith("draw_") or name == "draw":
                self.assertIn("ax", inspect.signature(getattr(figures, name)).parameters, name)
        upper, lower = Figure(figsize=(12.8, 16.0), dpi=100).subplots(2)
        sheet = draw_costs(price_floor(GRID, robot()), robot(), ax=lower)
        sheet.axes[0].plot([34.0, 38.0], [24.0, 19.0], color="#00FF00")
        with Image.open(save_figure(sheet, new_folder() / "both.png")) as opened:
            self.assertEqual(opened.size, (1280, 1600))
            pixels = np.asarray(opened.convert("RGB"))
        for colour in ("#6B1E3A", "#00FF00"):
            self.assertEqual(near(pixels[:800], colour), 0.0)
            self.assertGreater(near(pixels[800:], colour), 3e-5)
        self.assertIn(upper, sheet.figure.axes)
        loose = Figure().add_axes((0.1, 0.1, 0.8, 0.8))
        assert_input_error(self, lambda: draw_run(short_run(), ax=loose), "ax")

    def test_the_same_figure_is_the_same_bytes(self):
        one, other = (save_figure(draw_run(short_run()), new_folder() / "run.png").read_bytes() for _ in range(2))
        self.assertEqual(one, other)

    def test_a_picture_into_nowhere_is_refused(self):
        path = new_folder() / "taken"
        path.write_text("a file, not a folder")
        assert_input_error(self, lambda: save_figure(draw_run(short_run()), path / "figure.png"), str(path))


class InNotebooks(unittest.TestCase):
    def test_what_the_job_makes_draws_itself_and_tells_its_facts_where_one_is_running(self):
        code = (
            "import sys, types; known = {}; png = types.SimpleNamespace("
            "for_type_by_name=lambda home, name, draw: known.update({(home, name): draw}))\n"
            "html = types.SimpleNamespace(for_type_by_name=lambda home, name, write: written.update({name: write}))\n"
            "written = {}; kinds = {'image/png': png, 'text/html': html}\n"
            "shell = types.SimpleNamespace(display_formatter=types.SimpleNamespace(formatters=kinds))\n"
            "sys.modules['IPython'] = types.SimpleNamespace(get_ipython=lambda: shell, version_info=(9, 0))\n"
            "import vinecompass as vine; assert 'matplotlib' not in sys.modules\n"
            "for home, name in known: assert getattr(vine, name).__module__ == home, home\n"
            "assert sorted(written) == sorted(name for _, name in known)\n"
            "site = vine.read_site(vine.demo_file('site.toml')); draw = known[(type(site).__module__, 'Site')]\n"
            "print(sorted(name for _, name in known), draw(site)[1:4])"
        )
        told = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
        self.assertEqual(
            told.stdout, "['CostMap', 'Grid', 'Plan', 'Rehearsal', 'Run', 'Site', 'Study'] b'PNG'\n", told.stderr
        )
        costmap = price_floor(room(), robot())
        toml = demo_file("site.toml").read_text()
        driven = rehearse_mission(site(), robot(), short_mapping().grid, "dock", seed=1, time_limit=2.0, site_toml=toml)
        score = MissionCase(site(), robot(), room(), Round.to_pose([36.0, 24.0, 0.0]), Settings()).run
        trials = [Trial(0, 0, {}), Trial(1, 0, {"costs.comfort": 0.4})]
        with mock.patch("vinecompass.tuning.mission_case.rehearse_mission", lambda *_, **__: driven):
            study = Study("mission", {}, trials, [score(trial, 10.0) for trial in trials])
        plan = plan_path(costmap, robot(), [1, 1, 0], [3, 1, 0])
        for thing, told in (
            (room(), "120 x 80 of 0.05 m"),
            (costmap, "dearest"),
            (plan, f"{plan.length:.2f} m"),
            (short_run(), f"{len(short_run().scans.t)} rows"),
            (driven, "contacts"),
            (study, "sets of values"),
        ):
            with self.subTest(repr(thing)):
                self.assertIn(told, html_for_notebook(thing))
                axes = Figure().add_subplot()
                self.assertIs(draw(thing, axes), axes)
                self.assertTrue(axes.has_data())
                picture = Image.open(io.BytesIO(drawn_for_notebook(thing)))
                self.assertEqual(picture.size, (640, 440))
                self.assertGreater(len(picture.getcolors(1_000_000)), 20)


class Report(unittest.TestCase):
    def test_the_page_needs_nothing_else_and_shows_every_number(self):
        folder = new_folder()
        picture = save_figure(draw_run(short_run()), folder / "run.png")
        steps = [
            {
                "command": "simulate",
                "done": False,
                "message": "a <b> & c",
                "quality": {"way_m": 12.5, "settled": True},
                "truth": {"error_m": None},
                "files": {"picture": str(picture)},
            }
        ]
        page = write_report(steps, folder / "report.html").read_text()
        for word in ("a &lt;b&gt; &amp; c", "way_m", "12.5", "yes", "none", "data:image/png;base64,", 'class="no"'):
            self.assertIn(word, page)
        for word in ('src="http', "<script", "<link", "@import"):
            self.assertNotIn(word, page)


if __name__ == "__main__":
    unittest.main()
