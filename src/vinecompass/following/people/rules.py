"""Rules for meeting people: what each situation is called, and which of the robot's velocities it shuts out."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from math import atan2, degrees, hypot

import numpy as np
from numpy.typing import NDArray

from vinecompass.contact import Walking
from vinecompass.costs import OTHER_SIDE, Side
from vinecompass.following.people.relations import Relation, approach, closest_approach, relate, side
from vinecompass.geometry import wrap_heading
from vinecompass.settings import PeopleRule, PeopleSettings

__all__ = ["WAITING_SPEED", "Encounter", "in_company", "meet", "share_in_company", "shut_out_by_people"]

FloatArray = NDArray[np.float64]
JUDGED_AFTER = 0.5
"""Seconds after which a velocity's direction is judged: a turn begun now shows by then."""
STRAIGHT = 0.25
"""rad/s of turning towards a person that still count as straight on."""
MEETING_WITHIN = 5.0
"""Seconds within which the two must come near each other, as they go, for a rule to apply."""
MEETING_SPEEDS = np.array([0.4, 0.8, 1.2])
"""m/s along its course at which the robot may go until then."""
BESIDE = 0.4
"""Metres from the robot's middle to its side: so much besides the personal space is near."""
COMPANY, COMPANY_WITHIN = 2, 7.0
"""People within so many metres of the robot to whom it leaves all the space that it should."""
WAITING_SPEED = 0.1
"""m/s that is never shut out: a robot so slow waits."""
IN_FORCE_SLACK, IN_FORCE_SLACK_DEG = 0.7, 10.0
"""Metres and degrees beyond its limits for which a rule in force stays so, so that situations do not flutter."""


@dataclass(frozen=True)
class Encounter:
    """A person, the relation to the robot, and the rule that applies.

    Parameters
    ----------
    person : Walking
    relation : Relation
    rule : PeopleRule or None
        None where no rule applies.
    on_other_side : bool
        Whether the person is passed on the other side than the rule says: only there is room.
    """

    person: Walking
    relation: Relation
    rule: PeopleRule | None
    on_other_side: bool = False

    @property
    def prefer(self) -> Side | None:
        """The side on which the robot should pass, as it sees it."""
        return self._side(self.rule.prefer if self.rule is not None else None)

    @property
    def keep_to(self) -> Side | None:
        """The side of the line to the person that it must move to."""
        return self._side(self.rule.keep_to if self.rule is not None else None)

    def _side(self, usual: Side | None) -> Side | None:
        return OTHER_SIDE[usual] if usual is not None and self.on_other_side else usual

    @property
    def state(self) -> str:
        """What the situation is called."""
        return self.rule.name if self.rule is not None else "none"


def share_in_company(pose: FloatArray, people: Sequence[Walking]) -> float:
    """Return the share of its usual distance that the robot keeps from each of the people about a pose ``(3,)``.

    Among many nobody can keep the distance that one keeps from one; who tried would stand for good.

    Notes
    -----
    People in crowds do the same (Hall, 1966, "The Hidden Dimension").
    """
    near = sum(hypot(each.x - float(pose[0]), each.y - float(pose[1])) < COMPANY_WITHIN for each in people)
    return min(COMPANY / max(near, 1), 1.0)


def in_company(pose: FloatArray, people: Sequence[Walking], settings: PeopleSettings) -> PeopleSettings:
    """Return the settings for as many people as are about a pose ``(3,)``: in a crowd each is left less."""
    share = share_in_company(pose, people)
    if share == 1.0:
        return settings
    space, charge = share * settings.personal_space, share * settings.charge
    return settings.model_copy(update={"personal_space": space, "charge": charge})


def meet(
    pose: FloatArray,
    velocity: FloatArray,
    people: Sequence[Walking],
    settings: PeopleSettings,
    *,
    course: float | None = None,
    before: Sequence[Encounter] = (),
    only_on_other_side: Callable[[Walking, Side], bool] = lambda person, usual: False,
) -> list[Encounter]:
    """Return the encounter with each person.

    Parameters
    ----------
    pose : array, (3,)
        Of the robot, in the site frame.
    velocity : array, (2,)
        Of the robot, in the site frame, m/s.
    people : sequence of Walking
    settings : PeopleSettings
    course : float, optional
        Where the robot's plan leads, radians: what walks towards it or across is judged by that, and not by a heading
        that gives way already. Its heading if not given.
    before : sequence of Encounter
        What it was a moment ago, in the same order where people have no names: a rule in force stays so a little beyond
        its limits, and so does the side.
    only_on_other_side : callable, optional
        Takes a person who walks towards the robot and the side to pass on, as the robot sees it, and tells whether only
        the other has room.
    """
    leads, encounters = float(pose[2]) if course is None else course, []
    for number, person in enumerate(people):
        relation = relate(pose, velocity, person)
        former = _before(number, person, before)
        in_force = former.rule if former is not None else None
        rule = None
        if _will_meet(pose, leads, person, settings.personal_space + (IN_FORCE_SLACK if in_force else 0.0)):
            rule = _rule(pose, leads, relation, person, settings, in_force)
        if former is not None and rule is former.rule:
            other = former.on_other_side
        else:
            usual = None if rule is None else rule.keep_to or rule.prefer
            other = usual is not None and only_on_other_side(person, usual)
        encounters.append(Encounter(person, relation, rule, other))
    return encounters


def _before(number: int, person: Walking, before: Sequence[Encounter]) -> Encounter | None:
    """Return what it was with a person: the encounter of the same name, or of the same place in the order."""
    if person.name:
        return next((each for each in before if each.person.name == person.name), None)
    return before[number] if number < len(before) else None


def _will_meet(pose: FloatArray, course: float, person: Walking, space: float) -> bool:
    """Tell whether the robot, on its course, and a person will come near each other, at some speed of the robot's."""
    line = person.x - float(pose[0]), person.y - float(pose[1])
    walk = person.velocity_x, person.velocity_y
    x, y = np.cos(course) * MEETING_SPEEDS, np.sin(course) * MEETING_SPEEDS
    return bool(np.any(closest_approach(x, y, line, walk, MEETING_WITHIN) < space + BESIDE))


def _rule(
    pose: FloatArray,
    course: float,
    relation: Relation,
    person: Walking,
    settings: PeopleSettings,
    in_force: PeopleRule | None,
) -> PeopleRule | None:
    x, y = person.x - float(pose[0]), person.y - float(pose[1])
    distance = hypot(x, y)
    bearing = degrees(abs(wrap_heading(atan2(y, x) - course)))
    walks = person.walks
    walk = degrees(abs(wrap_heading(atan2(person.velocity_y, person.velocity_x) - course)))
    for rule in settings.rules:
        slack, slack_deg = (IN_FORCE_SLACK, IN_FORCE_SLACK_DEG) if rule is in_force else (0.0, 0.0)
        directed = rule.walk_from_deg > 0.0 or rule.walk_to_deg < 180.0
        if (
            rule.nearest - slack <= distance <= rule.farthest + slack
            and rule.bearing_from_deg - slack_deg <= bearing <= rule.bearing_to_deg + slack_deg
            and (not directed or (walks and rule.walk_from_deg - slack_deg <= walk <= rule.walk_to_deg + slack_deg))
            and relation.person in rule.person
        ):
            return rule
    return None


def shut_out_by_people(
    pose: FloatArray, velocities: FloatArray, encounters: Sequence[Encounter], space: float
) -> list[tuple[str, NDArray[np.bool_]]]:
    """Return the rules that shut out some of the velocities ``(K, 3)``, each with which ones.

    Who may not approach may go on as long as that leaves a person a `space`, m.
    """
    found = []
    headings = pose[2] + JUDGED_AFTER * velocities[:, 2]
    moving = velocities[:, 0] * np.cos(headings), velocities[:, 0] * np.sin(headings)
    slow = np.abs(velocities[:, 0]) <= WAITING_SPEED
    for each in encounters:
        rule = each.rule
        if rule is None or not (each.keep_to or rule.straight or not rule.may_approach):
            continue
        line = each.person.x - float(pose[0]), each.person.y - float(pose[1])
        wrong = np.zeros(len(velocities), bool)
        if each.keep_to is not None:
            wrong |= side(*moving, line) != (1 if each.keep_to == "left" else -1)
        if not rule.may_approach:
            walk = each.person.velocity_x, each.person.velocity_y
            near = closest_approach(*moving, line, walk, MEETING_WITHIN) < space + BESIDE
            wrong |= near & (approach(*moving, line) > 0)
        if rule.straight:
            towards = np.sign(wrap_heading(atan2(line[1], line[0]) - float(pose[2])))
            wrong |= towards * velocities[:, 2] > STRAIGHT
        found.append((f"people: {rule.name}", wrong & ~slow))
    return found
