"""The simulated site, its people, and a robot that moves and senses in it."""

from vinecompass.simulation.ray_casting import cast_beams
from vinecompass.simulation.simulator import SimulatedPeriod, Simulator
from vinecompass.simulation.site import Person, Site, parse_site, read_site, write_site
from vinecompass.simulation.site_of_map import site_from_map

__all__ = [
    "Person",
    "SimulatedPeriod",
    "Simulator",
    "Site",
    "cast_beams",
    "parse_site",
    "read_site",
    "site_from_map",
    "write_site",
]
