"""Kernels of RRT*: a tree that keeps getting cheaper. Everything is in cells, in the grid's frame."""

from __future__ import annotations

import numpy as np
from numba import njit

from vinecompass.contact.cell_kernels import first_touch
from vinecompass.costs.kernels import drive_price
from vinecompass.planning.curves.kernels import curve_lengths, curve_poses, shortest_curve


@njit(cache=True, nogil=True)
def edge_poses(start, goal, radius, words, spacing):  # type: ignore[no-untyped-def]
    """Poses (N, 3) on an edge, at most `spacing` apart: a straight line if the radius is 0, else a shortest curve."""
    if radius > 0.0:
        length, curve = shortest_curve(start, goal, radius, words)
        return curve_poses(start, curve, radius, spacing) if length < np.inf else np.empty((0, 3))
    dx, dy = goal[0] - start[0], goal[1] - start[1]
    count = max(int(np.ceil(np.hypot(dx, dy) / spacing)), 1)
    heading = np.arctan2(dy, dx)
    result = np.empty((count + 1, 3))
    for i in range(count + 1):
        share = i / count
        result[i, 0] = start[0] + share * dx
        result[i, 1] = start[1] + share * dy
        result[i, 2] = heading
    return result


@njit(cache=True, nogil=True)
def poses_price(floor, body, poses):  # type: ignore[no-untyped-def]
    """What it costs the whole body to drive through poses (N, 3); inf if it cannot."""
    if poses.shape[0] < 2:
        return np.inf
    total = drive_price(floor, poses)
    if total < np.inf and np.any(first_touch(floor.cells, body, poses) >= 0):
        return np.inf
    return total


@njit(cache=True, nogil=True)
def edge_length(start, goal, radius, words):  # type: ignore[no-untyped-def]
    """Length of an edge, whether or not the body can drive it."""
    if radius > 0.0:
        return curve_lengths(start.reshape(1, 3), goal.reshape(1, 3), radius, words)[0]
    return np.hypot(goal[0] - start[0], goal[1] - start[1])


@njit(cache=True, nogil=True)
def edge_prices(floor, body, motion, longest, spacing, starts, goals):  # type: ignore[no-untyped-def]
    """What edges (N,) between poses (N, 3) cost the whole body; inf for those longer than the longest."""
    radius, words = motion
    result = np.full(starts.shape[0], np.inf)
    for i in range(starts.shape[0]):
        if edge_length(starts[i], goals[i], radius, words) <= longest:
            result[i] = poses_price(floor, body, edge_poses(starts[i], goals[i], radius, words, spacing))
    return result


@njit(cache=True, nogil=True)
def near_nodes(poses, squares, following, side, pose, reach):  # type: ignore[no-untyped-def]
    """Nodes within a reach of a pose, as the crow flies, by squares (rows, columns) that hold linked lists of them."""
    rows, columns = squares.shape
    found = np.empty(64, np.int64)
    count = 0
    first_row = max(int((pose[1] - reach) / side), 0)
    last_row = min(int((pose[1] + reach) / side), rows - 1)
    first_column = max(int((pose[0] - reach) / side), 0)
    last_column = min(int((pose[0] + reach) / side), columns - 1)
    for row in range(first_row, last_row + 1):
        for column in range(first_column, last_column + 1):
            node = squares[row, column]
            while node >= 0:
                dx, dy = poses[node, 0] - pose[0], poses[node, 1] - pose[1]
                if dx * dx + dy * dy <= reach * reach:
                    if count == found.size:
                        found = np.concatenate((found, np.empty_like(found)))
                    found[count] = node
                    count += 1
                node = following[node]
    return found[:count]


@njit(cache=True, nogil=True)
def grow_star(floor, body, motion, limits, goal, samples, tree, size):  # type: ignore[no-untyped-def]
    """Grow a tree over samples (N, 3) and rewire it (RRT*).

    `motion` is the radius (0: straight lines) and the words allowed; `limits` the longest edge, the spacing of checks
    and the factor of the neighbourhood's radius; `tree` the arrays poses, costs, parents, goal_prices (the price of a
    checked edge to the goal, inf if there is none), squares with following, and their side. Returns its new size.
    """
    radius, words = motion
    longest, spacing, factor = limits
    poses, costs, parents, goal_prices, squares, following, first_child, next_child, side = tree
    rows, columns = squares.shape
    stack = np.empty(poses.shape[0], np.int64)
    for s in range(samples.shape[0]):
        if size == poses.shape[0]:
            break
        sample = samples[s]
        # The nearest node: in ever wider rings, then by the motion's length among those about as near.
        reach = side
        nodes = near_nodes(poses, squares, following, side, sample, reach)
        while nodes.size == 0:
            reach *= 2.0
            nodes = near_nodes(poses, squares, following, side, sample, reach)
        near, least = nodes[0], np.inf
        for node in nodes:
            length = edge_length(poses[node], sample, radius, words)
            if length < least:
                near, least = node, length
        if least == np.inf or least == 0.0:
            continue
        path = edge_poses(poses[near], sample, radius, words, spacing)
        # At most the longest edge of it.
        if least > longest:
            kept, way = 1, 0.0
            while kept < path.shape[0]:
                way += np.hypot(path[kept, 0] - path[kept - 1, 0], path[kept, 1] - path[kept - 1, 1])
                if way > longest:
                    break
                kept += 1
            path = path[: max(kept, 2)]
        pose = path[-1].copy()
        if not (0.0 <= pose[0] < columns * side and 0.0 <= pose[1] < rows * side):
            continue
        price = poses_price(floor, body, path)
        if price == np.inf:
            continue
        parent, cost = near, costs[near] + price
        reach = min(longest, factor * np.sqrt(np.log(size + 1.0) / (size + 1.0)))
        nodes = near_nodes(poses, squares, following, side, pose, reach)
        bounds = np.empty(nodes.size)
        for i in range(nodes.size):
            bounds[i] = costs[nodes[i]] + edge_length(poses[nodes[i]], pose, radius, words)
        for i in np.argsort(bounds):
            # A way costs at least its length: from here on, none can be cheaper.
            if bounds[i] >= cost:
                break
            if bounds[i] - costs[nodes[i]] <= longest:
                price = poses_price(floor, body, edge_poses(poses[nodes[i]], pose, radius, words, spacing))
                if costs[nodes[i]] + price < cost:
                    parent, cost = nodes[i], costs[nodes[i]] + price
        new = size
        size += 1
        poses[new], costs[new], parents[new] = pose, cost, parent
        first_child[new], next_child[new] = -1, first_child[parent]
        first_child[parent] = new
        row, column = int(pose[1] / side), int(pose[0] / side)
        following[new] = squares[row, column]
        squares[row, column] = new
        goal_prices[new] = np.inf
        if edge_length(pose, goal, radius, words) <= longest:
            goal_prices[new] = poses_price(floor, body, edge_poses(pose, goal, radius, words, spacing))
        for node in nodes:
            length = edge_length(pose, poses[node], radius, words)
            if cost + length >= costs[node] or length > longest:
                continue
            reached = cost + poses_price(floor, body, edge_poses(pose, poses[node], radius, words, spacing))
            if reached < costs[node] - 1e-9:
                move_node(node, new, parents, first_child, next_child)
                gain = costs[node] - reached
                stack[0], waiting = node, 1
                while waiting > 0:
                    waiting -= 1
                    one = stack[waiting]
                    costs[one] -= gain
                    child = first_child[one]
                    while child >= 0:
                        stack[waiting] = child
                        waiting += 1
                        child = next_child[child]
    return size


@njit(cache=True, nogil=True)
def move_node(node, parent, parents, first_child, next_child):  # type: ignore[no-untyped-def]
    """Hang a node under another parent."""
    child = first_child[parents[node]]
    if child == node:
        first_child[parents[node]] = next_child[node]
    else:
        while next_child[child] != node:
            child = next_child[child]
        next_child[child] = next_child[node]
    parents[node] = parent
    next_child[node], first_child[parent] = first_child[parent], node
