"""Passings and crossings with a person who does not look, with and without the rules for meeting people; and crowds.

Without the rules, or without tracks of people, they are what the scanner sees, and what safety brakes for.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from benchmarks.drive_sites import hall, map_of
from vinecompass import Command, Navigator, Settings, demo_file, read_robot, rehearse, rehearse_mission
from vinecompass.links import Readings, SimulatedLink
from vinecompass.rehearsal import Rehearsal
from vinecompass.settings import PeopleSettings

SPACE = 1.0
"""Metres of personal space, from a person's middle to the body's outline."""
EXPECTED = {"passing": ["far", "near", "shoulder to shoulder", "behind"], "crossing": ["far", "crossing", "crossed"]}


def settings_for(planner: str) -> Settings:
    """Return the usual settings with another local planner."""
    usual = Settings()
    return usual.model_copy(update={"following": usual.following.model_copy(update={"planner": planner})})


def encounter(kind: str, seed: int, *, rules: bool) -> Rehearsal:
    """Rehearse one meeting: the person walks on whatever the robot does, from where the two would collide."""
    rng = np.random.default_rng(seed)
    robot = read_robot(demo_file("robot.toml"))
    speed = rng.uniform(0.7, 1.2)
    length = 18.0
    if kind == "passing":
        y = 3.0 + rng.uniform(-0.4, 0.4)
        route = [(length - 1.0, y), (1.0, y)]
    else:
        # Its way crosses the robot's where the two would meet.
        meeting = 1.5 + rng.uniform(4.0, 7.0)
        begin = 3.0 + speed * ((meeting - 1.5) / 1.05 + 0.8) * (1 if rng.random() < 0.5 else -1)
        route = [(meeting, begin), (meeting, 6.0 - begin)]
    height = 6.0 if kind == "passing" else 24.0
    lift = 0.0 if kind == "passing" else 9.0
    person = {
        "name": "worker",
        "route": [(a, b + lift) for a, b in route],
        "speed": speed,
        "attention": 0.0,
        "begin": 0.0,
    }
    site = hall(length, height, people=[person], start=(1.5, 3.0 + lift, 0.0))
    settings = Settings()
    if not rules:
        costs = settings.costs.model_copy(update={"people_price": 1.0})
        settings = settings.model_copy(update={"people": PeopleSettings(rules=[], charge=0.0), "costs": costs})
    goal = [length - 2.0, 3.0 + lift, 0.0]
    return rehearse_mission(site, robot, map_of(site), goal, settings=settings, seed=seed, time_limit=90.0)


def intrusion(mission: Rehearsal) -> float:
    """Return the time integral of how far the body reaches into personal space, m s."""
    period = 1.0 / mission.run.robot.scanner.rate
    return float(np.maximum(SPACE - mission.gaps_to_people(), 0.0).sum()) * period


def people_case(job: tuple[str, int]) -> dict[str, Any]:
    """Measure one meeting with the rules and without."""
    kind, seed = job
    with_rules, without = (encounter(kind, seed, rules=rules) for rules in (True, False))
    states = [entry.state for entry in with_rules.log.encounters if entry.state != "none"]
    return {
        "kind": kind,
        "seed": seed,
        "arrived": with_rules.arrived,
        "without_arrived": without.arrived,
        "contacts": with_rules.contacts,
        "without_contacts": without.contacts,
        "intrusion": intrusion(with_rules),
        "without": intrusion(without),
        "time": float(with_rules.track.t[-1]),
        "without_time": float(without.track.t[-1]),
        "states": states,
        "expected": states[: len(EXPECTED[kind])] == EXPECTED[kind],
    }


class Untracked(SimulatedLink):
    """A robot that nobody tells where people are."""

    def exchange(self, command: Command) -> Readings:
        return replace(super().exchange(command), people=())


def turned_about(mission: Rehearsal) -> int:
    """Return how often the direction of turning changes on the whole way."""
    turns = mission.run.commands.turn_rate if mission.run.commands is not None else np.empty(0)
    return int(np.count_nonzero(np.diff(np.sign(turns[np.abs(turns) > 0.1]))))


def crowd(planner: str, seed: int, *, tracked: bool) -> Rehearsal:
    """Rehearse one way across a hall in which ten people, who see the robot, walk to and fro."""
    rng = np.random.default_rng(seed)
    robot = read_robot(demo_file("robot.toml"))
    people = [
        {
            "name": f"worker {number}",
            "speed": rng.uniform(0.5, 1.2),
            "route": rng.uniform((2.5, 0.8), (15.5, 7.2), (4, 2)).tolist(),
        }
        for number in range(10)
    ]
    site, settings = hall(18.0, 8.0, people=people, start=(1.0, 4.0, 0.0)), settings_for(planner)
    link = (SimulatedLink if tracked else Untracked)(site, robot, seed=seed, rate=settings.navigation.rate)
    navigator = Navigator(map_of(site), robot, link.pose, [17.0, 4.0, 0.0], settings=settings, seed=seed)
    return rehearse(link, navigator, time_limit=200.0)


def crowd_case(job: tuple[str, int]) -> dict[str, Any]:
    """Measure one way through a crowd with tracks of people and without."""
    planner, seed = job
    tracked, without = (crowd(planner, seed, tracked=told) for told in (True, False))
    return {
        "job": job,
        "arrived": tracked.arrived,
        "without_arrived": without.arrived,
        "reason": tracked.reason,
        "contacts": tracked.contacts,
        "without_contacts": without.contacts,
        "turns": turned_about(tracked),
        "without_turns": turned_about(without),
        "time": float(tracked.track.t[-1]),
        "without_time": float(without.track.t[-1]),
    }
