import dataclasses
import unittest

import numpy as np
from benchmarks.other_world.record_campaign import place_and_run
from scipy.spatial import KDTree

from tests.support import (
    assert_input_error,
    clockwise_robot,
    loop_run,
    new_folder,
    robot,
    short_mapping,
    short_run,
    site,
)
from vinecompass import (
    Grid,
    Mapper,
    build_map,
    compare_tracks,
    measure_map,
    read_map_record,
    read_settings,
    record_drive,
    write_map,
)
from vinecompass.geometry import arc, chain, compose, relative
from vinecompass.mapping.disputed import disputes
from vinecompass.mapping.place_along import place_along
from vinecompass.odometry import motion_at, odometry_track
from vinecompass.runs import Scans, Track, compare_relations, rows_of
from vinecompass.settings import MappingSettings
from vinecompass.simulation import parse_site


def bent_track(run, track):
    """The odometry with a turn too much: a degree every five metres."""
    way = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(track.poses[:, :2], axis=0).T))])
    steps = relative(track.poses[1:], track.poses[:-1])
    poses = [track.poses[0]]
    for step, length in zip(steps, np.diff(way), strict=True):
        poses.append(compose(compose(poses[-1], step), arc([0.0, 0.0, np.radians(0.2)], length)))
    return Track(track.t, np.array(poses))


def first_stamp(mapper, number):
    return next(keyframe.t for keyframe in mapper.keyframes if keyframe.submap == number)


class AgainstTheTrueSite(unittest.TestCase):
    def test_walls_are_where_they_are(self):
        accuracy = measure_map(short_mapping().grid, site(), short_run())
        self.assertGreater(accuracy.on_wall, 0.99)
        self.assertGreater(accuracy.walls_found, 0.95)
        self.assertEqual(accuracy.doubled, 0.0)
        self.assertLess(accuracy.wall_error_rms, 0.04)

    def test_the_track_is_better_than_the_wheels_that_it_began_from(self):
        run = short_run()
        error = compare_tracks(short_mapping().track, run.truth)
        self.assertLess(error.position.max(), 0.06)
        self.assertLess(np.degrees(np.abs(error.heading)).max(), 0.4)

    def test_a_wall_drawn_twice_is_measured_as_doubled_and_a_shifted_one_as_off(self):
        grid = short_mapping().grid
        doubled = grid.log_odds.copy()
        row, column = grid.cells_at([[40.0, 20.2]])[0]
        doubled[row, column : column + 60] = 3.0
        accuracy = measure_map(dataclasses.replace(grid, log_odds=doubled), site(), short_run())
        self.assertGreater(accuracy.doubled, 0.01)
        shifted = Grid(grid.log_odds, grid.cell_size, (grid.corner[0] + 0.2, grid.corner[1] + 0.2))
        self.assertLess(measure_map(shifted, site(), short_run()).on_wall, 0.3)

    def test_people_who_walked_by_are_not_baked_in(self):
        distances = site().distances_to_surface(short_mapping().grid.occupied_points())
        # Who stood where the scanner looked last is still there.
        self.assertLess(np.mean(distances > 0.3), 0.008)


GLASS_ROOM = """
format = "vinecompass site"
version = 1
name = "Tasting rooms"
start = [1.5, 1.5, 0.0]
[[wall]]
points = [[0, 0], [12, 0], [12, 6], [0, 6], [0, 0]]
[[wall]]
points = [[7, 0], [7, 6]]
lets_by = 0.7
[[solid]]
polygon = [[9, 2], [10, 2], [10, 3], [9, 3]]
"""


class Glass(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.glass_site = parse_site(GLASS_ROOM)
        cls.route = [(5.0, 1.5), (5.0, 4.5), (1.5, 4.5), (1.5, 2.0)]
        cls.seen = record_drive(cls.glass_site, robot(), cls.route, seed=2, site_toml=GLASS_ROOM)

    def test_seven_beams_in_ten_pass(self):
        scans = self.seen.scans.ranges[:25]
        lidar, bearing = robot().scanner, robot().scanner.beam_angles
        ahead = np.abs(bearing) < np.radians(12.0)
        distance = (7.0 - 1.5 - lidar.mount[0]) / np.cos(bearing[ahead])
        seen = scans[:, ahead]
        on_glass = np.abs(seen - distance) < 0.1
        self.assertAlmostEqual(np.sum(on_glass) / np.sum(np.isfinite(seen)), 0.3, delta=0.05)

    def test_glass_is_a_wall_and_the_floor_behind_it_is_floor(self):
        # Which of the thin pane's cells are hit often enough is chance: of one drive 0.86 to 0.96 of them.
        walls = []
        for seed in range(1, 9):
            seen = record_drive(self.glass_site, robot(), self.route, seed=seed, site_toml=GLASS_ROOM)
            mapping = build_map(seen)
            grid = mapping.grid
            beside = [[[7.0 + off, y] for off in (-0.05, 0.0, 0.05)] for y in np.arange(0.5, 5.5, 0.1)]
            walls += [grid.occupied[tuple(grid.cells_at(points).T)].any() for points in beside]
            behind = [[8.0, y] for y in np.arange(1.0, 5.0, 0.25)]
            self.assertGreater(np.mean(grid.free[tuple(grid.cells_at(behind).T)]), 0.9)
            self.assertLess(compare_tracks(mapping.track, seen.truth).position.max(), 0.05)
        self.assertGreater(np.mean(walls), 0.9)


class MadeUpOdometry(unittest.TestCase):
    """The wheels stand still while the robot moves, or run while it stands: the scans know better."""

    def test_wheels_that_spin_do_not_move_the_map(self):
        run = short_run()
        standing = dataclasses.replace(run, scans=Scans(run.scans.t[:25], run.scans.ranges[:25]))
        spinning = odometry_track(run)
        spinning = Track(spinning.t, spinning.poses + np.outer(0.3 * spinning.t, [1.0, 0.0, 0.2]))
        mapping = build_map(standing, odometry=spinning)
        off = relative(mapping.track.poses[-1], mapping.track.poses[0])
        self.assertLess(np.hypot(*off[:2]), 0.05)
        self.assertLess(abs(np.degrees(off[2])), 1.0)

    def test_a_robot_pushed_by_hand_is_followed(self):
        run = short_run()
        still = odometry_track(run)
        still.poses[:] = still.poses[0]
        before_the_aisle = run.scans.t < 11.0
        part = Scans(run.scans.t[before_the_aisle], run.scans.ranges[before_the_aisle])
        mapping = build_map(dataclasses.replace(run, scans=part), odometry=still)
        self.assertGreater(np.hypot(*np.ptp(mapping.track.poses[:, :2], axis=0)), 4.0)
        self.assertLess(compare_tracks(mapping.track, run.truth).position.max(), 0.7)

    def test_worn_wheels_are_found_out(self):
        run = loop_run()
        for scale, told in ((1.02, "2.0 % too long"), (1.0, ""), (0.994, "")):
            odometry = Track(run.truth.t, run.truth.poses * [scale, scale, 1.0])
            with self.subTest(scale=scale):
                mapping = build_map(run, odometry=odometry)
                self.assertAlmostEqual(mapping.mapper.odometry_scale * scale, 1.0, delta=0.001)
                self.assertEqual(bool(mapping.notes), bool(told))
                self.assertIn(told, " ".join(mapping.notes))
                self.assertLess(compare_relations(mapping.track, run.truth).position, 0.008)

    def test_plain_walls_are_drawn_anew_once_the_odometrys_scale_is_known(self):
        _, run = place_and_run(1)
        run = dataclasses.replace(run, scans=rows_of(run.scans, run.scans.t < 150.0))
        for scale, anew in ((1.01, True), (1.0, False)):
            watched = []
            with self.subTest(scale=scale):
                odometry = Track(run.truth.t, run.truth.poses * [scale, scale, 1.0])
                mapping = build_map(run, odometry=odometry, watch=watched.append)
                self.assertEqual(watched[0] is not watched[-1], anew)
                self.assertIs(watched[-1], mapping.mapper)
                # Seventy metres of ribs of five centimetres: 0.7 m too long, and drawn once 0.16 m off.
                self.assertLess(compare_relations(mapping.track, run.truth).aligned_rmse, 0.06)

    def test_without_loops_each_submap_stays_where_the_scans_put_it(self):
        run = loop_run()
        bent = bent_track(run, odometry_track(run))
        apart = build_map(run, odometry=bent, settings=MappingSettings(close_loops=False)).mapper
        self.assertEqual((apart.loops, len(apart.graph.links)), ([], len(apart.submaps) - 1))
        for link in apart.graph.links:
            lies = relative(apart.graph.poses[link.target], apart.graph.poses[link.origin])
            np.testing.assert_allclose(lies, link.pose, atol=1e-9)
        np.testing.assert_allclose(apart.way[-1], apart.pose, atol=0.3)
        self.assertGreater(apart.memory, 1_000_000)


class Mapping(unittest.TestCase):
    def test_in_a_stream_and_in_a_batch_it_is_the_same_map(self):
        run, odometry = loop_run(), odometry_track(loop_run())
        mapper, mapping = Mapper(run.robot, start=run.start), build_map(run, odometry=odometry)
        for scan in run.scans:
            mapper.update(scan, motion_at(odometry, scan.t, run.robot.scanner))
            if len(mapper.keyframes) % 40 == 0:
                mapper.snapshot()  # Looking at the map on the way changes nothing, though loops move it later.
        mapper.finish()
        self.assertTrue(any(not loop.refused for loop in mapper.loops))
        np.testing.assert_array_equal(mapper.graph.poses, mapping.mapper.graph.poses)
        np.testing.assert_array_equal(mapper.snapshot().log_odds, mapping.grid.log_odds)

    def test_places_seen_again_straighten_the_map(self):
        run = loop_run()
        bent, true = bent_track(run, odometry_track(run)), run.truth
        closed = build_map(run, odometry=bent)
        found = [loop for loop in closed.mapper.loops if not loop.refused]
        self.assertGreater(len(found), 2)
        for loop in found:
            former, later = (closed.mapper.submaps[n].t for n in (loop.former, loop.submap))
            off = relative(loop.pose, relative(true.at([later])[0], true.at([former])[0]))
            if loop.open_along is not None:
                # Along plain walls it says nothing.
                off[0], off[1] = 0.0, off[1] * np.cos(loop.open_along) - off[0] * np.sin(loop.open_along)
            self.assertLess(np.hypot(*off[:2]), 0.08)
        error = compare_relations(closed.track, true)
        self.assertLess(error.position, 0.02)
        self.assertLess(np.degrees(error.heading), 0.2)
        self.assertFalse(any("walls stand twice" in note for note in closed.notes))
        poses = closed.mapper.graph.poses.copy()
        poses[4] = compose(poses[4], [0.4, 0.6, 0.0])
        spot = disputes(closed.mapper.submaps, poses, closed.grid)
        self.assertEqual([round(one.begin, 3) for one in spot], [round(first_stamp(closed.mapper, 4), 3)])

    def test_rounds_over_known_floor_add_hardly_anything(self):
        lap = [(36.9, 24.6), (36.9, 18.5), (29.0, 18.5), (28.2, 22.5), (29.8, 24.0), (30.0, 25.5), (34.0, 25.4)]
        run = record_drive(site(), robot(), 4 * lap, seed=6)
        mapping = build_map(run)
        begun = [submap.begins_at for submap in mapping.mapper.submaps]
        own = ~mapping.mapper.graph.rides
        self.assertLess(own.sum(), 0.65 * len(own))
        # Some two and a half laps of 24 m, and the last one, which nothing comes after.
        self.assertLess(np.sort(np.array(begun)[own])[-2], 65.0)
        # One former submap is asked where the submap before lay on known floor, too.
        asked = np.bincount([loop.submap for loop in mapping.mapper.closed_loops], minlength=len(own))
        goes_on = np.flatnonzero(~own[1:] & ~own[:-1]) + 1
        self.assertGreater(len(goes_on), 8)
        self.assertEqual(np.median(asked[goes_on]), 1.0)
        self.assertGreater(asked.max(), 1)
        kept = [keyframe.t for keyframe in mapping.mapper.keyframes]
        by_lap = np.histogram(kept, bins=4, range=(0.0, run.scans.t[-1]))[0]
        self.assertLess(by_lap[3], 0.2 * by_lap[0])
        self.assertEqual(measure_map(mapping.grid, site(), run).doubled, 0.0)
        self.assertLess(compare_relations(mapping.track, run.truth).aligned_rmse, 0.02)

    def test_a_place_is_found_again_after_a_drive_that_no_scan_shows_however_far_the_odometry_went_astray(self):
        run, odometry = loop_run(), odometry_track(loop_run())
        away = (odometry.t[1:] > 14.0) & (odometry.t[1:] < 30.0)
        hidden = (run.scans.t > 14.0) & (run.scans.t < 30.0)
        missing = Scans(run.scans.t[~hidden], run.scans.ranges[~hidden])
        silent = Scans(run.scans.t, np.where(hidden[:, None], np.float32(np.nan), run.scans.ranges))
        cases = (
            (silent, 0.0, 1.0),
            (missing, 20.0, 1.15),
            (silent, 20.0, 1.15),
            (silent, -60.0, 1.2),
            (silent, 150.0, 0.7),
        )
        for scans, turned, scale in cases:
            with self.subTest(scans=len(scans.t), turned=turned, scale=scale):
                steps = relative(odometry.poses[1:], odometry.poses[:-1])
                steps[away] = steps[away] * [scale, scale, 1.0] + [0.0, 0.0, np.radians(turned) / away.sum()]
                astray = Track(odometry.t, chain(odometry.poses[0], steps))
                mapping = build_map(dataclasses.replace(run, scans=scans), odometry=astray)
                self.assertIn("no scan shows where the robot went", " ".join(mapping.notes))
                shown = (mapping.track.t < 14.0) | (mapping.track.t > 30.0)
                track = Track(mapping.track.t[shown], mapping.track.poses[shown])
                self.assertLess(compare_relations(track, run.truth).aligned_rmse, 0.02)

    def test_small_things_on_nearly_plain_walls_tell_where_along_them_a_place_lies_and_plain_ones_nothing(self):
        rng = np.random.default_rng(3)
        x = np.arange(-12.0, 12.0, 0.02)
        ribs = [(4.0 * k + rng.normal(scale=0.2), side) for k in range(-3, 4) for side in (-1.0, 1.0)]

        def seen(with_ribs):
            walls = [np.column_stack([x, np.full_like(x, side)]) for side in (-1.0, 1.0)]
            for at, side in ribs if with_ribs else []:
                wall = walls[int(side > 0.0)]
                wall[np.abs(wall[:, 0] - at) < 0.15, 1] -= 0.05 * side
            return np.concatenate(walls) + rng.normal(scale=0.01, size=(2 * len(x), 2))

        for with_ribs in (True, False):
            points = seen(with_ribs)
            points = points[np.abs(points[:, 0]) < 6.0][::3]
            found = place_along(KDTree(seen(with_ribs)), points - [0.33, 0.0], np.array([1.0, 0.0]), reach=1.0)
            if with_ribs:
                self.assertAlmostEqual(found, 0.33, delta=0.02)
            else:
                self.assertIsNone(found)

    def test_how_well_the_drive_fits_together_is_saved_with_the_map(self):
        mapping = build_map(loop_run())
        path = new_folder() / "loop.png"
        write_map(mapping.grid, path, making=mapping.making)
        making = read_map_record(path).making
        self.assertEqual(making, mapping.making)
        self.assertEqual(making.scans_kept, len(mapping.mapper.keyframes))
        self.assertGreater(making.loops_closed, 1)
        self.assertTrue(0.0 < making.loop_error < 0.03 and 0.0 < making.loop_error_deg < 0.3)
        self.assertEqual(build_map(short_run(), settings=MappingSettings(close_loops=False)).making.loops_closed, 0)

    def test_scans_alone_make_a_map(self):
        run = dataclasses.replace(short_run(), wheels=None, imu=None)
        error = compare_tracks(build_map(run).track, run.truth)
        self.assertLess(error.position_rmse, 0.08)

    def test_a_leap_of_the_odometry_is_left_out_and_told(self):
        run = short_run()
        spoilt = odometry_track(run)
        spoilt.poses[spoilt.t > 20.0, 0] += 5.0
        mapping = build_map(run, odometry=spoilt)
        self.assertIn("leapt at 20.", mapping.notes[0])
        self.assertLess(compare_tracks(mapping.track, run.truth).position.max(), 0.1)

    def test_scans_without_overlap_are_told_and_an_hour_at_rest_adds_nothing(self):
        run = short_run()
        ranges = run.scans.ranges.copy()
        noise = run.scans.t > 14.0
        ranges[noise] = np.random.default_rng(0).uniform(0.5, 12.0, ranges[noise].shape)
        torn = dataclasses.replace(run, scans=Scans(run.scans.t, ranges))
        self.assertRegex(" ".join(build_map(torn).notes), r"from 14.\d to .* hardly overlap")
        still = odometry_track(run)
        still.poses[:] = still.poses[0]
        scan = next(iter(run.scans))
        mapper = Mapper(run.robot)
        for t in np.arange(0.0, 3600.0, 5.0):
            motion = motion_at(still, scan.t, run.robot.scanner)
            mapper.update(dataclasses.replace(scan, t=t), dataclasses.replace(motion, t=t))
        self.assertEqual((len(mapper.keyframes), len(mapper.submaps)), (1, 1))
        np.testing.assert_allclose(mapper.pose, 0.0, atol=0.02)

    def test_a_scanner_that_spins_clockwise_makes_the_same_map(self):
        run = record_drive(site(), clockwise_robot(), [(36.9, 24.6), (36.9, 20.0)], seed=5)
        mapping = build_map(run)
        self.assertLess(compare_tracks(mapping.track, run.truth).position.max(), 0.04)
        self.assertGreater(measure_map(mapping.grid, site(), run).on_wall, 0.99)

    def test_a_start_elsewhere_moves_the_map_and_settings_are_heeded(self):
        part = dataclasses.replace(short_run(), scans=Scans(short_run().scans.t[:40], short_run().scans.ranges[:40]))
        here = build_map(part, settings=MappingSettings(cell_size=0.1))
        there = build_map(
            dataclasses.replace(part, start=part.start + [100.0, 0, 0]), settings=MappingSettings(cell_size=0.1)
        )
        self.assertEqual(here.grid.cell_size, 0.1)
        np.testing.assert_allclose(np.subtract(there.grid.corner, here.grid.corner), [100.0, 0.0], atol=0.11)
        np.testing.assert_allclose(there.track.poses - here.track.poses, [[100.0, 0.0, 0.0]] * 40, atol=0.02)

    def test_progress_is_told(self):
        told = []
        part = dataclasses.replace(short_run(), scans=Scans(short_run().scans.t[:60], short_run().scans.ranges[:60]))
        build_map(part, progress=lambda share, word: told.append((share, word)))
        self.assertEqual([word.split(",")[0] for _, word in told if "kept" in word], ["mapping"] * 2)

    def test_beams_that_would_tell_nothing_are_refused(self):
        for keys, words in (
            ("hit_if_free = 0.5", ["hit_if_free = 0.5", "not below"]),
            ("hit_if_occupied = 1.0", ["hit_if_occupied = 1.0"]),
            ("hit_if_free = 0.0", ["0 or 1"]),
            ("loop_agreement = 1.5", ["loop_agreement", "1.5"]),
        ):
            with self.subTest(keys=keys):
                path = new_folder() / "settings.toml"
                path.write_text(f'format = "vinecompass settings"\nversion = 1\n[mapping]\n{keys}\n')
                assert_input_error(self, lambda path=path: read_settings(path), *words)

    def test_runs_that_make_no_map_are_refused(self):
        run = short_run()
        empty = Scans(run.scans.t[:5], np.full((5, robot().scanner.beams), np.nan, np.float32))
        for change, words in (
            ({"scans": None}, ["scans"]),
            ({"scans": empty}, ["no beam has returned"]),
        ):
            with self.subTest(change=list(change)):
                assert_input_error(self, lambda change=change: build_map(dataclasses.replace(run, **change)), *words)


if __name__ == "__main__":
    unittest.main()
