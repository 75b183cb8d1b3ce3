"""Kernels of the planners over cells: cheapest paths grown, taken back and grown anew; smoothing."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from vinecompass.costs.kernels import against, line_price

ROW_STEPS = np.array([0, 0, 1, -1, 1, 1, -1, -1], np.int32)
COLUMN_STEPS = np.array([1, -1, 0, 0, 1, -1, 1, -1], np.int32)
STEP_LENGTHS = np.hypot(ROW_STEPS, COLUMN_STEPS)
"""The eight steps to a neighbour, straight ones first."""
FIRST_DIAGONAL = 4
DIAGONAL_SURPLUS = np.sqrt(2.0) - 1.0
SETTLED, ORIGIN = 16, 9
"""What is added to how a cell was come by once it is settled, and how an origin is: all else are directions."""
DIRECTION = SETTLED - 1
"""Bits that hold how a cell was come by, settled or not."""
EVERY_MOVE, EVEN_FLOOR = 8, 9
"""The row of `MOVES` that holds all of them, and the rows that are for floor of one price."""
ENTRIES_A_CELL = 9
"""Entries of the pool that working off one cell may take."""


def worthwhile_moves() -> tuple[NDArray[np.uint8], NDArray[np.uint8]]:
    """Return which moves are worth trying after each move, in rows, and how many they are.

    Rows 0 to 7: after that move, all but those to cells that the cell before reaches more cheaply by itself. Row 8:
    all, for a path's origin. Rows 9 to 17: the same where all nine prices are equal, and one of several equally cheap
    ways will do, namely that with its diagonal steps first (Harabor and Grastien, 2011).
    """
    moves, counts = np.zeros((18, 8), np.uint8), np.zeros(18, np.uint8)
    steps = np.stack([ROW_STEPS, COLUMN_STEPS], axis=-1)
    for row in range(18):
        before, even = row % 9, row > 8
        chosen = np.ones(8, bool)
        if before < 8:
            chosen = np.abs(steps + steps[before]).sum(axis=1) > 1
            if even:
                # Go on; after a diagonal step, also along either of its two components.
                chosen = (steps @ steps[before] == 1) & (np.abs(steps).sum(1) == 1) & (before >= 4)
                chosen[before] = True
        counts[row] = chosen.sum()
        moves[row, : counts[row]] = np.flatnonzero(chosen)
    return moves, counts


MOVES, MOVE_COUNTS = worthwhile_moves()


@njit(cache=True, nogil=True)
def price_range(prices):  # type: ignore[no-untyped-def]
    """Lowest and highest open price of flat prices; nan where any price is nan, and inf, 0 where all is closed."""
    lowest, highest = np.float32(np.inf), np.float32(0.0)
    total = np.float32(0.0)
    for i in range(prices.size):
        price = prices[i]
        # nan and inf taken apart without a branch, so that the loop runs at the speed of memory.
        total += price - price if price != np.inf else np.float32(0.0)
        lowest = min(lowest, price)
        highest = max(highest, price if price < np.inf else np.float32(0.0))
    return (total, total) if np.isnan(total) else (lowest, highest)


@njit(cache=True, nogil=True)
def octile(rows_away, columns_away):  # type: ignore[no-untyped-def]
    """Length of the shortest way by the eight steps over so many rows and columns."""
    return max(rows_away, columns_away) + DIAGONAL_SURPLUS * min(rows_away, columns_away)


@njit(cache=True, nogil=True)
def is_even(price, cell, up, up_right, up_left):  # type: ignore[no-untyped-def]
    """Whether a cell and the eight about it are of one price."""
    charge, right = price[cell], np.uint32(1)
    return (
        price[cell + right] == charge
        and price[cell - right] == charge
        and price[cell + up] == charge
        and price[cell - up] == charge
        and price[cell + up_right] == charge
        and price[cell + up_left] == charge
        and price[cell - up_right] == charge
        and price[cell - up_left] == charge
    )


@njit(cache=True, nogil=True)
def goes_against(one_way, cell, neighbour, move):  # type: ignore[no-untyped-def]
    """Whether a step goes against a one-way heading."""
    x, y = COLUMN_STEPS[move], ROW_STEPS[move]
    return against(one_way.flat[cell], x, y) or against(one_way.flat[neighbour], x, y)


@njit(cache=True, nogil=True)
def still_waiting(heads, pool, came_by, waiting, seeds, next_seed):  # type: ignore[no-untyped-def]
    """Flat indices of the cells in the buckets that are reached but not settled, and of the seeds not taken up yet."""
    frontier, count = np.empty(waiting + seeds.size - next_seed, np.int64), 0
    for slot in range(heads.size):
        entry = heads[slot]
        while entry >= 0:
            cell = pool[entry, 0]
            if 0 < came_by[cell] < SETTLED:
                frontier[count] = cell
                count += 1
            entry = pool[entry, 1]
    for i in range(next_seed, seeds.size):
        frontier[count] = seeds[i]
        count += 1
    return frontier[:count]


@njit(cache=True, nogil=True)
def place_of(cell, columns, inverse_columns):  # type: ignore[no-untyped-def]
    """Row and column of a cell: multiplied, as dividing whole numbers is slow."""
    row = np.int32((np.float64(cell) + 0.5) * inverse_columns)
    return row, np.int32(cell) - row * columns


@njit(cache=True, nogil=True)
def free_entry(pool, used, unused):  # type: ignore[no-untyped-def]
    """An entry of the pool to fill: one that was emptied, or the next; and how many are used, and the next emptied."""
    if unused >= 0:
        return np.uint32(unused), used, pool[unused, 1]
    return used, np.uint32(used + 1), unused


@njit(cache=True, nogil=True)
def file(heads, pool, slot, entry, cell):  # type: ignore[no-untyped-def]
    """Put a cell at the head of a bucket, in an entry of the pool."""
    pool[entry, 0], pool[entry, 1] = np.int32(cell), heads[slot]
    heads[slot] = np.int32(entry)


@njit(cache=True, nogil=True)
def landmark_bound(landmarks, cell):  # type: ignore[no-untyped-def]
    """What it costs at least from a cell to the target: by how much farther one of them is from a landmark."""
    most = np.float32(0.0)
    for k in range(landmarks.of_target.size):
        most = max(most, abs(landmarks.costs[cell, k] - landmarks.of_target[k]))
    return landmarks.share * most


@njit(cache=True, nogil=True)
def take_up_seeds(landmarks, costs, seeds, places, heads, pool, bucket, used, waiting, next_seed):  # type: ignore[no-untyped-def]
    """File the seeds that are due; return the bucket being worked off, and how many are used, wait, and were taken up.

    `places`: row and column of the target, columns, slope, and the buckets to a unit of cost.
    """
    target_row, target_column, columns, slope, inverse_width = places
    mask = np.uint32(heads.size - 1)
    while next_seed < seeds.size:
        seed = seeds[next_seed]
        bound = slope * octile(abs(seed // columns - target_row), abs(seed % columns - target_column))
        if landmarks is not None:
            bound = max(bound, landmark_bound(landmarks, seed))
        place = np.uint32((costs[seed] + bound) * inverse_width)
        if (waiting > 0 and place > bucket) or used + ENTRIES_A_CELL > pool.shape[0]:
            break
        bucket = place if waiting == 0 else bucket
        file(heads, pool, bucket & mask, used, seed)
        used, waiting, next_seed = np.uint32(used + 1), waiting + 1, next_seed + 1
    return bucket, used, waiting, next_seed


@njit(cache=True, nogil=True)
def grow(prices, one_way, landmarks, costs, came_by, seeds, target, slope, width, heads, pool):  # type: ignore[no-untyped-def]
    """Grow cheapest paths over priced cells from seeds until a target cell is settled.

    Parameters
    ----------
    prices : (rows, columns), float32, inf is closed
    one_way : (rows, columns), heading in the grid's frame against which no step may go, nan for none; or None
    landmarks : `Landmarks` that bound what is left to the target; or None
    costs, came_by : flat, float64 and uint8
        Worked on in place. `came_by` is 0 for a cell not reached, else 1 + the direction of the last step (9 at an
        origin), and has 16 added once settled; only reached cells have a cost.
    seeds : flat indices of reached cells, by rising cost plus bound
    target : flat index, or -1 to settle everything
    slope : what a metre of octile distance to the target costs at least, 0 for no bound
    width : of a bucket; at most what cost plus bound grows in any step, so that order within a bucket is free
    heads, pool : ring of buckets (a power of two of them, filled with -1), and room (N, 2) for entries

    Returns the number of cells expanded, the flat indices of the cells reached but not settled, and whether it has
    finished: if not, the pool is full, and it goes on from those cells with a larger one.
    """
    rows, columns = prices.shape
    price = prices.ravel()
    offsets = (ROW_STEPS * columns + COLUMN_STEPS).astype(np.int32)
    up, up_right, up_left = np.uint32(offsets[2]), np.uint32(offsets[4]), np.uint32(offsets[5])
    target_row, target_column = target // columns, target % columns
    # Indices without a sign: numba then need not look whether they count from the end.
    mask, inverse_width, inverse_columns = np.uint32(heads.size - 1), 1.0 / width, 1.0 / columns
    bucket, last, finished = np.uint32(0), np.uint32(0xFFFFFFFF), True
    if target >= 0 and came_by[target] != 0:
        last = np.uint32(costs[target] * inverse_width)
    used, unused, waiting, next_seed, expanded = np.uint32(0), np.int32(-1), 0, 0, 0
    while waiting > 0 or next_seed < seeds.size:
        if used + ENTRIES_A_CELL > pool.shape[0]:
            finished = False
            break
        if next_seed < seeds.size:
            places = (target_row, target_column, columns, slope, inverse_width)
            bucket, used, waiting, next_seed = take_up_seeds(
                landmarks, costs, seeds, places, heads, pool, bucket, used, waiting, next_seed
            )
        if heads[bucket & mask] < 0:
            if last < bucket:
                break
            bucket = np.uint32(bucket + 1)
            continue
        entry = np.uint32(heads[bucket & mask])
        cell = np.uint32(pool[entry, 0])
        heads[bucket & mask] = pool[entry, 1]
        pool[entry, 1], unused, waiting = unused, np.int32(entry), waiting - 1
        direction = came_by[cell]
        if direction >= SETTLED or direction == 0:
            continue
        came_by[cell] = direction | SETTLED
        expanded += 1
        cost, here = costs[cell], 0.5 * np.float64(price[cell])
        row, column = place_of(cell, columns, inverse_columns)
        rows_away, columns_away = np.float64(row - target_row), np.float64(column - target_column)
        inside = 0 < row < rows - 1 and 0 < column < columns - 1
        kind = np.uint32(direction - 1)
        if one_way is not None or not inside:
            kind = np.uint32(EVERY_MOVE)
        elif is_even(price, cell, up, up_right, up_left):
            kind = np.uint32(kind + EVEN_FLOOR)
        for k in range(np.uint32(MOVE_COUNTS[kind])):
            move = np.uint32(MOVES[kind, np.uint32(k)])
            if not inside and not (0 <= row + ROW_STEPS[move] < rows and 0 <= column + COLUMN_STEPS[move] < columns):
                continue
            neighbour = np.uint32(cell + np.uint32(offsets[move]))
            reached = cost + (here + 0.5 * price[neighbour]) * STEP_LENGTHS[move]
            if (came_by[neighbour] != 0 and not reached < costs[neighbour]) or reached == np.inf:
                continue
            if move >= FIRST_DIAGONAL:
                beside = np.uint32(COLUMN_STEPS[move])
                if price[np.uint32(cell + beside)] == np.inf or price[np.uint32(neighbour - beside)] == np.inf:
                    continue
            # Compiled only for floor with one-way zones: None has a type of its own.
            if one_way is not None:
                wrong_way = goes_against(one_way, cell, neighbour, move)
                if wrong_way:
                    continue
            costs[neighbour], came_by[neighbour] = reached, np.uint8(move + 1)
            bound = slope * octile(abs(rows_away + ROW_STEPS[move]), abs(columns_away + COLUMN_STEPS[move]))
            if landmarks is not None:
                bound = max(bound, landmark_bound(landmarks, neighbour))
            # Rounding must never file an entry behind the bucket being worked off.
            place = max(np.uint32((reached + bound) * inverse_width), bucket)
            last = place if neighbour == target else last
            entry, used, unused = free_entry(pool, used, unused)
            file(heads, pool, place & mask, entry, neighbour)
            waiting += 1
    return expanded, still_waiting(heads, pool, came_by, waiting, seeds, next_seed), finished


@njit(cache=True, nogil=True)
def trace_back(came_by, cell, columns):  # type: ignore[no-untyped-def]
    """Flat indices of the cells from the origin to a cell reached."""
    path = np.empty(1024, np.int64)
    path[0], count = cell, 1
    while came_by[cell] & DIRECTION != ORIGIN:
        move = (came_by[cell] & DIRECTION) - 1
        cell -= ROW_STEPS[move] * columns + COLUMN_STEPS[move]
        if count == path.size:
            path = np.concatenate((path, np.empty_like(path)))
        path[count] = cell
        count += 1
    return path[:count][::-1].copy()


@njit(cache=True, nogil=True)
def take_back(shape, costs, came_by, roots, limit):  # type: ignore[no-untyped-def]
    """Take back that some cells were reached, and all that was reached through them at a cost up to a limit.

    `roots` are flat indices of reached cells; an origin among them stays, to be grown from again. Returns the flat
    indices of the cells beside what was taken back, from where it is reached anew, and of those just beyond the
    limit that were reached through it.
    """
    rows, columns = shape
    stack = np.empty(max(2 * roots.size, 1024), np.int64)
    beside, beyond = np.empty(1024, np.int64), np.empty(1024, np.int64)
    taken, beside_count, beyond_count = 0, 0, 0
    for cell in roots:
        if came_by[cell] & DIRECTION == ORIGIN:
            came_by[cell] = ORIGIN
            beside[0], beside_count = cell, 1
        else:
            came_by[cell] = 0
            stack[taken] = cell
            taken += 1
    done = 0
    while done < taken:
        row, column = stack[done] // columns, stack[done] % columns
        done += 1
        for move in range(8):
            row_step, column_step = ROW_STEPS[move], COLUMN_STEPS[move]
            if not (0 <= row + row_step < rows and 0 <= column + column_step < columns):
                continue
            neighbour = (row + row_step) * columns + column + column_step
            if came_by[neighbour] & DIRECTION != move + 1:
                continue
            if costs[neighbour] > limit:
                if beyond_count == beyond.size:
                    beyond = np.concatenate((beyond, np.empty_like(beyond)))
                beyond[beyond_count] = neighbour
                beyond_count += 1
                continue
            came_by[neighbour] = 0
            if taken == stack.size:
                stack = np.concatenate((stack, np.empty_like(stack)))
            stack[taken] = neighbour
            taken += 1
    for i in range(taken):
        row, column = stack[i] // columns, stack[i] % columns
        for move in range(8):
            row_step, column_step = ROW_STEPS[move], COLUMN_STEPS[move]
            if not (0 <= row + row_step < rows and 0 <= column + column_step < columns):
                continue
            neighbour = (row + row_step) * columns + column + column_step
            if came_by[neighbour] >= SETTLED:
                came_by[neighbour] -= SETTLED
                if beside_count == beside.size:
                    beside = np.concatenate((beside, np.empty_like(beside)))
                beside[beside_count] = neighbour
                beside_count += 1
    return beside[:beside_count], beyond[:beyond_count]


@njit(cache=True, nogil=True)
def smooth_points(prices, one_way, clearance, points, rounds):  # type: ignore[no-untyped-def]
    """Move each inner point (N, 2) halfway to the middle of its neighbours, in turn, where that is open and cheap.

    None moves to where there is less clearance (rows, columns) than at it and both its neighbours: the way never
    closes in on what is closed.
    """
    for _ in range(rounds):
        for i in range(1, points.shape[0] - 1):
            x = 0.5 * points[i, 0] + 0.25 * (points[i - 1, 0] + points[i + 1, 0])
            y = 0.5 * points[i, 1] + 0.25 * (points[i - 1, 1] + points[i + 1, 1])
            least = np.inf
            for j in range(i - 1, i + 2):
                least = min(least, clearance[int(points[j, 1]), int(points[j, 0])])
            if clearance[int(y), int(x)] < least:
                continue
            before = line_price(prices, one_way, points[i - 1, 0], points[i - 1, 1], points[i, 0], points[i, 1])
            before += line_price(prices, one_way, points[i, 0], points[i, 1], points[i + 1, 0], points[i + 1, 1])
            after = line_price(prices, one_way, points[i - 1, 0], points[i - 1, 1], x, y)
            after += line_price(prices, one_way, x, y, points[i + 1, 0], points[i + 1, 1])
            if after <= before:
                points[i, 0], points[i, 1] = x, y
    return points
