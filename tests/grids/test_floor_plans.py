import json
import unittest

import ezdxf
import numpy as np
import shapely
from ezdxf.math import Matrix44
from PIL import Image

from tests.support import assert_input_error, new_folder, short_run, site
from vinecompass import compare_tracks, grid_from_picture, grid_from_plan, localize, read_floor_plan
from vinecompass.grids import FloorPlan

ROOM = [(0.0, 0.0), (4.0, 0.0), (4.0, 3.0), (0.0, 3.0), (0.0, 0.0)]


def written(document):
    path = new_folder() / "plan.geojson"
    path.write_text(document if isinstance(document, str) else json.dumps(document))
    return path


def geojson(*features):
    told = [
        {"type": "Feature", "properties": {"kind": kind} if kind else {}, "geometry": shapely.geometry.mapping(shape)}
        for kind, shape in features
    ]
    return written({"type": "FeatureCollection", "features": told})


class DrawnPlans(unittest.TestCase):
    def test_a_robot_localizes_in_a_building_that_it_knows_from_its_plan_alone(self):
        walls = [("wall", shapely.LineString(wall.points)) for wall in site().walls]
        things = [(None, shapely.Polygon(solid.polygon)) for solid in site().solids]
        grid = grid_from_plan(read_floor_plan(geojson(*walls, *things)), 0.05)
        run = short_run()
        found = localize(grid, run, run.truth.poses[0], seed=1)
        self.assertLess(compare_tracks(found.track, run.truth).position_rmse, 0.06)

    def test_cells_are_occupied_that_shapely_says_walls_reach_into_and_free_where_they_enclose(self):
        beam = shapely.LineString([(0.31, 0.72), (2.3, 1.9)])
        crate = shapely.Polygon([(2.613, 2.02), (3.1, 1.31), (3.4, 2.222)])
        plan = FloorPlan([shapely.LineString(ROOM), beam, crate])
        grid = grid_from_plan(plan, 0.05)
        middles = grid.points_of(np.argwhere(np.ones(grid.shape, bool)))
        cells = shapely.box(*(middles - 0.025).T, *(middles + 0.025).T)
        touched = shapely.intersects(cells, shapely.union_all(plan.walls)).reshape(grid.shape)
        # What only grazes the corner of a cell may be missed.
        sure = shapely.area(shapely.intersection(cells, crate)) > 2e-5
        sure |= shapely.length(shapely.intersection(cells, beam)) > 0.01
        self.assertTrue(np.all(grid.occupied.ravel()[sure]))
        self.assertFalse(np.any(grid.occupied & ~touched))
        inside = shapely.contains_xy(shapely.Polygon(ROOM), *middles.T).reshape(grid.shape)
        np.testing.assert_array_equal(grid.free, inside & ~grid.occupied)
        floor = shapely.box(1.0, 1.0, 2.0, 2.0)
        told = grid_from_plan(FloorPlan(plan.walls, [floor]), 0.05)
        np.testing.assert_array_equal(
            told.free, shapely.contains_xy(floor, *middles.T).reshape(grid.shape) & ~grid.occupied
        )
        double = FloorPlan([shapely.LineString(ROOM), shapely.box(-0.2, -0.2, 4.2, 3.2).exterior])
        self.assertAlmostEqual(grid_from_plan(double, 0.05).free.sum() * 0.05**2, 11.5, delta=0.3)

    def test_a_drawing_in_any_unit_with_blocks_and_arcs_gives_what_its_geometry_gives(self):
        for unit, code, scale in (("mm", 4, 1000.0), ("m", 6, 1.0), (None, 5, 100.0)):
            drawing = ezdxf.new(units=code)
            drawing.layers.add("furniture")
            space = drawing.modelspace()
            column = drawing.blocks.new("column")
            column.add_circle((0, 0), 0.2 * scale)
            space.add_lwpolyline([(x * scale, y * scale) for x, y in ROOM])
            space.add_blockref("column", (1.0 * scale, 1.0 * scale))
            space.add_text("hall")
            space.add_line((2 * scale, 0), (2 * scale, scale), dxfattribs={"layer": "furniture"})
            space.add_arc((3 * scale, 2 * scale), 0.5 * scale, 0, 90).transform(Matrix44.translate(0, 0, 0))
            path = new_folder() / "plan.dxf"
            drawing.saveas(path)
            angles = np.linspace(0.0, 0.5 * np.pi, 200)
            arc = np.column_stack([3.0 + 0.5 * np.cos(angles), 2.0 + 0.5 * np.sin(angles)])
            circle = shapely.Point(1.0, 1.0).buffer(0.2, 64).exterior
            known = [shapely.LineString(ROOM), circle, shapely.LineString(arc)]
            with self.subTest(unit=unit):
                found = shapely.union_all(read_floor_plan(path, unit=unit, layers=["0"]).walls)
                self.assertLess(shapely.hausdorff_distance(found, shapely.union_all(known)), 0.012)
                whole = read_floor_plan(path, unit=unit)
                self.assertAlmostEqual(shapely.union_all(whole.walls).length - found.length, 1.0, delta=0.01)
                call = lambda path=path: read_floor_plan(path, layers=["doors"])  # noqa: E731
                assert_input_error(self, call, "doors", "furniture")

    def test_what_is_no_plan_is_told_in_one_line(self):
        unitless = new_folder() / "plan.dxf"
        ezdxf.new(units=0).saveas(unitless)
        broken = new_folder() / "broken.dxf"
        broken.write_text("0\nSECTION\n2\nENT")
        for call, words in (
            (lambda: read_floor_plan(written("{")), ["no floor plan", "FeatureCollection"]),
            (lambda: read_floor_plan(geojson()), ["has no walls"]),
            (lambda: read_floor_plan(geojson(("wall", shapely.Point(1, 1)))), ["feature 1", "Point"]),
            (lambda: read_floor_plan(geojson(("roof", shapely.box(0, 0, 1, 1)))), ["feature 1.kind", "roof"]),
            (lambda: read_floor_plan(geojson((None, shapely.Polygon([(0, 0), (1, 1), (1, 0), (0, 1)])))), ["crosses"]),
            (lambda: read_floor_plan(geojson((None, shapely.box(0, 0, 1e7, 1)))), ["too large"]),
            (lambda: read_floor_plan(unitless), ["unit", "mm, cm, m"]),
            (lambda: read_floor_plan(broken), ["no DXF file"]),
            (lambda: grid_from_plan(FloorPlan([shapely.LineString([(0, 0), (1, 0)])]), 0.05), ["enclose nothing"]),
            (lambda: grid_from_plan(FloorPlan([shapely.box(0, 0, 9e4, 9e4)]), 0.05), ["cell_size", "too large"]),
        ):
            with self.subTest(words=words):
                assert_input_error(self, call, *words)


class Pictures(unittest.TestCase):
    def test_greys_colours_and_both_depths_are_read_at_the_levels_named(self):
        levels = np.array([[0, 90, 120], [205, 230, 254]])
        colour = np.stack([levels, levels, levels], axis=-1).astype(np.uint8)
        for suffix, picture in (
            ("png", Image.fromarray(levels.astype(np.uint8))),
            ("pgm", Image.fromarray(levels.astype(np.uint8))),
            ("png", Image.fromarray(colour)),
            ("png", Image.fromarray((levels * 257).astype(np.uint16))),
        ):
            path = new_folder() / f"plan.{suffix}"
            picture.save(path)
            for named, rows in (
                ({}, ("oo?", "fff")),
                ({"unknown": 205}, ("oo?", "?ff")),
                ({"occupied_below": 130, "free_above": 240}, ("ooo", "??f")),
                ({"occupied_below": 50, "free_above": 100, "unknown": 90}, ("o?f", "fff")),
            ):
                grid = grid_from_picture(path, 0.1, (1.0, 2.0), 0.5, **named)
                signs = np.where(grid.free, "f", np.where(grid.occupied, "o", "?"))[::-1]
                with self.subTest(mode=picture.mode, **named):
                    self.assertEqual(tuple("".join(row) for row in signs), rows)
                    self.assertEqual((grid.corner, grid.turn), ((1.0, 2.0), 0.5))
        for named in ({"occupied_below": 200, "free_above": 100}, {"unknown": 300}, {"free_above": 300}):
            assert_input_error(self, lambda named=named, path=path: grid_from_picture(path, 0.1, **named), "grey")


if __name__ == "__main__":
    unittest.main()
