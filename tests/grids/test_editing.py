import unittest
from pathlib import Path

import numpy as np
import shapely

from tests.support import assert_input_error, new_folder, room
from vinecompass import Grid, Zone, apply_edits, grid_from_drawing, grid_from_picture, grid_from_polygons, write_map
from vinecompass.geometry import transform_points
from vinecompass.grids import check_edits, in_frame, main_direction


def edited(grid, *edits, folder=Path()):
    return apply_edits(grid, check_edits(edits), folder=folder)[0]


class Painting(unittest.TestCase):
    def test_polygons_and_lines_cover_the_cells_that_shapely_says(self):
        grid = in_frame(room(), [1.0, 0.5, 0.4])
        centres = grid.points_of(np.argwhere(np.ones(grid.shape, bool)))
        corners = [(0.5, 0.2), (2.5, 0.4), (2.2, 1.9)]
        for shape, geometry in (
            ({"polygon": corners}, shapely.Polygon(corners)),
            ({"line": corners, "width": 0.3}, shapely.LineString(corners).buffer(0.15)),
        ):
            for reading in ("occupied", "free", "unknown"):
                with self.subTest(shape=list(shape), reading=reading):
                    after = edited(grid, {"do": "paint", "reading": reading, **shape})
                    inside = shapely.contains_xy(geometry, *centres.T).reshape(grid.shape)
                    sure = np.abs(shapely.distance(shapely.points(centres), geometry.exterior)) > 0.01
                    sure = sure.reshape(grid.shape)
                    self.assertTrue(np.all(getattr(after, reading)[inside & sure]))
                    np.testing.assert_array_equal(after.log_odds[~inside & sure], grid.log_odds[~inside & sure])

    def test_a_thin_wall_has_no_hole_that_a_step_could_pass(self):
        wall = edited(room(), {"do": "paint", "reading": "occupied", "line": [(0.5, 0.6), (5.1, 2.9)]})
        below, _ = np.nonzero(wall.occupied[:, 10:100]), None
        columns = set((below[1] + 10).tolist())
        self.assertEqual(columns, set(range(10, 100)))

    def test_a_line_that_meets_itself_leaves_its_middle_alone(self):
        ring = [(1.0, 1.0), (3.0, 1.0), (3.0, 3.0), (1.0, 3.0), (1.0, 1.0)]
        after = edited(room(), {"do": "paint", "reading": "occupied", "line": ring, "width": 0.1})
        row, column = after.cells_at([[2.0, 2.0]])[0]
        self.assertTrue(after.free[row, column])


class Cleaning(unittest.TestCase):
    def test_lone_specks_go_but_not_the_dots_of_a_wall(self):
        plain = "#..................#\n"
        grid = grid_from_drawing(
            "####################\n" + 3 * plain + "#....#......#.#....#\n" + 3 * plain + 20 * "#", 0.1
        )
        after = edited(grid, {"do": "specks", "area_m2": 0.015})
        self.assertEqual(np.argwhere(grid.occupied & ~after.occupied).tolist(), [[4, 5]])
        self.assertEqual(edited(grid, {"do": "specks", "area_m2": 0.025}).occupied.sum(), grid.occupied.sum() - 3)

    def test_pockets_take_what_surrounds_them(self):
        grid = grid_from_drawing("########\n#......#\n#.. ...####\n#.....# #\n########  ", 0.1)
        filled = edited(grid, {"do": "pockets", "area_m2": 0.02})
        self.assertEqual(np.argwhere(grid.unknown & filled.free).tolist(), [[2, 3]])
        self.assertIn([1, 7], np.argwhere(grid.unknown & filled.occupied).tolist())
        self.assertTrue(np.all(filled.unknown[0, -2:]))


class Laying(unittest.TestCase):
    def test_crop_and_origin_keep_every_cell_where_it_is_on_the_floor(self):
        grid = room()
        part = edited(grid, {"do": "crop", "low": [1.0, 0.5], "high": [4.0, 3.0]})
        self.assertEqual((part.shape, part.corner), ((50, 60), (1.0, 0.5)))
        moved = edited(grid, {"do": "origin", "pose": [2.0, 1.0, 90.0]})
        there = transform_points([2.0, 1.0, np.pi / 2.0], moved.occupied_points())
        np.testing.assert_allclose(there, grid.occupied_points(), atol=1e-9)
        assert_input_error(self, lambda: edited(grid, {"do": "crop", "low": [50, 50], "high": [60, 60]}), "off the map")

    def test_resampled_walls_have_no_holes_and_the_floor_keeps_its_size(self):
        grid = room()
        for cell in (0.02, 0.1, 0.15):
            after = edited(grid, {"do": "resample", "cell_size": cell})
            self.assertAlmostEqual(after.free.sum() * cell**2, grid.free.sum() * 0.05**2, delta=0.3 + 4.0 * cell * 10.0)
            self.assertTrue(np.all(after.occupied[:, 0]) and np.all(after.occupied[0]))

    def test_square_finds_the_direction_of_the_walls(self):
        for degrees in (-30.0, -3.2, 0.0, 12.0, 44.0):
            with self.subTest(degrees=degrees):
                turned = in_frame(room(), [0.0, 0.0, np.radians(-degrees)])
                found = np.degrees(main_direction(turned))
                self.assertAlmostEqual(found, degrees, delta=0.1)
                straight = edited(turned, {"do": "turn", "turn_deg": found})
                self.assertEqual(straight.turn, 0.0)
                self.assertAlmostEqual(np.degrees(main_direction(straight)), 0.0, delta=0.1)
        assert_input_error(self, lambda: main_direction(Grid(np.zeros((9, 9), np.float32), 0.1)), "no wall")

    def test_merged_maps_show_what_either_shows(self):
        folder, whole = new_folder(), room()
        west, east = (edited(whole, {"do": "crop", "low": [x, 0.0], "high": [x + 4.0, 4.0]}) for x in (0.0, 2.0))
        write_map(in_frame(east, [0.5, 0.25, 0.0]), folder / "east.png")
        merged = edited(west, {"do": "merge", "map": "east.png", "pose": [0.5, 0.25, 0.0]}, folder=folder)
        self.assertEqual((merged.shape, merged.corner), (whole.shape, whole.corner))
        np.testing.assert_array_equal(merged.occupied, whole.occupied)
        for name, word in (("../east.png", "leaves its folder"), ("west.png", "no such file")):
            edit = {"do": "merge", "map": name, "pose": [0, 0, 0]}
            assert_input_error(self, lambda edit=edit: edited(west, edit, folder=folder), word)

    def test_zones_move_with_the_frame_and_the_last_of_a_name_stays(self):
        zone = {"name": "press", "kind": "closed", "polygon": [[1, 1], [2, 1], [2, 2]]}
        edits = [
            {"do": "zone", "zone": {**zone, "polygon": [[0, 0], [1, 0], [1, 1]]}},
            {"do": "zone", "zone": zone},
            {"do": "origin", "pose": [1.0, 1.0, 90.0]},
        ]
        _, zones = apply_edits(room(), check_edits(edits), folder=Path())
        self.assertEqual(zones, [Zone(name="press", kind="closed", polygon=[(0, 0), (0, -1), (1, -1)])])

    def test_wrong_edits_are_named(self):
        for edit, words in (
            ({"do": "paint", "reading": "wet", "line": [[0, 0]]}, ["reading", "wet"]),
            ({"do": "paint", "reading": "free"}, ["line or a polygon"]),
            ({"do": "dream"}, ["dream"]),
            ({"do": "resample", "cell_size": -1.0}, ["cell_size", "-1.0"]),
        ):
            assert_input_error(self, lambda edit=edit: check_edits([edit]), *words)


class MadeWithoutARobot(unittest.TestCase):
    def test_the_first_line_of_a_drawing_lies_on_top(self):
        grid = grid_from_drawing("#.\n. ", 0.5, (10.0, 20.0))
        self.assertEqual(grid.points_of(np.argwhere(grid.occupied)).tolist(), [[10.25, 20.75]])
        self.assertEqual(grid.cells_at([[10.1, 20.9]]).tolist(), [[1, 0]])
        assert_input_error(self, lambda: grid_from_drawing("#x", 0.1), "'x'", "line 1")

    def test_polygons_and_a_picture_of_them_make_the_same_map(self):
        grid = grid_from_polygons([[0, 0], [4, 0], [4, 3], [0, 3]], [[[1, 1], [2, 1], [2, 2], [1, 2]]], 0.05)
        self.assertAlmostEqual(grid.free.sum() * 0.05**2, 11.0, delta=0.01)
        self.assertAlmostEqual(grid.occupied.sum() * 0.05**2, 1.0 + 14.0 * 0.05 + 4 * 0.05**2, delta=0.01)
        # Off the raster a thing fills every cell that Shapely finds it to reach into.
        slanting = shapely.Polygon([[1.013, 1.02], [2.1, 1.31], [1.9, 2.222], [1.1, 1.7]])
        occupied = grid_from_polygons([[0, 0], [4, 0], [4, 3], [0, 3]], [slanting.exterior.coords], 0.05).occupied
        low, high = (grid.points_of(np.argwhere(np.ones(grid.shape, bool))) + side for side in (-0.025, 0.025))
        shared = shapely.area(shapely.intersection(slanting, shapely.box(*low.T, *high.T))).reshape(grid.shape)
        np.testing.assert_array_equal(occupied & grid.free, (shared > 2e-5) & grid.free)
        path = new_folder() / "drawn.png"
        write_map(grid, path)
        again = grid_from_picture(path, 0.05, grid.corner)
        np.testing.assert_array_equal(again.occupied, grid.occupied)
        np.testing.assert_array_equal(again.free, grid.free)
        bow = [[0, 0], [1, 1], [1, 0], [0, 1]]
        assert_input_error(self, lambda: grid_from_polygons(bow, [], 0.1), "crosses itself")


if __name__ == "__main__":
    unittest.main()
