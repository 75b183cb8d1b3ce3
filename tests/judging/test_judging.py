import dataclasses
import unittest
from pathlib import Path

import numpy as np
from scipy.spatial.distance import cdist

from tests.support import assert_input_error, loop_run, room, short_mapping
from vinecompass import Grid, Track, align_maps, apply_edits, build_map, compare_maps, judge_map
from vinecompass.geometry import compose, relative
from vinecompass.grids import check_edits, in_frame
from vinecompass.judging import misfit_of_track, misfits_on_map
from vinecompass.runs import Scans


def edited(grid, *edits):
    return apply_edits(grid, check_edits(edits), folder=Path())[0]


def block(x, y, reading="occupied", size=0.8):
    corners = [[x, y], [x + size, y], [x + size, y + size], [x, y + size]]
    return {"do": "paint", "reading": reading, "polygon": corners}


class Alignment(unittest.TestCase):
    def test_a_map_is_found_on_another_however_it_lies(self):
        grid = short_mapping().grid
        for frame in ([0.1, 0.0, 0.01], [30.0, -12.0, 2.0], [36.0, 20.0, -np.pi / 2.0]):
            with self.subTest(frame=frame):
                found = align_maps(in_frame(grid, frame), grid)
                off = relative(found.pose, frame)
                self.assertLess(np.hypot(*off[:2]), 0.03)
                self.assertLess(abs(np.degrees(off[2])), 0.1)
                self.assertGreater(found.agreement, 0.95)

    def test_two_drives_of_one_floor_make_maps_that_agree(self):
        found = compare_maps(short_mapping().grid, build_map(loop_run()).grid)
        self.assertLess(np.hypot(*found.alignment.pose[:2]), 0.06)
        self.assertGreater(found.matched, 0.97)

    def test_maps_of_different_floors_do_not_fit(self):
        empty = Grid(np.full((40, 40), -3.0, np.float32), 0.05)
        assert_input_error(self, lambda: align_maps(empty, room()), "hardly any walls")
        rng = np.random.default_rng(0)
        noise = Grid(np.where(rng.random((120, 120)) < 0.02, 3.0, -3.0).astype(np.float32), 0.05)
        assert_input_error(self, lambda: align_maps(short_mapping().grid, noise), "agree by")


class Differences(unittest.TestCase):
    def test_new_gone_and_moved_things_are_told_apart(self):
        base = edited(room(8.0, 6.0), block(1.0, 4.4, size=0.5), block(6.0, 0.8))
        before = edited(base, block(2.0, 1.0), block(6.4, 4.6, size=0.4))
        after = edited(base, block(3.2, 1.6), block(1.0, 2.4, size=1.4))
        found = compare_maps(after, in_frame(before, [1.0, -2.0, 0.5]))
        self.assertEqual(sorted(thing.kind for thing in found.things), ["moved", "new", "vanished"])
        things = {thing.kind: thing for thing in found.things}
        np.testing.assert_allclose(things["moved"].middle, [3.6, 2.0], atol=0.1)
        np.testing.assert_allclose(things["moved"].moved_from, [2.4, 1.4], atol=0.1)
        np.testing.assert_allclose(things["new"].middle, [1.7, 3.1], atol=0.1)
        np.testing.assert_allclose(things["vanished"].middle, [6.6, 4.8], atol=0.1)
        for kind, area in (("moved", 0.64), ("new", 1.96), ("vanished", 0.16)):
            self.assertAlmostEqual(things[kind].area_m2, area, delta=0.1 + 0.1 * area)

    def test_what_one_map_never_saw_is_not_new(self):
        before = edited(room(), block(2.0, 1.0, "unknown", 1.0))
        self.assertEqual(compare_maps(edited(room(), block(2.1, 1.1)), before).things, [])


class Misfit(unittest.TestCase):
    def test_hits_are_as_far_from_walls_as_brute_force_says(self):
        run, grid = loop_run(), short_mapping().grid
        lidar = run.robot.scanner
        misfits = misfits_on_map(grid, run, run.truth, odometry=run.truth)
        self.assertEqual(misfits.shape, (len(run.scans),))
        for number in (5, 60):
            t, ranges = run.scans.t[number], run.scans.ranges[number].astype(float)
            hit = np.flatnonzero(lidar.returned(ranges))[:: max(int(np.sum(lidar.returned(ranges))) // 60, 1)]
            sensor = compose(run.truth.at(t + lidar.beam_delays), lidar.mount_pose)[hit]
            angles = sensor[:, 2] + lidar.beam_angles[hit]
            ends = sensor[:, :2] + ranges[hit, None] * np.column_stack([np.cos(angles), np.sin(angles)])
            away = cdist(ends, grid.occupied_points()).min(axis=1)
            self.assertAlmostEqual(misfits[number], np.minimum(away, 0.3).mean(), places=5)

    def test_a_drive_that_comes_back_beside_itself_fits_worse_the_farther(self):
        run = loop_run()
        turned = [
            run.truth.poses + np.linspace(0.0, 1.0, len(run.truth))[:, None] * [metres, 0.0, 0.0]
            for metres in (0.0, 0.1, 0.3)
        ]
        misfits = [misfit_of_track(run, Track(run.truth.t, poses), odometry=run.truth) for poses in turned]
        # Halves of the drive lie half of that apart; what people hid from one of them is the same by any track.
        self.assertGreater(misfits[1], misfits[0] + 0.002)
        self.assertGreater(misfits[2], misfits[1] + 0.006)
        nowhere = dataclasses.replace(run, scans=Scans(run.scans.t[:5], run.scans.ranges[:5]))
        self.assertTrue(np.isnan(misfit_of_track(nowhere, run.truth, odometry=run.truth)))
        empty = Grid(np.zeros((5, 5), np.float32), 0.1)
        assert_input_error(self, lambda: misfits_on_map(empty, run, run.truth, odometry=run.truth), "no wall")


class Quality(unittest.TestCase):
    def test_a_plain_room_is_closed_and_its_walls_are_as_thick_as_drawn(self):
        quality = judge_map(room())
        self.assertTrue(quality.closed)
        self.assertEqual((quality.spots, quality.unknown_share, quality.unsure_share), ([], 0.0, 0.0))
        self.assertAlmostEqual(quality.wall_thickness, 0.05, delta=0.005)
        thick = edited(room(), {"do": "paint", "reading": "occupied", "line": [[1, 2], [5, 2]], "width": 0.3})
        self.assertGreater(judge_map(thick).wall_thickness, 0.07)

    def test_a_doubled_wall_and_an_open_edge_are_found_where_they_are(self):
        line = {"do": "paint", "reading": "occupied", "line": [[1.0, 0.25], [4.0, 0.25]]}
        hole = {"do": "paint", "reading": "unknown", "polygon": [[5.0, 1.0], [6.1, 1.0], [6.1, 3.0], [5.0, 3.0]]}
        quality = judge_map(edited(room(), line, hole))
        spots = {spot.kind: spot for spot in quality.spots}
        self.assertEqual(set(spots), {"double line", "open edge"})
        self.assertAlmostEqual(spots["double line"].length, 3.0, delta=0.3)
        np.testing.assert_allclose([spots["double line"].x, spots["double line"].y], [2.5, 0.15], atol=0.1)
        self.assertAlmostEqual(spots["open edge"].x, 5.3, delta=0.4)
        self.assertFalse(quality.closed)
        pocket = judge_map(edited(room(), block(2.0, 1.0, "unknown", 1.0)))
        self.assertAlmostEqual(pocket.unknown_share, 1.0 / 24.0, delta=0.005)

    def test_nothing_to_judge_is_refused(self):
        assert_input_error(self, lambda: judge_map(Grid(np.zeros((5, 5), np.float32), 0.1)), "no wall")


if __name__ == "__main__":
    unittest.main()
