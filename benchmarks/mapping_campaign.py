"""Run with ``python -m benchmarks.mapping_campaign [SEEDS]``: how true maps are, by the published relation metric."""

from __future__ import annotations

import copy
import dataclasses
import sys

import numpy as np

from benchmarks.mapping_cases import estate_run
from vinecompass import (
    Run,
    build_map,
    compare_relations,
    compare_tracks,
    demo_file,
    measure_map,
    read_robot,
    read_site,
    record_drive,
)
from vinecompass.mapping import PoseGraph
from vinecompass.simulation import parse_site


def report(name: str, seed: int, run: Run) -> None:
    """Map a run and print a line."""
    assert run.truth is not None and run.site_toml is not None
    mapping = build_map(run)
    relation = compare_relations(mapping.track, run.truth)
    error = compare_tracks(mapping.track, run.truth)
    accuracy = measure_map(mapping.grid, parse_site(run.site_toml), run)
    print(
        f"{name:<22} {seed:>4} {relation.position:>9.4f} {np.degrees(relation.heading):>8.3f} "
        f"{relation.aligned_rmse:>8.4f} {error.position_rmse:>8.4f} "
        f"{100.0 * accuracy.on_wall:>8.1f} {100.0 * accuracy.doubled:>8.1f} "
        f"{len(mapping.mapper.closed_loops):>6} {with_false_loops(mapping.mapper.graph, seed):>10.1f}",
        flush=True,
    )


def with_false_loops(graph: PoseGraph, seed: int) -> float:
    """Return by how many per cent of its loops' corrections a graph changes if a fifth of the loops are false."""
    true, spoilt, open_ended = (copy.deepcopy(graph) for _ in range(3))
    loops = [link for link in graph.links if link.is_loop]
    open_ended.links = [link for link in graph.links if not link.is_loop]
    open_ended.weights = np.ones(len(open_ended.links))
    rng, own = np.random.default_rng(seed), np.flatnonzero(~graph.rides)
    for _ in range(-(-len(loops) // 4)):
        a, b = sorted(rng.choice(own, 2, replace=False).tolist())
        spoilt.close(a, b, rng.uniform([-6, -6, -np.pi], [6, 6, np.pi]), loops[0].information)
    for one in (true, spoilt, open_ended):
        one.optimize()
    taken_out, changed = (
        np.sqrt(np.mean(np.sum((one.poses - true.poses)[:, :2] ** 2, axis=1))) for one in (open_ended, spoilt)
    )
    return float(100.0 * changed / taken_out)


def main(seeds: int) -> None:
    site, robot = read_site(demo_file("site.toml")), read_robot(demo_file("robot.toml"))
    text = demo_file("site.toml").read_text()
    print(
        f"{'run':<22} {'seed':>4} {'rel., m':>9} {'rel., deg':>8} {'aligned':>8} {'as is':>8} {'on wall':>8} "
        f"{'doubled':>8} {'loops':>6} {'20 % false':>10}"
    )
    for seed in range(seeds):
        tour = record_drive(site, robot, site.find_route("grand tour").points, seed=seed, site_toml=text)
        report("grand tour", seed, tour)
        report("grand tour, scans only", seed, dataclasses.replace(tour, wheels=None, imu=None))
        report("estate, 20 minutes", seed, estate_run(seed))


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 3)
