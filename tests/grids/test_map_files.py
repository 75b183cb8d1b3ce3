import os
import signal
import struct
import time
import unittest
import zlib
from dataclasses import replace

import numpy as np
import shapely
from PIL import Image

from tests.support import assert_input_error, new_folder, room
from vinecompass import Grid, Zone, apply_edits, read_map, read_map_record, read_zones, write_map
from vinecompass.geometry import transform_points
from vinecompass.grids import MapDoubt, cells_inside, check_edits


def some_grid(turn=0.3):
    log_odds = np.random.default_rng(10).normal(scale=2.0, size=(30, 50)).astype(np.float32)
    log_odds[:, :10] = 0.0
    return Grid(log_odds, 0.05, (1.5, -2.0), turn)


class MapFile(unittest.TestCase):
    def setUp(self):
        self.path = new_folder() / "cellar.png"

    def test_written_and_read_back_it_is_the_same_to_a_grey_level(self):
        grid = some_grid()
        write_map(grid, self.path)
        again = read_map(self.path)
        odds = [1.0 / (1.0 + np.exp(-g.log_odds.astype(float))) for g in (grid, again)]
        self.assertLess(np.abs(odds[0] - odds[1]).max(), 1.0 / 250.0)
        np.testing.assert_array_equal(again.log_odds == 0.0, grid.log_odds == 0.0)
        self.assertEqual((again.cell_size, again.corner), (grid.cell_size, grid.corner))
        self.assertAlmostEqual(again.turn, grid.turn)
        self.assertEqual(self.path.read_bytes(), write_map(grid, self.path)[0].read_bytes())

    def test_what_it_does_not_know_of_its_places_comes_back_and_turns_with_it(self):
        doubt = MapDoubt(
            np.array([[2.0, -1.0], [2.5, 0.0]]), np.array([np.zeros((3, 3)), np.diag([0.04, 0.01, 0.001])])
        )
        grid = replace(some_grid(0.0), doubt=doubt)
        again = read_map(write_map(grid, self.path)[0]).doubt
        np.testing.assert_allclose(again.covariances, doubt.covariances)
        np.testing.assert_array_equal(again.at([2.4, 0.3]), doubt.covariances[1])
        turned, _ = apply_edits(grid, check_edits([{"do": "turn", "turn_deg": 90.0}]), folder=self.path.parent)
        # The frame is turned: what was ahead, x, is now to the right, and what was along x is along y.
        x, y = transform_points([0.0, 0.0, -np.pi / 2.0], [[2.5, 0.0]])[0]
        np.testing.assert_allclose(turned.doubt.at([x, y]), np.diag([0.01, 0.04, 0.001]), atol=1e-12)
        header = self.path.with_suffix(".toml")
        header.write_text(header.read_text().replace("0.04", "-0.04"))
        assert_input_error(self, lambda: read_map(self.path), "doubt", "no covariance")

    def test_the_world_file_places_the_top_left_pixel(self):
        grid = some_grid()
        a, d, b, e, c, f = map(float, write_map(grid, self.path)[2].read_text().split())
        for row, column in ((29, 0), (0, 0), (12, 33)):
            pixel_x, pixel_y = column, 29 - row
            wanted = grid.points_of([[row, column]])[0]
            np.testing.assert_allclose(
                [a * pixel_x + b * pixel_y + c, d * pixel_x + e * pixel_y + f], wanted, atol=1e-8
            )

    def test_a_painted_picture_is_read_as_painted(self):
        write_map(some_grid(0.0), self.path)
        with Image.open(self.path) as picture:
            painted = picture.convert("RGBA")
        painted.paste((0, 0, 0, 255), (20, 5, 30, 8))
        painted.save(self.path)
        self.assertTrue(np.all(read_map(self.path).occupied[30 - 8 : 30 - 5, 20:30]))

    def test_what_was_painted_is_told(self):
        self.assertEqual(read_map_record(write_map(some_grid(0.0), self.path)[0]).painted, "")
        with Image.open(self.path) as picture:
            painted = picture.convert("LA")
        painted.paste((0, 255), (0, 0, 10, 3))
        painted.save(self.path)
        self.assertIn("+30 cells occupied, -30 cells unknown", read_map_record(self.path).painted)

    def test_edits_zones_and_the_map_before_them_come_back(self):
        before = read_map(write_map(some_grid(), self.path)[0])
        zone = Zone(name="press", kind="closed", polygon=[(2, -1), (2.5, -1), (2.5, -0.5)])
        edits = check_edits([{"do": "crop", "low": [1.6, -1.5], "high": [3.0, 0.0]}, {"do": "zone", "zone": zone}])
        after, zones = apply_edits(before, edits, folder=self.path.parent)
        write_map(after, self.path, zones=zones, edits=edits, unedited=before)
        record = read_map_record(self.path)
        self.assertEqual((record.edits, record.zones, record.painted), (tuple(edits), (zone,), ""))
        np.testing.assert_array_equal(record.unedited.occupied, before.occupied)
        again, _ = apply_edits(record.unedited, record.edits, folder=self.path.parent)
        np.testing.assert_array_equal(again.occupied, record.grid.occupied)

    @unittest.skipUnless(hasattr(os, "fork"), "kills a forked copy of itself")
    def test_two_hundred_kills_in_the_middle_of_a_save_leave_two_hundred_readable_maps(self):
        maps = [room(), room(3.0, 2.0)]
        # On a slow or busy machine a save takes longer, and must still be met in its middle, and be finished at times.
        begun = time.monotonic()
        for _ in range(4):
            write_map(maps[0], self.path)
        longest = max(0.75 * (time.monotonic() - begun), 0.01)
        seen, rng = set(), np.random.default_rng(4)
        for _ in range(200):
            child = os.fork()
            if child == 0:
                # Nothing of the test may go on in the copy: it saves until it is killed.
                number = 0
                while True:
                    number += 1
                    write_map(maps[number % 2], self.path)
            time.sleep(float(rng.uniform(0.0, longest)))
            os.kill(child, signal.SIGKILL)
            os.waitpid(child, 0)
            record = read_map_record(self.path)
            self.assertEqual(record.painted, "")
            self.assertIn(record.grid.shape, [grid.shape for grid in maps])
            seen.add(record.grid.shape)
            # A machine that has become slower since needs longer to finish one.
            longest *= 1.02 if len(seen) < 2 else 1.0
        self.assertEqual(len(seen), 2)

    def test_plain_pgm_and_grey_png_are_read_too(self):
        write_map(some_grid(0.0), self.path)
        levels = np.full((30, 50), 254, np.uint8)
        levels[0, :] = 0
        levels[1, :] = 128
        for name in ("cellar.pgm", "cellar.png"):
            with self.subTest(name=name):
                Image.fromarray(levels).save(self.path.with_name(name))
                grid = read_map(self.path.with_name(name))
                self.assertTrue(np.all(grid.occupied[-1]) and np.all(grid.unknown[-2]) and np.all(grid.free[:-2]))

    def test_what_is_wrong_is_named(self):
        write_map(some_grid(), self.path)
        header, whole = self.path.with_suffix(".toml"), self.path.read_bytes()
        text = header.read_text()

        def read():
            return read_map(self.path)

        for size in (0, 30, len(whole) // 2):
            self.path.write_bytes(whole[:size])
            assert_input_error(self, read, "cellar.png", "not a whole picture")
        # A picture that would need 3.6 GB is refused by what its head says, before it is decoded.
        head = b"IHDR" + struct.pack(">IIBBBBB", 60_000, 60_000, 8, 0, 0, 0, 0)
        self.path.write_bytes(
            whole[:8] + struct.pack(">I", 13) + head + struct.pack(">I", zlib.crc32(head)) + whole[33:]
        )
        assert_input_error(self, read, "too large a picture", "at most 350 million")
        self.path.write_bytes(whole)
        for old, new, words in (
            ("size = [50, 30]", "size = [50, 31]", ["50 x 31", "50 x 30"]),
            ("cell_size = 0.05", 'cell_size = "5 cm"', ["cell_size", "5 cm"]),
            ("turn_deg", "tilt_deg", ["tilt_deg", "perhaps `turn_deg`"]),
        ):
            header.write_text(text.replace(old, new))
            assert_input_error(self, read, "cellar.toml", *words)
        header.unlink()
        assert_input_error(self, read, "cellar.toml", "no such file")
        assert_input_error(self, lambda: write_map(some_grid(), "cellar.jpg"), "cellar.jpg", ".png")


class Zones(unittest.TestCase):
    def test_cells_inside_agree_with_shapely_on_a_turned_grid(self):
        grid = some_grid()
        polygon = [(1.0, -1.5), (2.5, -1.6), (2.4, 0.5), (1.2, 0.4)]
        cells = np.argwhere(np.ones(grid.shape))
        wanted = shapely.contains_xy(shapely.Polygon(polygon), grid.points_of(cells))
        np.testing.assert_array_equal(cells_inside(grid, polygon).ravel(), wanted)
        self.assertFalse(cells_inside(grid, [(90, 90), (91, 90), (91, 91)]).any())

    def test_a_zones_file_says_what_is_wrong(self):
        path = new_folder() / "zones.toml"
        head = 'format = "vinecompass zones"\nversion = 1\n[[zone]]\nname = "press"\n'
        for body, words in (
            ('kind = "closed"\npolygon = [[0, 0], [1, 1], [1, 0], [0, 1]]', ["zone[0].polygon", "crosses itself"]),
            ('kind = "closed"\nfactor = 2.0\npolygon = [[0, 0], [1, 0], [1, 1]]', ["factor belongs to dear zones"]),
            ('kind = "dear"\nfactor = 0.5\npolygon = [[0, 0], [1, 0], [1, 1]]', ["zone[0].factor", "0.5"]),
            ('kind = "slow"\npolygon = [[0, 0], [1, 0], [1, 1]]', ["a slow zone needs its speed"]),
            ('kind = "slow"\nspeed = 0.0\npolygon = [[0, 0], [1, 0], [1, 1]]', ["zone[0].speed", "0.0", "m/s"]),
            ('kind = "one-way"\npolygon = [[0, 0], [1, 0], [1, 1]]', ["a one-way zone needs its heading_deg"]),
            ('kind = "dear"\nfactor = 2.0\nspeed = 1.0\npolygon = [[0, 0], [1, 0], [1, 1]]', ["speed belongs to slow"]),
            ('kind = "haunted"\npolygon = [[0, 0], [1, 0], [1, 1]]', ["zone[0].kind", "'haunted'"]),
        ):
            with self.subTest(body=body):
                path.write_text(head + body)
                assert_input_error(self, lambda: read_zones(path), *words)


if __name__ == "__main__":
    unittest.main()
