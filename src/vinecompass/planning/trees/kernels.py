"""Kernels of RRT*: a tree that keeps getting cheaper. Everything is in cells, in the grid's frame."""

from __future__ import annotations

import numpy as np
from numba import njit

from vinecompass.contact.cell_kernels import touches
from vinecompass.costs.kernels import drive_price
from vinecompass.geometry.kernels import TURN
from vinecompass.planning.curves.kernels import curve_lengths, curve_poses, shortest_curve

MOST_NEIGHBOURS = 60
"""So many of the nodes that a new one could be hung under, or that could be hung under it, are tried at most."""


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
    if total < np.inf and touches(floor.cells, body, poses):
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
def near_nodes(poses, squares, following, side, pose, reach, arm):  # type: ignore[no-untyped-def]
    """Nodes within a reach of a pose, by squares (rows, columns) that hold linked lists of them.

    A turn counts as the way at the end of an arm; without one it is as the crow flies.
    """
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
                turned = poses[node, 2] - pose[2]
                turned = arm * (turned - TURN * np.round(turned / TURN))
                if dx * dx + dy * dy + turned * turned <= reach * reach:
                    if count == found.size:
                        found = np.concatenate((found, np.empty_like(found)))
                    found[count] = node
                    count += 1
                node = following[node]
    return found[:count]


@njit(cache=True, nogil=True)
def nearest_node(tree, sample, motion):  # type: ignore[no-untyped-def]
    """The node with the shortest motion to a sample, of those about as near as the nearest, and that motion's length.

    The length is `inf` where no motion leads there.
    """
    reach = tree.side
    nodes = near_nodes(tree.poses, tree.squares, tree.following, tree.side, sample, reach, 0.0)
    while nodes.size == 0:
        reach *= 2.0
        nodes = near_nodes(tree.poses, tree.squares, tree.following, tree.side, sample, reach, 0.0)
    near, least = nodes[0], np.inf
    for node in nodes:
        length = edge_length(tree.poses[node], sample, motion.radius, motion.words)
        if length < least:
            near, least = node, length
    return near, least


@njit(cache=True, nogil=True)
def cut_short(path, longest):  # type: ignore[no-untyped-def]
    """The first poses of a path (N, 3) that are no longer than the longest edge; two at least."""
    kept, way = 1, 0.0
    while kept < path.shape[0]:
        way += np.hypot(path[kept, 0] - path[kept - 1, 0], path[kept, 1] - path[kept - 1, 1])
        if way > longest:
            break
        kept += 1
    return path[: max(kept, 2)]


@njit(cache=True, nogil=True)
def cheapest_parent(floor, body, tree, motion, nodes, pose, near, cost):  # type: ignore[no-untyped-def]
    """Of some nodes the one over which a pose is reached most cheaply, and at what cost; `near` at `cost` so far."""
    parent = near
    bounds = np.empty(nodes.size)
    for i in range(nodes.size):
        bounds[i] = tree.costs[nodes[i]] + edge_length(tree.poses[nodes[i]], pose, motion.radius, motion.words)
    for i in np.argsort(bounds):
        node = nodes[i]
        # A way costs at least its length: from here on, none can be cheaper.
        if bounds[i] >= cost:
            break
        if bounds[i] - tree.costs[node] <= motion.longest:
            path = edge_poses(tree.poses[node], pose, motion.radius, motion.words, motion.spacing)
            reached = tree.costs[node] + poses_price(floor, body, path)
            if reached < cost:
                parent, cost = node, reached
    return parent, cost


@njit(cache=True, nogil=True)
def file_nodes(tree, first, end):  # type: ignore[no-untyped-def]
    """Add the nodes from `first` up to, but not, `end` to those in their squares."""
    for node in range(first, end):
        row, column = int(tree.poses[node, 1] / tree.side), int(tree.poses[node, 0] / tree.side)
        tree.following[node] = tree.squares[row, column]
        tree.squares[row, column] = node


@njit(cache=True, nogil=True)
def add_node(tree, new, pose, parent, cost):  # type: ignore[no-untyped-def]
    """Add a node to the tree and to its square."""
    tree.poses[new], tree.costs[new], tree.parents[new] = pose, cost, parent
    tree.first_child[new], tree.next_child[new] = -1, tree.first_child[parent]
    tree.first_child[parent] = new
    tree.goal_prices[new] = np.inf
    file_nodes(tree, new, new + 1)


@njit(cache=True, nogil=True)
def make_cheaper(tree, node, gain, stack):  # type: ignore[no-untyped-def]
    """Take a gain off what a node and all that hang under it cost; `stack` is room for them."""
    stack[0], waiting = node, 1
    while waiting > 0:
        waiting -= 1
        one = stack[waiting]
        tree.costs[one] -= gain
        child = tree.first_child[one]
        while child >= 0:
            stack[waiting] = child
            waiting += 1
            child = tree.next_child[child]


@njit(cache=True, nogil=True)
def rewire(floor, body, tree, motion, nodes, new, stack):  # type: ignore[no-untyped-def]
    """Hang those of some nodes under a new one that it reaches more cheaply."""
    pose, cost = tree.poses[new], tree.costs[new]
    for node in nodes:
        length = edge_length(pose, tree.poses[node], motion.radius, motion.words)
        if cost + length >= tree.costs[node] or length > motion.longest:
            continue
        path = edge_poses(pose, tree.poses[node], motion.radius, motion.words, motion.spacing)
        reached = cost + poses_price(floor, body, path)
        if reached < tree.costs[node] - 1e-9:
            move_node(node, new, tree.parents, tree.first_child, tree.next_child)
            make_cheaper(tree, node, tree.costs[node] - reached, stack)


@njit(cache=True, nogil=True)
def grow_star(floor, body, motion, goal, samples, tree, size):  # type: ignore[no-untyped-def]
    """Grow a tree over samples (N, 3) and rewire it (RRT*); return its new size.

    Parameters
    ----------
    floor : `PricedFloor`
    body : `BodyShape`
    motion : `TreeMotion`
    goal : (3,)
    samples : (N, 3)
    tree : `TreeArrays`, of which `size` nodes are in use
    """
    rows, columns = tree.squares.shape
    stack = np.empty(tree.poses.shape[0], np.int64)
    # Of poses that curves join; straight lines join places.
    dimensions = 3.0 if motion.radius > 0.0 else 2.0
    for s in range(samples.shape[0]):
        if size == tree.poses.shape[0]:
            break
        near, least = nearest_node(tree, samples[s], motion)
        if least == np.inf or least == 0.0:
            continue
        path = edge_poses(tree.poses[near], samples[s], motion.radius, motion.words, motion.spacing)
        if least > motion.longest:
            path = cut_short(path, motion.longest)
        pose = path[-1].copy()
        if not (0.0 <= pose[0] < columns * tree.side and 0.0 <= pose[1] < rows * tree.side):
            continue
        price = poses_price(floor, body, path)
        if price == np.inf:
            continue
        thinned = (np.log(size + 1.0) / (size + 1.0)) ** (1.0 / dimensions)
        reach = min(motion.longest, motion.neighbourhood * thinned)
        nodes = near_nodes(tree.poses, tree.squares, tree.following, tree.side, pose, reach, motion.radius)
        nodes = nodes[:: max(-(-nodes.size // MOST_NEIGHBOURS), 1)]
        parent, cost = cheapest_parent(floor, body, tree, motion, nodes, pose, near, tree.costs[near] + price)
        add_node(tree, size, pose, parent, cost)
        if edge_length(pose, goal, motion.radius, motion.words) <= motion.longest:
            path = edge_poses(pose, goal, motion.radius, motion.words, motion.spacing)
            tree.goal_prices[size] = poses_price(floor, body, path)
        rewire(floor, body, tree, motion, nodes, size, stack)
        size += 1
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
