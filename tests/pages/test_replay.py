import base64
import dataclasses
import functools
import io
import json
import re
import shutil
import time
import unittest

import numpy as np
import shapely
from PIL import Image

from tests.pages.browser import opened
from tests.support import assert_input_error, new_folder, robot, room, run, short_mapping, short_run, site
from vinecompass import (
    MomentLog,
    demo_file,
    play_of_mapping,
    play_of_mission,
    play_of_run,
    price_floor,
    read_play,
    rehearse_mission,
    write_map,
    write_replay,
    write_run,
)
from vinecompass.pages import Event, Play, write_film
from vinecompass.rehearsal import read_moments
from vinecompass.runs.tables import read_table, table_bytes

EVIL = "</script><script>alert(1)</script>"


@functools.cache
def mission():
    """A few metres from the dock, on the map of a short run, with its moments."""
    log = MomentLog()
    toml = demo_file("site.toml").read_text()
    driven = rehearse_mission(
        site(), robot(), short_mapping().grid, [36.9, 20.5, -1.57], seed=1, site_toml=toml, watch=log
    )
    assert driven.arrived, driven.reason
    return driven, log


def data_of(page):
    """What a page holds, as its script reads it."""
    return json.loads(re.search(r'id="data">(.*?)</script>', page.read_text(), re.DOTALL)[1])


def numbers(text, kind="<f4"):
    return np.frombuffer(base64.b64decode(text), kind)


def points(data, packed, moment):
    begins, units = numbers(packed["begins"], "<u4"), numbers(packed["units"], "<i2").reshape(-1, 2)
    return np.array(data["origin"]) + data["unit"] * units[begins[moment] : begins[moment + 1]]


class WhatIsInThePage(unittest.TestCase):
    def test_it_holds_what_was_believed_true_and_seen(self):
        driven, log = mission()
        play = play_of_mission(driven, log)
        grid = short_mapping().grid
        costmap = price_floor(grid, robot())
        page = write_replay([play], grid, new_folder() / "replay.html", costmap=costmap)
        data = data_of(page)
        (told,) = data["plays"]
        t = numbers(told["t"]) + told["begin"]
        believed = numbers(told["poses"]).reshape(-1, 3)
        true = driven.run.truth.at(t)
        np.testing.assert_allclose(numbers(told["truth"]).reshape(-1, 3), true, atol=1e-4)
        np.testing.assert_allclose(numbers(told["error"]), np.hypot(*(believed - true)[:, :2].T), atol=1e-4)
        self.assertLess(np.diff(t).max(), 1.11)
        # Scans are drawn where they hit: on the walls of the site, or the people in it.
        walls = site().surfaces
        off = [shapely.distance(walls, shapely.points(points(data, told["scan"], k))) for k in range(0, len(t), 5)]
        self.assertGreater(np.mean(np.concatenate(off) < 0.1), 0.9)
        self.assertGreater(np.mean([len(each) for each in off]), 100)
        for event in driven.log.stops:
            self.assertIn(f"{event.name} reached", [each["text"] for each in told["events"]])
        self.assertLess(page.stat().st_size, 3e6)
        # The same mission is the same page; nothing in it is fetched from anywhere.
        again = write_replay([play], grid, new_folder() / "again.html", costmap=costmap)
        self.assertEqual(page.read_bytes(), again.read_bytes())
        self.assertEqual(re.findall(r'(?:src|href)="(?!data:)[^"]*"', page.read_text().split('id="data"')[0]), [])

    def test_names_are_told_and_never_run(self):
        driven, log = mission()
        event = Event(0.5, "notice", EVIL)
        play = dataclasses.replace(play_of_mission(driven, log), name=EVIL, finding=EVIL, events=[event])
        page = write_replay([play], short_mapping().grid, new_folder() / "replay.html")
        self.assertNotIn(EVIL, page.read_text())
        self.assertEqual(data_of(page)["plays"][0]["events"][0]["text"], EVIL)

    def test_a_run_is_localized_or_mapped(self):
        mapped = play_of_mapping(short_run(), short_mapping())
        localized = play_of_run(short_run(), short_mapping().grid)
        for play in (mapped, localized):
            np.testing.assert_allclose(play.poses[:, :2], short_run().truth.at(play.t)[:, :2], atol=0.1)
        self.assertTrue(mapped.grows and not localized.grows)
        self.assertIn("tracking", [event.text.split(":")[0] for event in localized.events])

    def test_what_cannot_be_played_is_named(self):
        driven, log = mission()
        play, folder = play_of_mission(driven, log), new_folder()
        grid = short_mapping().grid
        assert_input_error(self, lambda: write_replay([], grid, folder / "x.html"), "plays")
        assert_input_error(self, lambda: write_replay([play], grid, folder / "x.png"), ".html")
        other = price_floor(room(), robot())
        assert_input_error(self, lambda: write_replay([play], grid, folder / "x.html", costmap=other), "costmap")
        assert_input_error(self, lambda: Play("none", "", driven.run, []), "none")
        write_run(short_run(), folder / "run")
        assert_input_error(self, lambda: read_play(folder / "run", None), "map")


class WhatIsKept(unittest.TestCase):
    def test_moments_are_read_back_and_damage_is_named(self):
        driven, log = mission()
        folder = new_folder() / "mission"
        write_run(driven.run, folder, records=driven.log.files() | log.files())
        back = read_moments(folder)
        self.assertEqual(len(back), len(log.moments))
        for kept, read in zip(log.moments, back, strict=True):
            for name in ("t", "state", "reason", "people_rules", "shut_out"):
                self.assertEqual(getattr(kept, name), getattr(read, name))
            for name in ("pose", "cloud", "obstacles", "local", "candidates", "people"):
                np.testing.assert_allclose(getattr(kept, name), getattr(read, name), atol=1e-4)
        self.assertGreater(max(len(each.candidates) for each in back), 5)
        self.assertIn("of 225 motions: people: crossing", " ".join(why for each in back for why in each.shut_out))
        self.assertEqual(read_play(folder, None).events, play_of_mission(driven, log).events)
        self.assertEqual(read_moments(new_folder()), [])
        path = folder / "moments.parquet"
        columns = {name: read_table(path).column(name) for name in read_table(path).column_names}
        rows = len(back)
        for name, instead in (
            ("t", np.arange(rows)[::-1].astype(float)),
            ("cloud", [[1.0]] * rows),
            ("state", np.zeros(rows)),
            ("people_rules", ["{"] * rows),
            ("candidate_poses", np.full(rows, 7)),
        ):
            with self.subTest(name):
                path.write_bytes(table_bytes(columns | {name: instead}, "parquet"))
                assert_input_error(self, lambda: read_moments(folder), "moments.parquet")
        path.write_bytes(table_bytes(columns, "parquet"))
        for text in ("{", '["a"]', '{"t": 1}'):
            (folder / "states.jsonl").write_text(text)
            with self.subTest(text):
                assert_input_error(self, lambda: read_play(folder, None))


class Films(unittest.TestCase):
    def test_a_frame_a_second_shows_robot_and_plan_and_another_suffix_is_refused(self):
        driven, log = mission()
        play, folder, grid = play_of_mission(driven, log), new_folder(), short_mapping().grid
        film = Image.open(io.BytesIO(write_film(play, grid, folder / "film.gif").read_bytes()))
        self.assertAlmostEqual(film.n_frames, play.t[-1] - play.t[0], delta=3)
        film.seek(film.n_frames - 2)
        shown = np.array(film.convert("RGB")).reshape(-1, 3)
        for colour in ((15, 110, 110), (59, 111, 181), (46, 26, 47)):
            self.assertGreater(np.sum(np.abs(shown - colour).max(axis=1) < 12), 20, colour)
        for name, every, told in (("film.png", 1.0, ".gif"), ("film.gif", 0.0, "every")):
            assert_input_error(self, lambda n=name, e=every: write_film(play, grid, folder / n, every=e), told)
        if shutil.which("ffmpeg") is None:
            assert_input_error(self, lambda: write_film(play, grid, folder / "film.mp4"), "ffmpeg")
        else:
            self.assertEqual(write_film(play, grid, folder / "film.mp4").read_bytes()[4:8], b"ftyp")


class OnTheCommandLine(unittest.TestCase):
    def test_missions_and_runs_become_pages(self):
        folder = new_folder()
        driven, log = mission()
        write_run(driven.run, folder / "mission", records=driven.log.files() | log.files())
        write_run(short_run(), folder / "run")
        write_map(short_mapping().grid, folder / "map.png")
        with_map = ("--map", folder / "map.png")
        for words, count in (
            ((folder / "mission", *with_map, "--beside", folder / "run", "--film", folder / "film.gif"), 2),
            ((folder / "run",), 1),
        ):
            status, printed, error = run("replay", *words, "-o", folder / "page.html", "--json")
            self.assertEqual(status, 0, error)
            self.assertEqual(len(json.loads(printed)["quality"]["moments"]), count)
            self.assertEqual(len(data_of(folder / "page.html")["plays"]), count)
        (folder / "notes.html").write_text("<!doctype html>mine")
        for words, told in (
            ((folder / "run", "--beside", folder / "run", "-o", folder / "x.html"), "--map"),
            ((folder / "none", "-o", folder / "x.html"), "none"),
            ((folder / "run", "-o", folder / "notes.html"), "another page"),
        ):
            status, _, error = run("replay", *words)
            self.assertEqual((status, error.count("\n")), (2, 1))
            self.assertIn(told, error)


class InABrowser(unittest.TestCase):
    def test_it_plays_seeks_switches_and_points_on_a_desk_and_on_a_phone(self):
        driven, log = mission()
        plays = [play_of_mission(driven, log, name) for name in ("first", "second")]
        grid = short_mapping().grid
        page = write_replay(plays, grid, new_folder() / "page.html", costmap=price_floor(grid, robot()))
        for size in ((1280, 800), (390, 844)):
            with self.subTest(size=size), opened(page.as_uri(), size) as browser:
                do = browser.execute_script
                self.assertLessEqual(do("return document.documentElement.scrollWidth"), do("return innerWidth"))
                find = browser.find_element
                slider, view = find("id", "slider"), find("css selector", "#views canvas")
                before = view.screenshot_as_png
                find("css selector", "#events li:last-child button").click()
                end = float(slider.get_attribute("max"))
                self.assertAlmostEqual(float(slider.get_attribute("value")), end, delta=0.3)
                self.assertIn("reached", find("css selector", "#events li:last-child").text)
                later = view.screenshot_as_png
                self.assertNotEqual(later, before)
                find("css selector", "#layers input[name=prices]").click()
                self.assertNotEqual(view.screenshot_as_png, later)
                # By the keyboard alone: the map is pointed at and moved, the slider goes on, the button plays.
                view.send_keys("++")
                self.assertRegex(find("id", "card").text, r"price\s+(closed|\d+\.\d+ m/m)")
                slider.send_keys("\ue011")
                self.assertEqual(float(slider.get_attribute("value")), 0.0)
                find("id", "play").send_keys(" ")
                time.sleep(1.0)
                self.assertGreater(float(slider.get_attribute("value")), 0.3)
                self.assertEqual(find("id", "play").text, "Pause")
                find("id", "beside").send_keys(" ")
                self.assertEqual(len(browser.find_elements("css selector", "#views canvas")), 2)


if __name__ == "__main__":
    unittest.main()
