import json
import shutil
import subprocess
import sys
import unittest
from dataclasses import replace

import numpy as np
from PIL import Image

from tests.support import demo, dry_run, edited, new_folder, run, short_mapping, short_run
from vinecompass import demo_file, read_map, read_robot, read_run, read_track, write_map, write_run
from vinecompass.grids import clearance, in_frame
from vinecompass.planning import METHODS
from vinecompass.rehearsal import inject_fault


class TheDemoReachesWhatIsPromised(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder, printed = demo()
        cls.steps = {step["command"]: step for step in printed["steps"][::-1]}
        cls.printed = printed

    def test_map(self):
        truth = self.steps["map"]["truth"]
        self.assertGreaterEqual(truth["occupied_on_wall_share"], 0.95)
        self.assertGreaterEqual(truth["walls_found_share"], 0.90)
        self.assertEqual(truth["walls_doubled_share"], 0.0)

    def test_locate(self):
        quality, truth = self.steps["locate"]["quality"], self.steps["locate"]["truth"]
        self.assertLessEqual(truth["position_rmse_m"], 0.06)
        self.assertLessEqual(truth["heading_rmse_deg"], 1.0)
        self.assertLessEqual(quality["settled_after_m"], 5.0)

    def test_plan(self):
        self.assertTrue(self.steps["plan"]["quality"]["body_clear"])
        self.assertGreater(self.steps["plan"]["quality"]["least_clearance_m"], 0.0)

    def test_drive(self):
        truth = self.steps["drive"]["truth"]
        self.assertLessEqual(truth["position_error_m"], 0.10)
        self.assertLessEqual(truth["heading_error_deg"], 5.0)
        self.assertEqual((truth["contacts"], truth["limits_kept"]), (0, True))

    def test_every_file_is_there_and_reads(self):
        self.assertTrue(self.printed["done"])
        self.assertGreater(len((self.folder / "report.html").read_bytes()), 500_000)
        self.assertEqual(len(read_run(self.folder / "mission").streams()), 6)
        self.assertEqual(len(read_track(self.folder / "track.csv")), len(read_run(self.folder / "second-run").scans))
        for step in self.printed["steps"]:
            for path in step["files"].values():
                self.assertTrue((self.folder / path).exists(), path)
        self.assertEqual([path for path in self.folder.rglob("*") if "partial" in path.name], [])

    def test_the_recording_is_as_described(self):
        recording = read_run(self.folder / "recording")
        self.assertTrue(200.0 < recording.scans.t[-1] < 280.0)
        self.assertGreaterEqual(recording.scans.ranges.shape[1], 360)
        self.assertTrue(np.isnan(recording.scans.ranges).any() and np.isposinf(recording.scans.ranges).any())


class EditAndJudge(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = new_folder()
        write_map(short_mapping().grid, cls.folder / "dock.png")

    def call(self, *arguments):
        status, printed, told = run(*arguments, "--json")
        self.assertEqual(status, 0, told)
        return json.loads(printed)

    def test_edits_are_told_as_the_options_spell_them_and_shapes_off_the_map_are_refused(self):
        told, out = self.folder / "told.png", self.folder / "off.png"
        write_map(short_mapping().grid, told)
        edits = ("--wall", "34,18 34,19.5", "--crop", "30,17,39,24", "--zone", "corner:closed:35,21 36,21 36,22")
        printed = run("edit", told, *edits)[1]
        for line in (
            "1. paint reading occupied, line 34,18 34,19.5",
            "2. crop low 30,17, high 39,24",
            "3. zone polygon 35,21 36,21 36,22, name corner, kind closed",
        ):
            self.assertIn(line, printed)
        for option, words in (
            ("--wall=900,900 901,900", ["off the map"]),
            ("--zone=far:closed:900,900 901,900 901,901", ["off the map", "'far'"]),
            ("--zone=thin:dear=2:30,18 31,18", ["line", "closed"]),
            ("--erase=31,18 32,19 31,19 32,18", ["crosses itself"]),
            ("--erase=31,18", ["1 entries"]),
        ):
            with self.subTest(option):
                status, _, error = run("edit", told, option, "-o", out)
                self.assertEqual((status, error.count("\n"), out.exists()), (2, 1, False), error)
                for word in words:
                    self.assertIn(word, error)

    def test_edits_are_done_in_order_listed_undone_and_replayed(self):
        path, made_anew = self.folder / "edited.png", self.folder / "anew.png"
        for target in (path, made_anew):
            write_map(short_mapping().grid, target)
        picture = self.folder / "edit.png"
        done = self.call(
            "edit",
            path,
            "--wall",
            "34,18 34,19.5",
            "--brush",
            "33,18.8 35,18.8:0.6",
            "--specks",
            "0.02",
            "--zone",
            "corner:dear=2:35,21 36,21 36,22",
            "--picture",
            picture,
        )
        self.assertEqual((done["quality"]["edits"], done["quality"]["zones"]), (4, 1))
        self.assertEqual(picture.read_bytes()[:4], b"\x89PNG")
        grid = read_map(path)
        wall = [[34.0, 18.2], [34.0, 18.8], [34.0, 19.4]]
        self.assertEqual(grid.occupied[tuple(grid.cells_at(wall).T)].tolist(), [True, False, True])
        self.assertEqual(self.call("edit", path, "--undo")["quality"]["zones"], 0)
        self.call("edit", made_anew, "--replay", path)
        np.testing.assert_array_equal(read_map(made_anew).log_odds, read_map(path).log_odds)
        for _ in range(3):
            self.call("edit", path, "--undo")
        np.testing.assert_array_equal(read_map(path).log_odds, read_map(self.folder / "dock.png").log_odds)
        self.assertEqual(run("edit", path, "--undo")[0], 2)
        self.assertIn("4 edits", run("edit", made_anew, "--pockets", "0.1", "-o", path)[1])

    def test_zones_of_a_map_close_its_floor(self):
        path = self.folder / "zoned.png"
        write_map(short_mapping().grid, path)
        robot_path = demo_file("robot.toml")
        before = self.call("price", path, "--robot", robot_path, "-o", self.folder / "before.npz")
        self.call("edit", path, "--zone", "dock:closed:34,21 38,21 38,26 34,26")
        after = self.call("price", path, "--robot", robot_path, "-o", self.folder / "after.npz")
        self.assertLess(after["quality"]["open_m2"], before["quality"]["open_m2"] - 5.0)

    def test_a_painted_map_is_told_and_not_lost(self):
        path = self.folder / "painted.png"
        write_map(short_mapping().grid, path)
        with Image.open(path) as picture:
            painted = picture.convert("LA")
        painted.paste((0, 255), (50, 50, 90, 90))
        painted.save(path)
        _, printed, _ = run("judge", path)
        self.assertIn("painted on", printed)
        wanted = read_map(path).occupied
        self.assertIn("unedited map", " ".join(self.call("edit", path, "--wall", "34,18 34,19")["quality"]["notes"]))
        self.assertTrue(np.all(read_map(path).occupied[wanted]))
        self.call("edit", path, "--undo")
        np.testing.assert_array_equal(read_map(path).occupied, wanted)

    def test_square_and_merge_find_their_own_way(self):
        path, other = self.folder / "turned.png", self.folder / "other.png"
        write_map(in_frame(short_mapping().grid, [1.0, 2.0, np.radians(6.0)]), path)
        squared = self.call("edit", path, "--square")["quality"]["edit_list"][0]
        self.assertAlmostEqual(squared["turn_deg"], -6.0, delta=0.3)
        write_map(in_frame(short_mapping().grid, [-3.0, 4.0, 1.0]), other)
        merged = self.call("edit", path, "--merge", other)["quality"]["edit_list"][1]
        self.assertEqual(merged["map"], "other.png")
        judged = self.call("judge", path, "--against", self.folder / "dock.png", "--picture", self.folder / "j.png")
        self.assertGreater(judged["quality"]["matched_share"], 0.97)

    def test_wrong_calls_are_named(self):
        path = self.folder / "dock.png"
        for arguments, words in (
            (["edit", path, "--wall", "1,2 3"], ["--wall", "metres"]),
            (["edit", path, "--zone", "a:b:1,2 3,4 5,9"], ["kind", "'b'"]),
            (["edit", path, "--crop", "90,90,95,95"], ["off the map"]),
            (["edit", path, "--merge", demo_file("site.toml")], ["another folder"]),
            (["judge", self.folder / "none.png"], ["none.png", "no such file"]),
        ):
            with self.subTest(arguments=arguments):
                status, _, told = run(*arguments)
                self.assertEqual(status, 2)
                for word in words:
                    self.assertIn(word, told)

    def test_a_map_is_filmed_and_judged(self):
        write_run(short_run(), self.folder / "run")
        film = self.folder / "growing.gif"
        made = self.folder / "made.png"
        told = self.call("map", self.folder / "run", "-o", made, "--odometry", "wheels", "--film", film)
        self.assertLess(told["truth"]["relation_error_m"], 0.02)
        with Image.open(film) as pictures:
            self.assertGreater(pictures.n_frames, 3)
        judged = self.call("judge", made, "--picture", self.folder / "judge.png")
        self.assertLess(judged["quality"]["wall_thickness_m"], 0.1)
        self.assertFalse(judged["quality"]["closed"])


class CheckAndFuse(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = new_folder()
        write_run(dry_run(), cls.folder / "dry")

    def test_check_tells_findings_streams_and_frames(self):
        write_run(inject_fault(dry_run(), "stamps backwards", 20.0, 23.0), self.folder / "bad", tables="csv")
        status, printed, _ = run("check", self.folder / "bad", "--json", "--picture", self.folder / "check.png")
        result = json.loads(printed)
        self.assertEqual((status, result["quality"]["verdict"]), (0, "usable"))
        finding = result["quality"]["findings"][0]
        self.assertEqual((finding["stream"], finding["fault"]), ("imu", "stamps run backwards"))
        self.assertAlmostEqual(finding["begin_s"], 20.0, delta=0.5)
        self.assertEqual(result["quality"]["frames"][1]["provided_by"], "dead reckoning from wheels")
        self.assertEqual((self.folder / "check.png").read_bytes()[:4], b"\x89PNG")
        _, told, _ = run("check", self.folder / "bad")
        for words in ("serious: imu", "do: ", "jitter", "├─ front", "missing"):
            self.assertIn(words, told)
        status, told, _ = run("map", self.folder / "bad", "-o", self.folder / "map.png")
        self.assertEqual(status, 0)
        self.assertRegex(told, r"imu: \d+ rows not finite and \d+ out of order, of \d+, left out")
        write_run(inject_fault(dry_run(), "ranges in millimetres", 0.0, 1.0), self.folder / "broken")
        status, printed, _ = run("check", self.folder / "broken")
        self.assertEqual(status, 1)
        self.assertIn("broken", printed)

    def test_fuse_compares_and_writes_a_track_or_a_run_to_map_from(self):
        track, fused = self.folder / "track.csv", self.folder / "fused"
        status, printed, _ = run("fuse", self.folder / "dry", "--use", "wheels,imu", "-o", track, "--json")
        result = json.loads(printed)
        self.assertEqual(status, 0)
        self.assertLess(result["truth"]["fused_end_error_m"], 0.01 * dry_run().truth.length)
        self.assertEqual(set(result["quality"]["sources"]), {"imu", "wheels"})
        self.assertEqual(len(read_track(track)), len(dry_run().imu.t) + 1)
        status, told, _ = run("fuse", self.folder / "dry", "-o", fused, "--picture", self.folder / "fuse.png")
        self.assertEqual(status, 0)
        for words in ("beside truth", "scans", "innovation", "% of the way", "fuse.png"):
            self.assertIn(words, told)
        self.assertIsNotNone(read_run(fused).odometry)
        status, printed, _ = run("map", fused, "-o", self.folder / "map.png", "--json")
        self.assertLess(json.loads(printed)["truth"]["position_rmse_m"], 0.05)

    def test_what_is_made_of_a_mirrored_scanner_is_not_to_be_trusted_and_says_why(self):
        scans, place = short_run().scans, self.folder / "mirrored"
        mirrored = replace(scans, ranges=np.ascontiguousarray(scans.ranges[:, ::-1]))
        write_run(replace(short_run(), scans=mirrored), place)
        write_map(short_mapping().grid, self.folder / "true.png")
        for words in (
            ("map", place, "-o", self.folder / "mirrored.png"),
            ("fuse", place),
            ("locate", self.folder / "true.png", place, "--at", "36,24.6,0", "-o", self.folder / "way.csv"),
        ):
            with self.subTest(command=words[0]):
                status, told, _ = run(*words)
                self.assertEqual(status, 1)
                self.assertIn("not to be trusted, check the run first (the scans turn the other way", told)

    def test_estimate_mount_writes_an_amended_robot_file_that_keeps_its_comments(self):
        wrong = self.folder / "wrong"
        write_run(dry_run(), wrong)
        path = wrong / "robot.toml"
        path.write_text("# ours\n" + path.read_text().replace("[0.42, 0.0, 0.0]", "[0.3, 0.0, 5.0]"))
        self.assertIn("[0.3, 0.0, 5.0]", path.read_text())
        out = self.folder / "amended.toml"
        status, printed, _ = run("fuse", wrong, "--estimate-mount", "-o", out, "--json")
        self.assertEqual(status, 0)
        self.assertAlmostEqual(json.loads(printed)["quality"]["mount_x_m"], 0.42, delta=0.02)
        self.assertIn("# ours", out.read_text())
        self.assertAlmostEqual(read_robot(out).scanner.mount[2], 0.0, delta=0.3)

    def test_stamps_since_1970_change_nothing(self):
        told = {}
        for name, since in (("early", 0.0), ("late", 1.79e9)):
            place, recorded = self.folder / name, self.folder / name / "run"
            write_run(short_run().shifted(since), recorded)
            commands = (
                ("check", recorded),
                ("fuse", recorded, "-o", place / "fused.csv"),
                ("fuse", recorded, "--estimate-mount", "-o", place / "robot.toml"),
                ("map", recorded, "-o", place / "map.png", "--track", place / "way.csv"),
                ("locate", place / "map.png", recorded, "-o", place / "track.csv"),
            )
            told[name] = [json.loads(run(*command, "--json")[1]) for command in commands]
            counted = [told[name][number]["quality"]["times_count_from_s"] for number in (0, 1, 3, 4)]
            self.assertEqual(counted, 4 * [since])
            read = [read_track(place / file) for file in ("fused.csv", "way.csv", "track.csv")]
            told[name] += [(track.t - since, track.poses) for track in read]
        self.assertEqual(*(len(told[name][0]["quality"]["findings"]) for name in told))
        said = run("check", recorded)[1]
        self.assertIn("times are seconds after 1790000000 s (2026-09-21 14:13:20 UTC)", said)
        self.assertEqual(said.count("17900000"), 1)
        for command, key, within in (
            (1, "fused_rmse_m", 1e-4),
            (2, "mount_x_m", 1e-4),
            (2, "delay_s", 0.01),
            (3, "position_rmse_m", 1e-4),
            (4, "position_rmse_m", 0.01),
        ):
            early, late = ({**told[name][command]["quality"], **told[name][command].get("truth", {})} for name in told)
            self.assertAlmostEqual(early[key], late[key], delta=within, msg=key)
        for early, late, within in zip(told["early"][5:], told["late"][5:], (1e-4, 1e-4, 0.05), strict=True):
            np.testing.assert_allclose(early[0], late[0], atol=1e-6)
            np.testing.assert_allclose(early[1][:, :2], late[1][:, :2], atol=within)

    def test_what_is_wrong_is_named(self):
        dry, out = self.folder / "dry", self.folder / "x"
        simulate = ("simulate", demo_file("site.toml"), "--robot", demo_file("robot.toml"), "--route", "grand tour")
        for words, told in (
            (("fuse", dry, "--use", "wheels,sonar"), ["'sonar'", "position"]),
            (("fuse", dry, "-o", self.folder / "x.png"), ["x.png", ".csv"]),
            (("fuse", dry, "--estimate-mount", "--use", "imu"), ["--use", "--estimate-mount"]),
            (("fuse", dry, "--estimate-mount", "-o", self.folder / "x.csv"), ["x.csv", ".toml"]),
            (("check", self.folder), ["run.toml"]),
            ((*simulate, "-o", out, "--fault", "frozen scans"), ["--fault", "NAME@BEGIN-END", "mirrored lidar"]),
            (
                (*simulate[:-1], "press round", "-o", out, "--fault", "frozen scans@900-950"),
                ["--fault", "after the end"],
            ),
        ):
            with self.subTest(words=words[:2]):
                status, _, error = run(*words)
                self.assertEqual((status, error.count("\n")), (2, 1))
                for word in told:
                    self.assertIn(word, error)


class Commands(unittest.TestCase):
    def setUp(self):
        self.data, self.out = demo()[0], new_folder()
        self.robot, self.site, self.map = (self.data / name for name in ("robot.toml", "site.toml", "cellar.png"))

    def json_of(self, *arguments, status=0):
        got, printed, errors = run(*arguments, "--json")
        self.assertEqual(got, status, errors)
        self.assertEqual(printed.count("\n"), 1)
        return json.loads(printed)

    def test_a_round_is_driven_stop_by_stop_and_a_moment_of_it_drawn(self):
        path = self.out / "round.toml"
        head = 'format = "vinecompass round"\nversion = 1\n'
        path.write_text(head + '[[stop]]\nname = "near"\npose = [36.0, 22.5, -90.0]\n[[stop]]\nname = "dock"\n')
        words = ("drive", self.site, "--robot", self.robot, "--map", self.map, "--seed", 1)
        result = self.json_of(
            *words, "--round", path, "--planner", "band", "--moment", 3.0, "--picture", self.out / "m.png"
        )
        self.assertEqual([stop["name"] for stop in result["quality"]["stops"]], ["near", "dock"])
        self.assertTrue(all(stop["reached"] for stop in result["quality"]["stops"]))
        self.assertIn("all 2 stops", result["message"])
        self.assertTrue((self.out / "m.png").is_file())
        path.write_text(head + '[[stop]]\nname = "atlantis"\n')
        for more, told in (
            (("--round", path), ["stop", "atlantis", "one of"]),
            ((), ["--to, --round", "one of them"]),
            (("--round", path, "--to", "dock"), ["--to, --round"]),
            (("--to", "dock", "--moment", 2), ["--moment", "--picture"]),
            (("--to", "dock", "--to", "press"), ["--to", "more than once"]),
        ):
            status, _, error = run(*words, *more)
            with self.subTest(more=more):
                self.assertEqual((status, error.count("\n")), (2, 1))
                for word in told:
                    self.assertIn(word, error)

    def test_price_plan_and_drive_write_what_they_say(self):
        price = self.json_of(
            "price",
            self.map,
            "--robot",
            self.robot,
            "--zones",
            self.site,
            "-o",
            self.out / "c.npz",
            "--picture",
            self.out / "c.png",
        )
        self.assertEqual(set(price["files"]), {"costmap", "picture"})
        self.assertTrue(0.0 < price["quality"]["clear_m2"] < price["quality"]["open_m2"] < price["quality"]["free_m2"])
        plan = self.json_of(
            "plan",
            self.map,
            "--robot",
            self.robot,
            "--from",
            "dock",
            "--to",
            "bottling",
            "--site",
            self.site,
            "-o",
            self.out / "plan.csv",
            "--picture",
            self.out / "plan.png",
        )
        self.assertEqual(len((self.out / "plan.csv").read_text().splitlines()), plan["quality"]["poses"] + 1)
        drive = self.json_of(
            "drive",
            self.site,
            "--robot",
            self.robot,
            "--map",
            self.map,
            "--to",
            "36.0,22.0,-90",
            "-o",
            self.out / "mission",
            "--picture",
            self.out / "drive.png",
            "--seed",
            4,
        )
        self.assertTrue(drive["quality"]["arrived"])
        self.assertEqual([stop["name"] for stop in drive["quality"]["stops"]], ["36.0,22.0,-90"])
        self.assertIn("finished", [state["state"] for state in drive["quality"]["states"]])
        for name in ("states", "plans", "interventions", "stops", "encounters"):
            lines = (self.out / "mission" / f"{name}.jsonl").read_text().splitlines()
            self.assertTrue(all(isinstance(json.loads(line), dict) for line in lines), name)
        self.assertEqual(run("check", self.out / "mission")[0], 0)
        self.assertEqual(
            self.json_of("map", self.out / "mission", "-o", self.out / "again.png")["quality"]["scans"],
            len(read_run(self.out / "mission").scans),
        )

    def test_price_explains_lists_and_draws(self):
        base = ("price", self.map, "--robot", self.robot, "--zones", self.site)
        soft = self.out / "soft.toml"
        soft.write_text('format = "vinecompass settings"\nversion = 1\n[costs]\ncomfort = 1.0\nfall = "line"\n')
        seen = self.json_of(
            *base,
            "--scan",
            f"{self.data / 'second-run'}@0",
            "--scan-at",
            "36,24,0",
            "--narrow",
            "--explain",
            "8.0,12.0",
        )["quality"]
        self.assertEqual(list(seen["charges"]), ["map", "zones", "obstacles", "clearance"])
        self.assertEqual(seen["charges"]["map"], {"factor": 1.0, "closed": False, "why": "free"})
        self.assertGreaterEqual(seen["obstacle_cells"], 0)
        widths = [place["width_m"] for place in seen["narrow_places"]]
        self.assertEqual(widths, sorted(widths))
        # The aisle of 1.0 m between the racks, but not the cellar's doors of 1.6 m.
        self.assertTrue(any(abs(place["x_m"] - 10.3) < 0.2 and place["passes"] for place in seen["narrow_places"]))
        self.assertFalse(
            any(abs(place["x_m"] - 4.0) < 0.5 and 16.5 < place["y_m"] < 17.5 for place in seen["narrow_places"])
        )
        for number, options in enumerate((("--layers",), ("--along", "34,24", "38,19"), ("--against", soft))):
            picture = self.out / f"{number}.png"
            self.assertEqual(self.json_of(*base, *options, "--picture", picture)["files"], {"picture": str(picture)})
        for options, words in (
            (("--layers",), ["--layers", "--picture"]),
            (("--explain", "8"), ["--explain", "x,y"]),
            (("--explain", "800,1"), ["--explain", "off the map"]),
            (("--scan", "run"), ["--scan", "RUN@t"]),
            (("--scan", f"{self.data / 'second-run'}@9999"), ["scan", "is not in the run", "0 to"]),
            (("--scan", f"{self.data / 'second-run'}@0", "--scan-at", "8,12,0"), ["near", "36.0", "degrees"]),
            (("--along", "1,2", "x", "--picture", self.out / "a.png"), ["--along", "'x'"]),
        ):
            with self.subTest(options=options):
                status, _, errors = run(*base, *options)
                self.assertEqual((status, errors.count("\n")), (2, 1), errors)
                for word in words:
                    self.assertIn(word, errors)

    def test_plan_by_any_method_by_way_of_stops_and_compared(self):
        base = ("plan", self.map, "--robot", self.robot, "--site", self.site, "--from", "dock", "--to", "rack 4")
        plain = self.json_of(*base)["quality"]
        via = self.json_of(*base, "--via", "press", "-o", self.out / "round.csv")["quality"]
        self.assertEqual((plain["method"], via["legs"]), ("a-star", 2))
        self.assertGreater(via["length_m"], plain["length_m"] + 5.0)
        curved = self.json_of(*base, "--motion", "reeds-shepp", "--radius", 0.6)["quality"]
        self.assertEqual((curved["method"], curved["status"]), ("lattice", "found"))
        picture = self.out / "compared.png"
        compared = self.json_of(
            *base,
            "--compare",
            "a-star,rrt-connect",
            "--repeat",
            2,
            "--longest-edge",
            1,
            "--longest-edge",
            3,
            "--seed",
            8,
            "--picture",
            picture,
        )
        rows = {row["planner"]: row for row in compared["quality"]["planners"]}
        self.assertEqual(list(rows), ["a-star", *(f"rrt-connect, edges to {edge} m, seed 8" for edge in (1, 3))])
        self.assertAlmostEqual(rows["a-star"]["cost_m"], plain["cost_m"])
        self.assertTrue(picture.exists())
        status, printed, _ = run(*base, "--compare", "a-star")
        self.assertEqual((status, len(printed.splitlines())), (0, 4))
        closed = self.json_of(*base[:-1], "40.0,26.5,0", "--via", "30.5,4.2,0", status=1)
        self.assertIn("leg 1 of 2: goal closed", closed["message"])
        self.assertEqual(closed["quality"]["why_not"]["cause"], "unknown")
        for options, words in (
            (("--method", "best"), ["method", "'best'", "a-star"]),
            (("--method", "a-star", "--motion", "dubins", "--radius", 1), ["straight lines", "lattice"]),
            (("--motion", "dubins"), ["--radius", "missing"]),
            (("--radius", 1), ["--radius", "curves"]),
            (("--repeat", 3), ["--repeat", "--compare"]),
            (("--compare", "all", "--via", "press"), ["--compare", "--via"]),
            (("--compare", "a-star", "--repeat", 0), ["--repeat", "1<=x"]),
        ):
            with self.subTest(options=options):
                status, _, errors = run(*base, *options)
                self.assertEqual((status, errors.count("\n")), (2, 1), errors)
                for word in words:
                    self.assertIn(word, errors)

    def test_the_help_names_every_planner(self):
        # Lines may end within a name.
        text = " ".join(run("plan", "--help")[1].split()).replace("- ", "-")
        self.assertLessEqual(set(METHODS), {word.strip(".,") for word in text.split()})

    def test_an_answer_of_no_is_status_one_with_a_reason(self):
        plan = self.json_of(
            "plan", self.map, "--robot", self.robot, "--from", "36,24.6,0", "--to", "30.5,4.2,0", status=1
        )
        self.assertEqual((plan["done"], plan["quality"]["status"]), (False, "goal closed"))
        self.assertIn("30.50, 4.20", plan["message"])
        drive = self.json_of(
            "drive", self.site, "--robot", self.robot, "--map", self.map, "--to", "rack 4", "--time-limit", 3, status=1
        )
        self.assertIn("after 3 s", drive["message"])

    def test_people_read_one_line_of_result_the_files_and_what_next(self):
        status, printed, _ = run("price", self.map, "--robot", self.robot, "-o", self.out / "c.npz")
        lines = printed.splitlines()
        self.assertEqual((status, len(lines)), (0, 3))
        self.assertTrue(lines[0].startswith("price: of ") and lines[1].startswith("  wrote "))
        self.assertTrue(lines[2].startswith("  next: vinecompass plan "))

    def test_scans_alone_are_imported_and_that_nothing_tells_of_motion_is_said(self):
        done = (
            "import",
            "run",
            "--robot",
            self.robot,
            "--scans",
            self.data / "recording/scans.parquet",
            "-o",
            self.out / "run",
        )
        status, printed, error = run(*done)
        self.assertEqual((status, error), (0, ""))
        self.assertIn("no table tells of motion", printed)

    def test_a_picture_and_a_plan_become_maps_and_what_was_read_is_told(self):
        turned, look = self.out / "turned.png", self.out / "look.png"
        words = ("import", "map", self.map, "--cell-size", "0.05", "--corner", "1,2", "--turn-deg", "10", "-o", turned)
        told = self.json_of(*words, "--picture", look)
        first, again = read_map(self.map), read_map(turned)
        np.testing.assert_array_equal(again.free, first.free)
        self.assertEqual(again.corner, (1.0, 2.0))
        self.assertAlmostEqual(told["quality"]["free_m2"], first.free.sum() * 0.05**2, delta=0.01)
        self.assertEqual(told["files"], {"map": str(turned), "picture": str(look)})
        self.assertRegex(run(*words, "--force")[1], r"grey 25\d: +\d+.\d % of the picture, read as free")
        plan = self.out / "plan.geojson"
        plan.write_text(
            '{"type": "FeatureCollection", "features": [{"type": "Feature", "geometry": {"type": "LineString", '
            '"coordinates": [[0, 0], [4, 0], [4, 3], [0, 3], [0, 0]]}}]}'
        )
        told = self.json_of("import", "map", plan, "--cell-size", "0.05", "-o", self.out / "plan.png")
        self.assertAlmostEqual(told["quality"]["free_m2"], 11.65, delta=0.4)
        for words, known in (
            ((plan, "--unknown", "3"), "--unknown"),
            ((self.map, "--unit", "mm"), "--unit and --layer"),
        ):
            status, _, error = run("import", "map", *words, "--cell-size", "0.05", "-o", self.out / "none.png")
            self.assertEqual((status, known in error, error.count("\n")), (2, True, 1))

    def test_a_map_becomes_a_site_to_drive_in_and_what_is_closed_on_it_is_closed_to_drives(self):
        made, mapped = self.out / "made.toml", self.out / "own.png"
        for suffix in (".png", ".toml"):
            shutil.copy(self.map.with_suffix(suffix), mapped.with_suffix(suffix))
        words = ("--start", "36,24.6,0", "--stop", "ahead:38,24.6,0", "--route", "on:36,24.6 38,24.6", "-o", made)
        told = self.json_of("import", "site", mapped, *words)
        self.assertEqual(told["files"], {"site": str(made)})
        drive = ("drive", made, "--robot", self.robot, "--map", mapped, "--to", "ahead", "--json")
        self.assertEqual(run(*drive)[0], 0)
        run("edit", mapped, "--zone", "shut:closed:37.5,24 38.5,24 38.5,25 37.5,25")
        status, printed, _ = run(*drive)
        self.assertEqual((status, "'shut'" in printed), (1, True))
        for start, more, known in (
            ("0,0,0", (), "free floor"),
            ("36,24.6,0", ("--stop", "38,24.6,0"), "NAME:x,y,heading_deg"),
            ("36,24.6,0", ("--route", "on:36,24.6"), "2 points or more"),
        ):
            status, _, error = run("import", "site", mapped, "--start", start, *more, "-o", made)
            self.assertEqual((status, known in error, error.count("\n")), (2, True, 1), error)

    def test_a_run_of_ones_own_goes_through_import_map_and_locate(self):
        self.json_of(
            "simulate",
            self.site,
            "--robot",
            self.robot,
            "--route",
            "press round",
            "-o",
            self.out / "run",
            "--tables",
            "csv",
            "--seed",
            6,
        )
        tables = self.out / "run"
        self.json_of(
            "import",
            "run",
            "--robot",
            self.robot,
            "--scans",
            tables / "scans.csv",
            "--wheels",
            tables / "wheels.csv",
            "--imu",
            tables / "imu.csv",
            "--truth",
            tables / "truth.csv",
            "--start",
            "36,24.6,0",
            "-o",
            self.out / "own",
        )
        mapped = self.json_of("map", self.out / "own", "-o", self.out / "own.png")
        self.assertLess(mapped["truth"]["position_rmse_m"], 0.06)
        located = self.json_of("locate", self.map, self.out / "own", "--at", "36.3,24.4,-10", "-o", self.out / "t.csv")
        self.assertLess(located["truth"]["position_rmse_m"], 0.03)
        self.assertEqual((located["quality"]["last_state"], located["quality"]["warning"]), ("tracking", ""))
        self.assertGreater(clearance(read_map(self.out / "own.png").occupied, 0.05).max(), 1.0)

    def test_locate_starts_anywhere_or_at_a_dock_and_warns_of_a_turned_start(self):
        settings = self.out / "docks.toml"
        settings.write_text(
            'format = "vinecompass settings"\nversion = 1\n'
            '[[dock]]\nname = "loading dock"\npose = [36.0, 24.6, 0.0]\n'
            '[[dock]]\nname = "backwards"\npose = [36.0, 24.6, 180.0]\n'
        )
        common = ("locate", self.map, self.data / "mission", "-o", self.out / "t.csv", "--settings", settings)
        for start, warned in (
            (("--anywhere",), ""),
            (("--dock", "loading dock"), ""),
            (("--dock", "backwards", "--odometry", "wheels"), "turned by 180 degrees"),
        ):
            told = self.json_of(*common, *start)
            self.assertLess(told["truth"]["position_rmse_m"], 0.04)
            # Errors go on for seconds: the share of so short a run scatters about the 0.95 of long ones.
            self.assertGreater(told["truth"]["inside_ellipse_share"], 0.7)
            self.assertIn(warned, told["quality"]["warning"])
            self.assertEqual(bool(told["quality"]["warning"]), bool(warned))
        long = [*common[:2], self.data / "second-run", *common[3:]]
        _, printed, _ = run(*long, "--learn-noise", "--film", self.out / "cloud.gif")
        self.assertRegex(printed, r"\[localization\]\n +distance_noise = 0\.\d+")
        self.assertEqual((self.out / "cloud.gif").read_bytes()[:4], b"GIF8")
        for extra, words in (
            (("--dock", "cellar"), ["dock", "'cellar'", "loading dock, backwards"]),
            (("--anywhere", "--at", "1,2,3"), ["--anywhere", "does not go with another start"]),
            (("--learn-noise",), ["too short to learn from", "20 steps"]),
        ):
            status, _, errors = run(*common, *extra)
            self.assertEqual((status, errors.count("\n")), (2, 1), errors)
            for word in words:
                self.assertIn(word, errors)

    def test_every_wrong_input_is_one_line_status_two_and_leaves_nothing(self):
        broken = self.out / "broken.png"
        broken.write_bytes(self.map.read_bytes()[:4000])
        broken.with_suffix(".toml").write_bytes(self.map.with_suffix(".toml").read_bytes())
        no_scans = self.out / "no-scans"
        no_scans.mkdir()
        for name in ("run.toml", "robot.toml", "wheels.parquet"):
            (no_scans / name).write_bytes((self.data / "mission" / name).read_bytes())
        in_wall = edited("site.toml", "start = [36.0, 24.6, 0.0]", "start = [32.0, 22.0, 0.0]")
        unknown = edited("robot.toml", "track_width", "trak_width")
        text = edited("robot.toml", "braking = 1.1", 'braking = "hard"')
        before = sorted(self.out.rglob("*"))
        new, track, robot = self.out / "new.png", self.out / "new.csv", ("--robot", self.robot)
        tour = ("--route", "grand tour", "-o", new)
        for arguments, words in (
            (("map", "nowhere", "-o", new), ["nowhere", "run.toml"]),
            (("map", no_scans, "-o", new), ["no-scans", "scans"]),
            (("map", self.data / "mission", "-o", self.out / "new.jpg"), ["new.jpg", ".png"]),
            (("locate", self.map, self.data / "mission", "-o", new), ["new.png", ".csv"]),
            (("locate", broken, self.data / "mission", "-o", track), ["broken.png", "not a whole picture"]),
            (("locate", self.map, self.data / "mission", "--at", "1,2", "-o", track), ["--at", "'1,2'", "heading_deg"]),
            (("locate", self.map, self.data / "mission", "--at", "900,2,0", "-o", track), ["900.0", "on the map"]),
            (("simulate", self.site, "--robot", unknown, *tour), ["trak_width", "`track_width`"]),
            (("simulate", self.site, "--robot", text, *tour), ["drive.braking", "'hard'", "m/s2"]),
            (("simulate", in_wall, *robot, *tour), ["start", "32.0", "free floor"]),
            (("simulate", self.site, *robot, "--route", "moon", "-o", new), ["route", "'moon'", "grand tour"]),
            (("price", self.map, *robot, "--zones", "z.toml"), ["z.toml", "no such file"]),
            (("plan", self.map, *robot, "--from", "dock", "--to", "press"), ["--from", "'dock'", "--site"]),
            (("plan", self.map, *robot, "--from", "nan,1,2", "--to", "1,1,0"), ["--from", "'nan,1,2'"]),
            (("drive", in_wall, *robot, "--map", self.map, "--to", "press"), ["start", "free floor"]),
            (("import", "run", *robot, "--scans", "s.csv", "-o", new), ["s.csv", "no such file"]),
            (("import", "run", *robot, "--scans", "s.csv", "--how", "length=ell", "-o", new), ["'ell'", "mm"]),
            (
                ("import", "run", *robot, "--scans", "s.csv", "--how", "imu.time=ms", "-o", new),
                ["--how", "imu.time=ms"],
            ),
            (("import", "run", *robot, "--scans", "s.csv", "--column", "x=y", "-o", new), ["--column", "'x=y'"]),
            (("demo", "-o", self.map), ["cellar.png", "is a file"]),
            (("fly",), ["fly"]),
            (("map",), ["RUN"]),
        ):
            with self.subTest(arguments=arguments):
                status, printed, errors = run(*arguments)
                self.assertEqual((status, printed, errors.count("\n")), (2, "", 1), errors)
                for word in words:
                    self.assertIn(word, errors)
        self.assertEqual(sorted(self.out.rglob("*")), before)
        status, printed, _ = run("map", "nowhere", "-o", new, "--json")
        self.assertEqual((status, list(json.loads(printed))), (2, ["error"]))


class TheProgram(unittest.TestCase):
    def test_help_lists_the_commands_in_the_order_of_the_job(self):
        told = subprocess.run(
            [sys.executable, "-m", "vinecompass", "--help"], capture_output=True, text=True, check=True
        )
        lines = told.stdout.split("Commands:")[1].splitlines()
        names = [line.split()[0] for line in lines if line.strip()]
        self.assertEqual(
            names,
            [
                "demo",
                "simulate",
                "import",
                "check",
                "fuse",
                "map",
                "edit",
                "judge",
                "locate",
                "price",
                "plan",
                "drive",
                "live",
                "replay",
                "tune",
                "compile",
            ],
        )
        for name in names:
            self.assertEqual(run(name, "--help")[0], 0)

    def test_demo_files_are_named(self):
        self.assertTrue(demo_file("site.toml").is_file())


if __name__ == "__main__":
    unittest.main()
