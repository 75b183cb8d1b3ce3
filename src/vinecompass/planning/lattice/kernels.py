"""Kernels of the lattice planner: A* over cells and headings, by arcs. Everything is in cells."""

from __future__ import annotations

import heapq

import numpy as np
from numba import njit

from vinecompass.contact.cell_kernels import touch_at, touches
from vinecompass.costs.kernels import drive_price
from vinecompass.geometry.kernels import write_row
from vinecompass.planning.curves.kernels import curve_poses, dubins, seen_from
from vinecompass.planning.curves.piece_kernels import EXACT, half
from vinecompass.planning.curves.reeds_shepp_kernels import reeds_shepp

GLANCE = 8.0
"""How many times as far apart poses are where a shot is first looked at, as most of them hit something."""
TURN_SPACING = 0.1
"""Radians between the poses of a turn on the spot."""
FAR_APART = 13
"""Steps from one heading to the next that is tried: no divisor of any usual number of them, so that all are."""
OFFSETS = (0.5, 0.2, 0.8)
"""Where in a cell the body is tried, along each side; its middle first."""
ROOT = 1
"""The node of the start; 0 stands for none."""


@njit(cache=True, nogil=True)
def cheapest_curve(pose, shot, curve):  # type: ignore[no-untyped-def]
    """Fill in the cheapest curve (5, 2) of the shot's radius from a pose to the goal; return what it costs at least."""
    x, y, heading = seen_from(pose, shot.goal, shot.radius)
    least = dubins(x, y, heading, shot.words, curve)
    if shot.reverses:
        change_price = shot.change_price / shot.radius
        least = reeds_shepp(x, y, heading, shot.reverse_price, change_price, least, curve)
    return shot.radius * least


@njit(cache=True, nogil=True)
def turns_and_line(pose, away, backwards, shot, curve):  # type: ignore[no-untyped-def]
    """Fill in a turn, a line and a turn from a pose to the goal, and return what they cost at least.

    They are pieces (5, 2) as a curve's whose radius is a cell.
    """
    goal, heading = shot.goal, pose[2]
    bearing = np.arctan2(goal[1] - pose[1], goal[0] - pose[0]) + np.pi * backwards if away > 1e-9 else heading
    curve[:] = 0.0
    curve[0, 1], curve[2, 1] = half(bearing - heading), half(goal[2] - bearing)
    curve[1, 1] = -away if backwards else away
    least = (shot.reverse_price if backwards else 1.0) * away
    return least + shot.turn_price * (abs(curve[0, 1]) + abs(curve[2, 1]))


@njit(cache=True, nogil=True)
def over_cells(bounds, pose):  # type: ignore[no-untyped-def]
    """What the way from a pose to the goal costs over the cells."""
    return bounds.over_cells[int(np.floor(pose[1])), int(np.floor(pose[0]))]


@njit(cache=True, nogil=True)
def bound(pose, bounds, shot, curve):  # type: ignore[no-untyped-def]
    """What it costs at least from a pose to the goal, times the haste: over the cells, and by what the body can steer.

    Turns on the spot cost more than the arcs that may replace them: there the cells alone tell.
    """
    least = over_cells(bounds, pose)
    if shot.radius > 0.0:
        least = max(least, cheapest_curve(pose, shot, curve))
    return bounds.haste * least


@njit(cache=True, nogil=True)
def hits_something(floor, body, pose, curve, shot):  # type: ignore[no-untyped-def]
    """Whether a curve from a pose is seen at a glance to touch something, at poses far apart."""
    return shot.radius > 0.0 and touches(
        floor.cells, body, curve_poses(pose, curve, shot.radius, GLANCE * shot.spacing)
    )


@njit(cache=True, nogil=True)
def shoot(floor, body, nodes, node, shot, tries, best_cost, best_curve):  # type: ignore[no-untyped-def]
    """Shoot from a node straight at the goal; return what getting there costs, if it is below the best known so far.

    Then `best_curve` (5, 2) receives the curve. The second of two `tries` goes backwards.
    """
    pose = nodes.poses[node]
    away = np.hypot(shot.goal[0] - pose[0], shot.goal[1] - pose[1])
    curve = np.zeros((5, 2))
    for backwards in range(tries):
        if shot.radius > 0.0:
            least = cheapest_curve(pose, shot, curve)
        else:
            least = turns_and_line(pose, away, backwards, shot, curve)
        if nodes.costs[node] + least < best_cost and not hits_something(floor, body, pose, curve, shot):
            most = best_cost - nodes.costs[node]
            reached = nodes.costs[node] + shot_price(floor, body, pose, curve, shot, nodes.directions[node], most)
            if reached < best_cost:
                best_cost = reached
                for i in range(curve.shape[0]):
                    write_row(best_curve, i, curve[i])
    return best_cost


@njit(cache=True, nogil=True)
def times_to_shoot(pose, bounds, shot, expanded):  # type: ignore[no-untyped-def]
    """How many shots to try from a pose: each time near the goal, in reverse, too; and now and then from afar.

    Near is what lies near over the floor: what stands behind a wall hits nothing but the wall.
    """
    away = over_cells(bounds, pose)
    if away >= shot.near:
        return 0 if expanded % max(int(away / shot.near), 1) > 0 else 1
    return 2 if shot.radius == 0.0 and shot.reverses else 1


@njit(cache=True, nogil=True)
def make_move(pose, move, path):  # type: ignore[no-untyped-def]
    """Place the poses (K, 3) of a move, seen from its start, at a pose, into `path`."""
    x, y, heading = pose[0], pose[1], pose[2]
    cosine, sine = np.cos(heading), np.sin(heading)
    for i in range(move.shape[0]):
        path[i, 0] = x + cosine * move[i, 0] - sine * move[i, 1]
        path[i, 1] = y + sine * move[i, 0] + cosine * move[i, 1]
        path[i, 2] = half(heading + move[i, 2])


@njit(cache=True, nogil=True)
def state_of(pose, places):  # type: ignore[no-untyped-def]
    """Which square and heading of the lattice a pose lies in."""
    turn = int(np.round((pose[2] + np.pi) / (2.0 * np.pi) * places.headings)) % places.headings
    square = int(pose[1] / places.side) * places.columns + int(pose[0] / places.side)
    return square * places.headings + turn


@njit(cache=True, nogil=True)
def expand(floor, body, nodes, node, size, moves, shot, places, bounds, waiting, path, curve):  # type: ignore[no-untyped-def]
    """Add the nodes that each move leads to from one, where that is cheaper than before; return how many there are.

    A node is never moved: what was reached over it stays where it is.
    """
    rows, columns = bounds.over_cells.shape
    kind = nodes.directions[node]
    for move in range(moves.kinds.shape[0]):
        make_move(nodes.poses[node], moves.poses[move], path)
        end = path[-1]
        row, column = int(np.floor(end[1])), int(np.floor(end[0]))
        if not (0 <= row < rows and 0 <= column < columns) or bounds.over_cells[row, column] == np.inf:
            continue
        state = state_of(end, places)
        known = places.index_of[state]
        if known and nodes.settled[known]:
            continue
        price = -moves.prices[move]
        if price < 0.0:
            price = drive_price(floor, path) * moves.prices[move]
        if moves.kinds[move] * kind < 0:
            price += shot.change_price
        reached = nodes.costs[node] + price
        if not reached < np.inf or (known and reached >= nodes.costs[known]):
            continue
        if touches(floor.cells, body, path[1:]):
            continue
        if size == nodes.costs.shape[0]:
            break
        places.index_of[state] = size
        write_row(nodes.poses, size, end)
        nodes.costs[size], nodes.parents[size], nodes.by_move[size] = reached, node, move
        nodes.directions[size] = moves.kinds[move] if moves.kinds[move] != 0 else kind
        heapq.heappush(waiting, (reached + bound(end, bounds, shot, curve), size))
        size += 1
    return size


@njit(cache=True, nogil=True)
def fits_somehow(floor, body, hope, shape, row, column, before):  # type: ignore[no-untyped-def]
    """Which heading, of as many as `hope` says, the body fits at somewhere in a cell; -1 for none.

    First that `before`, as beside this cell; then all round, far apart.
    """
    for tried in range(hope.headings):
        heading = (before + tried * FAR_APART) % hope.headings
        angle = heading * 2.0 * np.pi / hope.headings
        # One that is so much smaller that it fits in the middle, if the body does anywhere, spares the rest.
        if touch_at(floor.cells, hope.body, shape, column + 0.5, row + 0.5, angle) >= 0:
            continue
        for y in OFFSETS:
            for x in OFFSETS:
                if touch_at(floor.cells, body, shape, column + x, row + y, angle) < 0:
                    return heading
    return -1


@njit(cache=True, nogil=True)
def is_hopeless(floor, body, hope):  # type: ignore[no-untyped-def]
    """Whether no floor on which the body fits at some heading hangs together between the first cell and the last."""
    rows, columns = floor.prices.shape
    shape = np.empty(hope.body.outline.shape)
    seen = np.zeros((rows, columns), np.bool_)
    seen[hope.first] = True
    waiting = [(hope.first[0], hope.first[1], 0)]
    while len(waiting) > 0:
        row, column, before = waiting.pop()
        if row == hope.last[0] and column == hope.last[1]:
            return False
        for r in range(row - 1, row + 2):
            for c in range(column - 1, column + 2):
                if not (0 <= r < rows and 0 <= c < columns) or seen[r, c] or floor.prices[r, c] == np.inf:
                    continue
                seen[r, c] = True
                heading = fits_somehow(floor, body, hope, shape, r, c, before)
                if heading >= 0:
                    waiting.append((r, c, heading))
    return True


@njit(cache=True, nogil=True)
def trace(nodes, node):  # type: ignore[no-untyped-def]
    """Poses (N, 3) from the start to a node, and the moves (N - 1,) between them."""
    count, one = 0, node
    while one > 0:
        count, one = count + 1, nodes.parents[one]
    poses, used = np.empty((count, 3)), np.empty(max(count - 1, 0), np.int64)
    for i in range(count - 1, -1, -1):
        write_row(poses, i, nodes.poses[node])
        if i > 0:
            used[i - 1] = nodes.by_move[node]
        node = nodes.parents[node]
    return poses, used


@njit(cache=True, nogil=True)
def lattice_search(floor, body, moves, bounds, start, places, shot, hope, nodes):  # type: ignore[no-untyped-def]
    """Search from a pose to the one that is shot at.

    Parameters
    ----------
    floor : `PricedFloor`
    body : `BodyShape`
    moves : `Moves`
    bounds : `Bounds`
    start : (3,)
    places : `Places` of the lattice
    shot : `Shot`
    hope : `Hope`
    nodes : `Nodes`, room for as many as there may be

    Returns
    -------
    poses (N, 3) from start to the last one before the shot, the moves (N - 1,) between them, the shot's curve (5, 2),
    what it all costs (inf if there is no way), the number of nodes expanded, of nodes made, and whether all that can be
    reached was looked at, unless there is nothing cheaper.
    """
    write_row(nodes.poses, ROOT, start)
    nodes.costs[ROOT], nodes.parents[ROOT], nodes.by_move[ROOT], size = 0.0, 0, -1, ROOT + 1
    best_cost, best_node, expanded = np.inf, 0, 0
    hopes, exhausted = False, True
    best_curve, curve = np.zeros((5, 2)), np.zeros((5, 2))
    waiting = [(bound(start, bounds, shot, curve), ROOT)]
    path = np.empty((moves.poses.shape[1], 3))
    while len(waiting) > 0:
        key, node = heapq.heappop(waiting)
        if key >= best_cost:
            break
        if size > hope.after and not hopes:
            hopes = best_cost < np.inf or not is_hopeless(floor, body, hope)
        if size == nodes.costs.shape[0] or (size > hope.after and not hopes):
            exhausted = False
            break
        if nodes.settled[node]:
            continue
        nodes.settled[node] = True
        expanded += 1
        tries = times_to_shoot(nodes.poses[node], bounds, shot, expanded)
        reached = shoot(floor, body, nodes, node, shot, tries, best_cost, best_curve)
        if reached < best_cost:
            best_cost, best_node = reached, node
        size = expand(floor, body, nodes, node, size, moves, shot, places, bounds, waiting, path, curve)
    poses, used = trace(nodes, best_node)
    return poses, used, best_curve, best_cost, expanded, size - ROOT, exhausted


@njit(cache=True, nogil=True)
def shot_price(floor, body, start, curve, shot, kind, most):  # type: ignore[no-untyped-def]
    """What it costs to drive a shot from a pose; inf if the body cannot, or if that is not below `most`.

    `kind` is of the move before it: 1 ahead, -1 in reverse, 0 if there was none.
    """
    total = 0.0
    here = start.copy()
    piece = np.zeros((5, 2))
    for i in range(5):
        bend, length = curve[i, 0], curve[i, 1]
        if abs(length) <= EXACT:
            continue
        turns = shot.radius == 0.0 and i != 1
        if turns:
            path = turning(here, length)
            total += shot.turn_price * abs(length)
        else:
            ahead = 1 if length > 0.0 else -1
            total += shot.change_price if ahead * kind < 0 else 0.0
            kind = ahead
            piece[0, 0], piece[0, 1] = bend, length
            path = curve_poses(here, piece, shot.radius if shot.radius > 0.0 else 1.0, shot.spacing)
            total += (shot.reverse_price if length < 0.0 else 1.0) * drive_price(floor, path)
        if not total < most or touches(floor.cells, body, path):
            return np.inf
        here = path[-1].copy()
    return total


@njit(cache=True, nogil=True)
def turning(pose, angle):  # type: ignore[no-untyped-def]
    """Poses (N, 3) of a turn on the spot."""
    count = int(np.ceil(abs(angle) / TURN_SPACING)) + 1
    result = np.empty((count + 1, 3))
    for i in range(count + 1):
        result[i, 0] = pose[0]
        result[i, 1] = pose[1]
        result[i, 2] = half(pose[2] + angle * i / count)
    return result
