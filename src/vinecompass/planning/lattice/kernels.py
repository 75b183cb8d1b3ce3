"""Kernel of the lattice planner: A* over cells and headings, by arcs."""

from __future__ import annotations

import heapq

import numpy as np
from numba import njit

from vinecompass.costs.kernels import first_touch, line_price
from vinecompass.planning.curves.kernels import curve_poses, dubins, half, reeds_shepp, seen_from


@njit(cache=True, nogil=True)
def lattice_search(floor, body, moves, bounds, start, goal, index_of, shape, side, headings, shot, limits):  # type: ignore[no-untyped-def]
    """Search from a pose to a pose, both in cells.

    Parameters
    ----------
    floor : prices, one_way, forbidden, clearance of the costmap
    body : outline in cells, outer radius and cell size in m
    moves : (M, K, 3) poses of each move seen from its start, lengths in cells, the first being the start itself; (M,)
        what a cell's length of each costs, negative for a turn on the spot: then what all of it costs; (M,) its kind: 1
        ahead, -1 in reverse, 0 a turn on the spot
    bounds : (rows, columns) what it costs at least from a cell to the goal, in cells; inf where nothing leads there
    index_of : (states,) zeros, int32; most pages of it are never touched
    shape, side, headings : rows and columns of the lattice, cells a side of its squares, headings told apart
    shot : radius in cells, 0 for a straight line between turns on the spot; the words allowed, none if in reverse, too;
        the price of reverse, of a turn by a radian, and of a change between forward and reverse
    limits : most nodes, spacing of checks in cells, cells from the goal within which shots are tried each time

    Returns
    -------
    nodes (N, 3) poses from start to the last one before the shot (or to the goal), the moves (N - 1,) between them, the
    shot's curve (5, 2), what it all costs (inf if there is no way), the number of nodes expanded, and all nodes'
    positions (E, 2).
    """
    prices, one_way, forbidden, clearance = floor
    outline, outer_radius, cell_size = body
    moves, move_prices, move_kinds = moves
    radius, words, reverse_price, turn_price, change_price = shot
    reverses = np.any(move_kinds < 0)
    most, spacing, near = limits
    poses = np.empty((most + 1, 3))
    costs = np.empty(most + 1)
    parents = np.empty(most + 1, np.int32)
    by_move = np.empty(most + 1, np.int32)
    settled = np.zeros(most + 1, np.bool_)
    directions = np.zeros(most + 1, np.int8)
    poses[1] = start
    costs[1], parents[1], by_move[1], size = 0.0, 0, -1, 2
    waiting = [(bounds[int(start[1]), int(start[0])], 1)]
    best_cost, best_node, expanded = np.inf, 0, 0
    best_curve, curve = np.zeros((5, 2)), np.zeros((5, 2))
    path = np.empty((moves.shape[1], 3))
    while len(waiting) > 0:
        key, node = heapq.heappop(waiting)
        if key >= best_cost or size > most:
            break
        if settled[node]:
            continue
        settled[node] = True
        expanded += 1
        x, y, heading = poses[node]
        kind = directions[node]
        # A shot straight at the goal: each time near it, between two turns in reverse, too; and now and then from afar.
        away = np.hypot(goal[0] - x, goal[1] - y)
        tries = 2 if away < near and radius == 0.0 and reverses else 1
        if away >= near and expanded % max(int(away / near), 1) > 0:
            tries = 0
        for backwards in range(tries):
            if radius > 0.0:
                gx, gy, gh = seen_from(poses[node], goal, radius)
                length = dubins(gx, gy, gh, words, curve) if words.size else reeds_shepp(gx, gy, gh, curve)
                least = radius * length
            else:
                # A turn, a line and a turn, as a curve's pieces whose radius is a cell.
                bearing = np.arctan2(goal[1] - y, goal[0] - x) + np.pi * backwards if away > 1e-9 else heading
                curve[:] = 0.0
                curve[0, 1], curve[2, 1] = half(bearing - heading), half(goal[2] - bearing)
                curve[1, 1] = -away if backwards else away
                least = (reverse_price if backwards else 1.0) * away
                least += turn_price * (abs(curve[0, 1]) + abs(curve[2, 1]))
            if costs[node] + least < best_cost:
                most_left = best_cost - costs[node]
                reached = costs[node] + shot_price(floor, body, poses[node], curve, spacing, shot, kind, most_left)
                if reached < best_cost:
                    best_cost, best_node = reached, node
                    best_curve[:] = curve
        cosine, sine = np.cos(heading), np.sin(heading)
        for move in range(moves.shape[0]):
            for i in range(moves.shape[1]):
                path[i, 0] = x + cosine * moves[move, i, 0] - sine * moves[move, i, 1]
                path[i, 1] = y + sine * moves[move, i, 0] + cosine * moves[move, i, 1]
                path[i, 2] = half(heading + moves[move, i, 2])
            end_x, end_y = path[-1, 0], path[-1, 1]
            row, column = int(np.floor(end_y)), int(np.floor(end_x))
            if not (0 <= row < prices.shape[0] and 0 <= column < prices.shape[1]) or bounds[row, column] == np.inf:
                continue
            turn = int(np.round((path[-1, 2] + np.pi) / (2.0 * np.pi) * headings)) % headings
            state = (int(end_y / side) * shape[1] + int(end_x / side)) * headings + turn
            known = index_of[state]
            if known and settled[known]:
                continue
            price = -move_prices[move]
            if price < 0.0:
                price = 0.0
                for i in range(1, path.shape[0]):
                    price += line_price(prices, one_way, path[i - 1, 0], path[i - 1, 1], path[i, 0], path[i, 1])
                price *= move_prices[move]
            if move_kinds[move] * kind < 0:
                price += change_price
            reached = costs[node] + price
            if not reached < np.inf or (known and reached >= costs[known]):
                continue
            touched = first_touch(forbidden, clearance, outline, outer_radius, cell_size, path[1:])
            if np.any(touched >= 0):
                continue
            # A node is never moved: what was reached over it stays where it is.
            if size > most:
                break
            index_of[state] = size
            poses[size] = path[-1]
            costs[size], parents[size], by_move[size] = reached, node, move
            directions[size] = move_kinds[move] if move_kinds[move] != 0 else kind
            heapq.heappush(waiting, (reached + bounds[row, column], size))
            size += 1
    count, node = 0, best_node
    while node > 0:
        count, node = count + 1, parents[node]
    nodes, used = np.empty((count, 3)), np.empty(max(count - 1, 0), np.int64)
    node = best_node
    for i in range(count - 1, -1, -1):
        nodes[i] = poses[node]
        if i > 0:
            used[i - 1] = by_move[node]
        node = parents[node]
    return nodes, used, best_curve, best_cost, expanded, poses[1:size, :2]


@njit(cache=True, nogil=True)
def shot_price(floor, body, start, curve, spacing, shot, kind, most):  # type: ignore[no-untyped-def]
    """What it costs to drive a shot from a pose, in cells; inf if the body cannot, or if that is not below `most`.

    `kind` is of the move before it: 1 ahead, -1 in reverse, 0 if there was none.
    """
    radius, _, reverse_price, turn_price, change_price = shot
    prices, one_way, forbidden, clearance = floor
    outline, outer_radius, cell_size = body
    total = 0.0
    here = start.copy()
    piece = np.zeros((5, 2))
    for i in range(5):
        bend, length = curve[i, 0], curve[i, 1]
        if length == 0.0:
            continue
        ahead = (1 if length > 0.0 else -1) if radius > 0.0 or i == 1 else 0
        total += change_price if ahead * kind < 0 else 0.0
        kind = ahead if ahead != 0 else kind
        if radius > 0.0:
            piece[0, 0], piece[0, 1] = bend, length
            path = curve_poses(here, piece, radius, spacing)
            factor = reverse_price if length < 0.0 else 1.0
        elif i == 1:
            piece[0, 0], piece[0, 1] = 0.0, length
            path = curve_poses(here, piece, 1.0, spacing)
            factor = reverse_price if length < 0.0 else 1.0
        else:
            path = turning(here, length)
            factor = 0.0
            total += turn_price * abs(length)
        if factor > 0.0:
            for j in range(1, path.shape[0]):
                total += factor * line_price(prices, one_way, path[j - 1, 0], path[j - 1, 1], path[j, 0], path[j, 1])
        if not total < most:
            return np.inf
        if np.any(first_touch(forbidden, clearance, outline, outer_radius, cell_size, path) >= 0):
            return np.inf
        here = path[-1].copy()
    return total


@njit(cache=True, nogil=True)
def turning(pose, angle):  # type: ignore[no-untyped-def]
    """Poses of a turn on the spot, a tenth of a radian apart."""
    count = int(np.ceil(abs(angle) / 0.1)) + 1
    result = np.empty((count + 1, 3))
    for i in range(count + 1):
        result[i, 0] = pose[0]
        result[i, 1] = pose[1]
        result[i, 2] = half(pose[2] + angle * i / count)
    return result
