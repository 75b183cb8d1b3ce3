"""What a person tells the loop by pointing at the page: orders, looked at before anything is done."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from pydantic import Field, TypeAdapter, ValidationError

from vinecompass.errors import InputError, VineCompassError
from vinecompass.files import Model, Number
from vinecompass.grids import Zone
from vinecompass.links import SimulatedLink
from vinecompass.motion import Command
from vinecompass.navigation import Navigator, Round, StopGoal
from vinecompass.robot import Robot
from vinecompass.settings import Settings, Value, changed_settings
from vinecompass.simulation import Person, Simulator

__all__ = ["Desk", "Drive", "Order", "Word", "by_hand", "read_order"]

Place = tuple[Number, Number]
Pose = tuple[Number, Number, Number]
CRATE = 0.3
"""Metres from the middle of a crate to its sides."""
NAME = Field(max_length=80)


class Go(Model):
    """Drive to a pose, at once or after what is left."""

    do: Literal["go"]
    pose: Pose
    name: str = Field("pointed at", max_length=80)
    afterwards: bool = False


class Here(Model):
    """Say where the robot is."""

    do: Literal["here"]
    pose: Pose


class Word(Model):
    """Hold, go on, let go of all stops, or end the loop."""

    do: Literal["hold", "go on", "cancel", "end"]


class Drive(Model):
    """Drive by hand for a moment, in shares of the top speeds."""

    do: Literal["drive"]
    ahead: Annotated[float, Field(ge=-1.0, le=1.0)]
    turn: Annotated[float, Field(ge=-1.0, le=1.0)]


class Put(Model):
    """Put a crate into the simulated world."""

    do: Literal["crate"]
    place: Place


class Walk(Model):
    """Let somebody walk to and fro in the simulated world."""

    do: Literal["walker"]
    route: list[Place] = Field(min_length=2, max_length=20)


class Draw(Model):
    """Rule a part of the floor."""

    do: Literal["zone"]
    zone: Zone


class Remove(Model):
    """Take a zone away."""

    do: Literal["unzone"]
    name: str = NAME


class Turn(Model):
    """Turn a setting."""

    do: Literal["set"]
    key: str = NAME
    value: float | int | bool | str


class Why(Model):
    """Ask what a place costs, and why."""

    do: Literal["why"]
    place: Place


Order = Annotated[Go | Here | Word | Drive | Put | Walk | Draw | Remove | Turn | Why, Field(discriminator="do")]
ORDERS: TypeAdapter[Order] = TypeAdapter(Order)


def read_order(text: str | bytes) -> Order:
    """Return the order that a page sent as JSON; raise `InputError` if it is none."""
    try:
        return ORDERS.validate_json(text)
    except ValidationError as error:
        first = error.errors(include_url=False, include_input=False)[0]
        where = ".".join(str(part) for part in first["loc"])
        raise InputError(f"is no order ({first['msg']})"[:160], key=where or "order", expected="an order") from None


def by_hand(order: Drive, robot: Robot) -> Command:
    """Return the command that a person means by shares of the top speeds."""
    drive = robot.drive
    speed = order.ahead * (drive.top_speed if order.ahead > 0.0 else drive.reverse_speed)
    return Command(speed=speed, turn_rate=order.turn * drive.top_turn_rate)


class Desk:
    """Does what is ordered, in the loop's own thread.

    Parameters
    ----------
    navigator : Navigator
    zones : sequence of Zone
        Those in force.
    link : SimulatedLink, optional
        The simulated world that things can be put into.
    settings : Settings, optional
        That the navigator goes by.

    Attributes
    ----------
    zones : list of Zone
        As they are now.
    settings : Settings
    """

    def __init__(
        self,
        navigator: Navigator,
        zones: list[Zone],
        *,
        link: SimulatedLink | None = None,
        settings: Settings | None = None,
    ) -> None:
        self.navigator = navigator
        self.zones = list(zones)
        self.settings = settings or Settings()
        self._link = link

    def do(self, order: Order) -> str:
        """Do it, and return what is to be told of it; what is refused is told, too."""
        try:
            return self._done(order)
        except VineCompassError as error:
            return f"refused: {error}"

    def _done(self, order: Order) -> str:
        navigator = self.navigator
        match order:
            case Go():
                goal = StopGoal(order.name, np.array(order.pose), Round.to_pose(order.pose).stops[0])
                navigator.go([goal], afterwards=order.afterwards)
                return f"{'then ' if order.afterwards else ''}go to {order.name}: {_written(order.pose)}"
            case Here():
                navigator.relocate(order.pose)
                return f"told that it is at {_written(order.pose)}"
            case Word(do="hold"):
                navigator.hold("told to on the page")
                return "hold"
            case Word(do="go on"):
                navigator.resume()
                return "go on"
            case Word():
                navigator.cancel("told to on the page")
                return "cancelled"
            case Drive():
                return self._drive(order)
            case Put():
                x, y = order.place
                self._world().put_solid(
                    [(x - CRATE, y - CRATE), (x + CRATE, y - CRATE), (x + CRATE, y + CRATE), (x - CRATE, y + CRATE)]
                )
                return f"a crate at {x:.2f}, {y:.2f}"
            case Walk():
                self._world().put_person(Person(name="walker", route=order.route, speed=0.8))
                return f"somebody walks from {order.route[0][0]:.1f}, {order.route[0][1]:.1f}"
            case Draw():
                return self._rule([zone for zone in self.zones if zone.name != order.zone.name] + [order.zone], "drawn")
            case Remove():
                left = [zone for zone in self.zones if zone.name != order.name]
                if len(left) == len(self.zones):
                    raise InputError("is no zone here", key="name", value=order.name, expected="the name of one")
                return self._rule(left, "removed")
            case Turn():
                return self._turn(order.key, order.value)
            case Why():
                return self._why(*order.place)

    def _drive(self, order: Drive) -> str:
        """Pass a person's command on; nothing is told of it, as it comes ten times a second."""
        navigator = self.navigator
        if navigator.state.over:
            # Nobody drives by hand on a round that is over: this one ends where the robot stands.
            navigator.go(navigator.pose)
        navigator.manual(by_hand(order, navigator.robot))
        return ""

    def _world(self) -> Simulator:
        if self._link is None:
            raise InputError("is no simulated world", key="do", expected="a simulated robot")
        return self._link.simulator

    def _rule(self, zones: list[Zone], word: str) -> str:
        self.navigator.use(zones=zones)
        self.zones = zones
        return f"zone {word}"

    def _turn(self, key: str, value: Value) -> str:
        settings = changed_settings(self.settings, {key: value})
        self.navigator.tune(settings)
        self.settings = settings
        return f"{key} = {value}"

    def _why(self, x: float, y: float) -> str:
        told = self.navigator.costmap.explain(x, y)
        if not told:
            return f"{x:.2f}, {y:.2f} is off the map"
        price = float(np.prod([charge.factor for charge in told.values()]))
        why = "; ".join(f"{name} {charge.factor:.2f}: {charge.why}" for name, charge in told.items() if charge.why)
        return f"{x:.2f}, {y:.2f} costs {price:.2f} m/m" + (f" ({why})" if why else "")


def _written(pose: Pose) -> str:
    return f"{pose[0]:.2f}, {pose[1]:.2f}, {np.degrees(pose[2]):.0f} degrees"
