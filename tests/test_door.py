from __future__ import annotations

import inspect
import unittest
from collections.abc import Callable, Mapping, Sequence
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike

import vinecompass
from tests.support import assert_input_error, robot, room, site
from vinecompass import (
    InputError,
    Settings,
    SimulatedLink,
    Simulator,
    Zone,
    clearance,
    plan_path,
    price_floor,
    rehearse_mission,
)
from vinecompass.door import checked


@checked
def measure(
    length: float,
    times: int = 1,
    *,
    way: str | None = None,
    kind: Literal["line", "arc"] = "line",
    points: ArrayLike | None = None,
    zones: Sequence[Zone] = (),
    named: Mapping[str, float] | None = None,
    call: Callable[[float], bool] | None = None,
    seed: int = 0,
) -> float:
    """Takes one of each."""
    return length * times


class TheDoor(unittest.TestCase):
    def test_what_the_annotations_allow_passes_and_nothing_else_does(self):
        zone = Zone(name="a", kind="closed", polygon=[(0.0, 0.0), (1.0, 0.0), (1.0, 1.0)])
        self.assertEqual(measure(2, 3, way=None), 6)
        self.assertEqual(measure(np.float32(2.0), np.int64(2), way="on", kind="arc", points=[[1, 2]]), 4.0)
        self.assertEqual(measure(1.0, zones=[zone], named={"a": 1.0}, call=abs, seed=np.uint8(3)), 1.0)
        for given, words in (
            ({"length": "far"}, ["length = 'far'", "a str", "a finite number"]),
            ({"length": float("nan")}, ["length = nan", "not finite"]),
            ({"length": True}, ["length = True", "a bool"]),
            ({"times": 1.5}, ["times = 1.5", "a whole number"]),
            ({"times": None}, ["times", "NoneType"]),
            ({"way": 3}, ["way = 3", "a text"]),
            ({"kind": "curve"}, ["kind = 'curve'", "line, arc"]),
            ({"kind": np.zeros(3)}, ["kind", "a ndarray"]),
            ({"points": "far away"}, ["points", "array of numbers"]),
            ({"points": [[1, 2], [3]]}, ["points", "a list"]),
            ({"zones": zone}, ["zones", "several of Zone"]),
            ({"zones": "abc"}, ["zones = 'abc'"]),
            ({"zones": [zone, 3]}, ["zones", "a Zone, as read_zones"]),
            ({"zones": iter([zone])}, ["zones", "several"]),
            ({"named": [1.0]}, ["named", "a dictionary"]),
            ({"seed": -1}, ["seed = -1", "0 or above"]),
        ):
            with self.subTest(given=str(given)):
                assert_input_error(self, lambda: measure(**{"length": 1.0} | given), *words)  # noqa: B023
        with self.assertRaises(TypeError, msg="what is left out or misspelled is Python's own to say"):
            measure(1.0, widht=2.0)

    def test_it_shows_in_no_signature_and_stands_before_every_function_that_is_public(self):
        self.assertIn("times", inspect.signature(measure).parameters)
        for name in vinecompass.__all__:
            value = getattr(vinecompass, name)
            if inspect.isfunction(value):
                with self.subTest(name):
                    self.assertTrue(hasattr(value, "__wrapped__"))

    def test_models_made_in_python_raise_our_error_and_say_where(self):
        for make, words in (
            (lambda: Settings(costs={"comfort": -1.0}), ["costs.comfort = -1.0", "greater than 0"]),
            (lambda: Settings(cost={}), ["cost", "perhaps `costs`"]),
            (lambda: Zone(name="a", kind="shut", polygon=[(0, 0), (1, 0), (1, 1)]), ["kind = 'shut'"]),
        ):
            assert_input_error(self, make, *words)

    def test_arrays_of_any_layout_and_lists_give_the_same(self):
        occupied = np.random.default_rng(0).random((40, 50)) < 0.1
        known = clearance(occupied, 0.05)
        for other in (np.asfortranarray(occupied), occupied.tolist(), occupied.astype(">f4"), occupied.astype(int)):
            np.testing.assert_array_equal(clearance(other, 0.05), known)
        floor = price_floor(room(), robot())
        plans = [
            plan_path(floor, robot(), make([1.0, 1.0, 0.0]), make([3.0, 1.0, 0.0])).poses
            for make in (
                list,
                tuple,
                np.array,
                lambda pose: np.array(pose, ">f8"),
                lambda pose: np.array([pose] * 2).T[:, 0],
            )
        ]
        for poses in plans[1:]:
            np.testing.assert_array_equal(poses, plans[0])


class StopsByTheirNames(unittest.TestCase):
    def test_stand_for_their_poses_wherever_a_site_is_at_hand(self):
        dock = site().find_stop("dock").site_pose
        np.testing.assert_allclose(Simulator(site(), robot(), start="dock", seed=0).pose, dock)
        np.testing.assert_allclose(SimulatedLink(site(), robot(), start="dock", seed=0).pose, dock)
        missions = [
            rehearse_mission(site(), robot(), room(45.0, 30.0), goal, start=start, time_limit=1.0)
            for goal, start in (("press", "dock"), (site().find_stop("press").site_pose, dock))
        ]
        np.testing.assert_array_equal(missions[0].track.poses, missions[1].track.poses)
        with self.assertRaisesRegex(InputError, "stop"):
            Simulator(site(), robot(), start="nowhere", seed=0)


if __name__ == "__main__":
    unittest.main()
