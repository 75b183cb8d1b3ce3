"""Kernels of scan matching. Points and poses are in the field's own frame, in cells."""

from __future__ import annotations

import numpy as np
from numba import njit

from vinecompass.geometry.kernels import principal_axes, solve_in_place, write_row

MOST_ACROSS = 0.15
"""Share of the variance along it that hits may have across a wall."""
OTHER_SIDE = 0.3
"""Negative cosine between two normals from which they are of the two sides of a wall."""


@njit(cache=True, nogil=True)
def add_hits(hit_sums, field, points, spread, reach):  # type: ignore[no-untyped-def]
    """Add oriented points (N, 4) to the sums of hits in each cell, and raise the likelihood field about its mean hit.

    `hit_sums` (rows, columns, 5): the sums of x and y in the cell, from its corner, how many, and the sums of their
    normals. `spread` of the Gaussian and `reach`, where it is cut off, are in cells. Points off the grid are left out.
    """
    rows, columns = field.shape
    along_row = np.empty(2 * reach + 1, np.float32)
    along_column = np.empty(2 * reach + 1, np.float32)
    scale = -0.5 / (spread * spread)
    for i in range(points.shape[0]):
        column, row = int(np.floor(points[i, 0])), int(np.floor(points[i, 1]))
        if not (reach <= row < rows - reach and reach <= column < columns - reach):
            continue
        sums = hit_sums[row, column]
        sums[0] += points[i, 0] - column
        sums[1] += points[i, 1] - row
        sums[2] += 1.0
        sums[3] += points[i, 2]
        sums[4] += points[i, 3]
        # The mean of many hits hardly moves any more: it is looked at when their number has doubled.
        count = int(sums[2])
        if count & (count - 1):
            continue
        x, y = sums[0] / sums[2] - 0.5, sums[1] / sums[2] - 0.5
        for k in range(2 * reach + 1):
            along_row[k] = np.exp(scale * (k - reach - x) ** 2)
            along_column[k] = np.exp(scale * (k - reach - y) ** 2)
        for r in range(2 * reach + 1):
            line = field[row - reach + r, column - reach : column + reach + 1]
            for c in range(2 * reach + 1):
                line[c] = max(line[c], along_column[r] * along_row[c])


@njit(cache=True, nogil=True)
def best_offset(field, points, guess, turns, steps, away_cost):  # type: ignore[no-untyped-def]
    """Try every turn and every offset in x and y about a guess; return the best pose and its mean agreement.

    `points` (N, 2) in the body frame; `turns` (T,) radians and whole cells up to `steps` each way are added to the
    guess. Each point is read from the cell it falls in; points off the field agree with nothing. An offset is worth
    less by the share `away_cost` for each squared cell from the guess. Ties go to the first.
    """
    rows, columns = field.shape
    best = guess.copy()
    best_sum = np.float32(-1.0)
    count = points.shape[0]
    turned_columns, turned_rows = np.empty(count, np.int64), np.empty(count, np.int64)
    for turn in turns:
        heading = guess[2] + turn
        cosine, sine = np.cos(heading), np.sin(heading)
        for i in range(count):
            turned_columns[i] = int(np.floor(guess[0] + cosine * points[i, 0] - sine * points[i, 1]))
            turned_rows[i] = int(np.floor(guess[1] + sine * points[i, 0] + cosine * points[i, 1]))
        for x_step in range(2 * steps + 1):
            dx = (x_step + 1) // 2 * (1 - 2 * (x_step % 2))
            for y_step in range(2 * steps + 1):
                dy = (y_step + 1) // 2 * (1 - 2 * (y_step % 2))
                # Where nothing tells, as along a plain aisle, the guess stands.
                worth = np.float32(1.0 - away_cost * (dx * dx + dy * dy))
                total = np.float32(0.0)
                for i in range(count):
                    column, row = turned_columns[i] + dx, turned_rows[i] + dy
                    if 0 <= row < rows and 0 <= column < columns:
                        total += field[row, column]
                    # No point adds more than 1: give up what can no longer win.
                    if i & 15 == 15 and worth * (total + np.float32(count - 1 - i)) <= best_sum:
                        break
                total *= worth
                if total > best_sum:
                    best_sum = total
                    best[0], best[1], best[2] = guess[0] + dx, guess[1] + dy, heading
    return best, best_sum / max(count, 1)


@njit(cache=True, nogil=True)
def turned_cells(points, headings, pad):  # type: ignore[no-untyped-def]
    """Turn points (N, 2), in cells, to each heading: the whole cells (H, N, 2) they fall in from a body mid-cell."""
    turned = np.empty((headings.shape[0], points.shape[0], 2), np.int32)
    for h in range(headings.shape[0]):
        cosine, sine = np.cos(headings[h]), np.sin(headings[h])
        for i in range(points.shape[0]):
            turned[h, i, 0] = int(np.floor(0.5 + cosine * points[i, 0] - sine * points[i, 1])) + pad
            turned[h, i, 1] = int(np.floor(0.5 + sine * points[i, 0] + cosine * points[i, 1])) + pad
    return turned


@njit(cache=True, nogil=True)
def block_bound(maxima, cells, x, y, least):  # type: ignore[no-untyped-def]
    """Sum one level of a pyramid over cells (N, 2) moved by x, y: no offset in the block that begins there has more.

    Given up once it cannot exceed `least` any more.
    """
    rows, columns = maxima.shape
    count, total = cells.shape[0], 0
    for p in range(count):
        column, row = cells[p, 0] + x, cells[p, 1] + y
        if 0 <= row < rows and 0 <= column < columns:
            total += maxima[row, column]
        if p & 15 == 15 and total + 255 * (count - 1 - p) <= least:
            break
    return total


@njit(cache=True, nogil=True)
def largest_blocks(maxima, turned, low, high, block):  # type: ignore[no-untyped-def]
    """All blocks between `low` and `high` at all headings, the best first: heading, x, y and bound (K, 4)."""
    across, along = (high[0] - low[0]) // block + 1, (high[1] - low[1]) // block + 1
    blocks = np.empty((turned.shape[0] * across * along, 4), np.int32)
    k = 0
    for h in range(turned.shape[0]):
        for j in range(along):
            for i in range(across):
                x, y = low[0] + i * block, low[1] + j * block
                blocks[k, 0], blocks[k, 1], blocks[k, 2] = h, x, y
                blocks[k, 3] = block_bound(maxima, turned[h], x, y, -1)
                k += 1
    return blocks[np.argsort(-blocks[:, 3], kind="mergesort")]


@njit(cache=True, nogil=True)
def push_halves(pyramid, cells, level, x, y, high, least, stack, depth):  # type: ignore[no-untyped-def]
    """Put the four parts of a block on the stack whose bounds exceed `least`, the best on top; return its depth."""
    half, first = 1 << (level - 1), depth
    for child in range(4):
        cx, cy = x + half * (child & 1), y + half * (child >> 1)
        if cx > high[0] or cy > high[1]:
            continue
        total = block_bound(pyramid[level - 1], cells, cx, cy, least)
        if total <= least:
            continue
        place = depth
        while place > first and stack[place - 1, 3] > total:
            write_row(stack, place, stack[place - 1])
            place -= 1
        stack[place, 0] = level - 1
        stack[place, 1] = cx
        stack[place, 2] = cy
        stack[place, 3] = total
        depth += 1
    return depth


@njit(cache=True, nogil=True)
def block_lies_in(x, y, size, box):  # type: ignore[no-untyped-def]
    """Whether the block of offsets that begins at x, y lies in a box: its middle, the direction of its length, and
    half its length and its width, in cells."""
    for corner in range(4):
        dx = x + (size - 1) * (corner & 1) - box[0]
        dy = y + (size - 1) * (corner >> 1) - box[1]
        if abs(box[2] * dx + box[3] * dy) > box[4] or abs(box[2] * dy - box[3] * dx) > box[5]:
            return False
    return True


@njit(cache=True, nogil=True)
def best_pose(pyramid, pad, points, headings, low, high, least, excluded):  # type: ignore[no-untyped-def]
    """Find the best of all whole-cell offsets from `low` to `high` (x, y, both included) and all headings.

    Branch and bound: `pyramid` (levels, rows, columns) holds at level h the field's maximum over the 2**h x 2**h
    cells that begin at a cell, so a sum over it bounds the sums of all offsets in such a block from above. Its
    cell ``[pad, pad]`` is the field's first. `points` (N, 2) are in the body frame, in cells; an offset puts the
    body in the middle of a cell. Only sums above `least` count, and none of the offsets and headings (by index) in
    the box `excluded` (8,): as for `block_lies_in`, and its lowest and highest index. Returns found, x, y, index of
    heading and sum. Ties go to the first of the blocks, best bound first.
    """
    top = pyramid.shape[0] - 1
    turned = turned_cells(points, headings, pad)
    blocks = largest_blocks(pyramid[top], turned, low, high, 1 << top)
    found, best, best_x, best_y, best_h = False, least, 0, 0, 0
    # A block waiting to be looked into: level, x, y and its bound. Four children at each level at most.
    stack = np.empty((4 * top + 8, 4), np.int64)
    for k in range(blocks.shape[0]):
        if blocks[k, 3] <= best:
            break
        h = blocks[k, 0]
        stack[0, 0] = top
        stack[0, 1] = blocks[k, 1]
        stack[0, 2] = blocks[k, 2]
        stack[0, 3] = blocks[k, 3]
        depth = 1
        while depth > 0:
            depth -= 1
            level, x, y, bound = stack[depth, 0], stack[depth, 1], stack[depth, 2], stack[depth, 3]
            size = 1 << level
            if bound <= best or (excluded[6] <= h <= excluded[7] and block_lies_in(x, y, size, excluded)):
                continue
            if level == 0:
                found, best, best_x, best_y, best_h = True, bound, x, y, h
            else:
                depth = push_halves(pyramid, turned[h], level, x, y, high, best, stack, depth)
    return found, best_x, best_y, best_h, best


@njit(cache=True, nogil=True)
def good_poses(pyramid, pad, points, headings, floor, least, share, apart, turned_apart, most):  # type: ignore[no-untyped-def]
    """Find all poses on a floor (rows, columns) whose sums come up to a share of the best one's, and exceed `least`.

    As `best_pose`, over the whole field. Of poses within `apart` cells and `turned_apart` radians of each other the
    best is kept, and `most` in all. Returns x, y, index of heading and sum (K, 4), as they were found.
    """
    top = pyramid.shape[0] - 1
    turned = turned_cells(points, headings, pad)
    low, high = np.array([0, 0]), np.array([floor.shape[1] - 1, floor.shape[0] - 1])
    blocks = largest_blocks(pyramid[top], turned, low, high, 1 << top)
    kept, is_near, count, best = np.empty((most, 4), np.int64), np.empty(most, np.int64), 0, least
    stack = np.empty((4 * top + 8, 4), np.int64)
    for k in range(blocks.shape[0]):
        if blocks[k, 3] <= max(least, int(share * best)):
            break
        h = blocks[k, 0]
        stack[0, 0] = top
        stack[0, 1] = blocks[k, 1]
        stack[0, 2] = blocks[k, 2]
        stack[0, 3] = blocks[k, 3]
        depth = 1
        while depth > 0:
            depth -= 1
            level, x, y, bound = stack[depth, 0], stack[depth, 1], stack[depth, 2], stack[depth, 3]
            bar = max(least, int(share * best))
            if bound <= bar:
                continue
            if level > 0:
                depth = push_halves(pyramid, turned[h], level, x, y, high, bar, stack, depth)
                continue
            if not floor[y, x]:
                continue
            best = max(best, bound)
            # It takes the place of worse ones near it, or of the worst where there is no room.
            near, beaten = 0, False
            for i in range(count):
                turn = abs(headings[kept[i, 2]] - headings[h])
                turn = min(turn, 2.0 * np.pi - turn)
                if abs(kept[i, 0] - x) <= apart and abs(kept[i, 1] - y) <= apart and turn <= turned_apart:
                    beaten = beaten or kept[i, 3] >= bound
                    is_near[near] = i
                    near += 1
            if beaten:
                continue
            for i in range(near - 1, -1, -1):
                count -= 1
                write_row(kept, is_near[i], kept[count])
            if count == most:
                worst = np.argmin(kept[:, 3])
                if kept[worst, 3] >= bound:
                    continue
                count -= 1
                write_row(kept, worst, kept[count])
            kept[count, 0], kept[count, 1], kept[count, 2], kept[count, 3] = x, y, h, bound
            count += 1
    return kept[:count]


@njit(cache=True, nogil=True)
def cells_about(cells, row, column, reach):  # type: ignore[no-untyped-def]
    """The first row and the one after the last, and the columns alike, of what lies within `reach` of a cell."""
    low_row, high_row = max(row - reach, 0), min(row + reach + 1, cells.shape[0])
    return low_row, high_row, max(column - reach, 0), min(column + reach + 1, cells.shape[1])


@njit(cache=True, nogil=True)
def counts(hit_sums, row, column, normal_x, normal_y):  # type: ignore[no-untyped-def]
    """Whether a cell was hit, and not from the other side of a wall than a point with this normal was seen from."""
    hits = hit_sums[row, column, 2]
    if hits == 0.0:
        return False
    return hit_sums[row, column, 3] * normal_x + hit_sums[row, column, 4] * normal_y > -OTHER_SIDE * hits


@njit(cache=True, nogil=True)
def nearest_hits(hit_sums, x, y, normal, reach):  # type: ignore[no-untyped-def]
    """The row and column of the cell within `reach` cells whose mean hit is nearest to a point (cells), or -1, -1."""
    low_row, high_row, low_column, high_column = cells_about(hit_sums, int(np.floor(y)), int(np.floor(x)), reach)
    best, best_row, best_column = (reach + 0.5) ** 2, -1, -1
    normal_x, normal_y = normal
    for r in range(low_row, high_row):
        for c in range(low_column, high_column):
            if counts(hit_sums, r, c, normal_x, normal_y):
                count = hit_sums[r, c, 2]
                away = (c + hit_sums[r, c, 0] / count - x) ** 2 + (r + hit_sums[r, c, 1] / count - y) ** 2
                if away < best:
                    best, best_row, best_column = away, r, c
    return best_row, best_column


@njit(cache=True, nogil=True)
def hits_about(hit_sums, row, column, normal, reach, hits):  # type: ignore[no-untyped-def]
    """Write the mean hits of the cells within `reach` of a cell to `hits` (N, 3): x and y from that cell's corner, in
    cells, and their weight; return how many there are."""
    low_row, high_row, low_column, high_column = cells_about(hit_sums, row, column, reach)
    found = 0
    normal_x, normal_y = normal
    for r in range(low_row, high_row):
        for c in range(low_column, high_column):
            if counts(hit_sums, r, c, normal_x, normal_y):
                count = hit_sums[r, c, 2]
                hits[found, 0] = c - column + hit_sums[r, c, 0] / count
                hits[found, 1] = r - row + hit_sums[r, c, 1] / count
                # A cell hit often is known better, but not without bound: its hits share the poses they came from.
                hits[found, 2] = min(count, 20.0)
                found += 1
    return found


@njit(cache=True, nogil=True)
def line_through(hits):  # type: ignore[no-untyped-def]
    """The line through weighted points (N, 3): their mean x and y, the cosine and sine of the line's direction, and
    their variances along and across it."""
    total, mx, my, xx, yy, xy = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    for i in range(hits.shape[0]):
        x, y, weight = hits[i, 0], hits[i, 1], hits[i, 2]
        total += weight
        mx += weight * x
        my += weight * y
        xx += weight * x * x
        yy += weight * y * y
        xy += weight * x * y
    mx, my = mx / total, my / total
    xx, yy, xy = xx / total - mx * mx, yy / total - my * my, xy / total - mx * my
    angle, along, across = principal_axes(xx, xy, yy)
    return mx, my, np.cos(angle), np.sin(angle), along, across


@njit(cache=True, nogil=True)
def bend_over(hits, mx, my, cosine, sine, along_variance):  # type: ignore[no-untyped-def]
    """The parabola over a line through weighted points (N, 3) that fits them best.

    It lies ``bend * (along**2 - along_variance - skew * along)`` across the line. Returns `bend`, `skew` and by how
    much it lowers the points' variance across.
    """
    total, cubes, fourths, bulge = 0.0, 0.0, 0.0, 0.0
    for i in range(hits.shape[0]):
        x, y, weight = hits[i, 0] - mx, hits[i, 1] - my, hits[i, 2]
        along, across = cosine * x + sine * y, cosine * y - sine * x
        total += weight
        cubes += weight * along**3
        fourths += weight * along**4
        bulge += weight * along**2 * across
    skew = cubes / (total * along_variance)
    # What of the squares no line explains; none, if the points lie at two places only.
    own = fourths - total * along_variance**2 - cubes * skew
    if own <= 1e-9 * fourths:
        return 0.0, 0.0, 0.0
    return bulge / own, skew, bulge * bulge / own / total


@njit(cache=True, nogil=True)
def wall_near(hit_sums, x, y, normal, reach, hits):  # type: ignore[no-untyped-def]
    """The wall near a point (cells): a point on it and its unit normal, from the mean hits of the cells about it.

    The point's own `normal` (x and y) tells from which side it is seen: cells hit from the other do not count, or the
    two sides of a thin wall would be taken for one, and the building shrink by its walls.

    The cell with the mean hit nearest to the point is sought within `reach` cells; the wall is the line through the
    mean hits about that cell that fits them best, or a parabola where that fits better than by chance: a line would cut
    through pillars and corners, and draw the scan towards them. `hits` ((2 reach + 1)**2, 3) is room to work in.
    Returns (found, wall x, wall y, normal x, normal y); too few cells, or cells that do not lie along a line, are no
    wall.
    """
    row, column = nearest_hits(hit_sums, x, y, normal, reach)
    cells = hits_about(hit_sums, row, column, normal, reach, hits) if row >= 0 else 0
    if cells < 3:
        return False, 0.0, 0.0, 0.0, 0.0
    mx, my, cosine, sine, along_variance, variance = line_through(hits[:cells])
    if variance > MOST_ACROSS * along_variance:
        return False, 0.0, 0.0, 0.0, 0.0
    bend, skew, explained = bend_over(hits[:cells], mx, my, cosine, sine, along_variance)
    told, by_chance = explained * (cells - 3), max(variance - explained, 0.0)
    if told <= by_chance:
        return True, column + mx, row + my, -sine, cosine
    # What chance alone would explain is taken off, so that a wall does not bend all at once as hits come in.
    bend *= 1.0 - by_chance / told
    along = cosine * (x - column - mx) + sine * (y - row - my)
    along = min(max(along, -reach - 1.0), reach + 1.0)
    across, slope = bend * (along * along - along_variance - skew * along), bend * (2.0 * along - skew)
    wall_x, wall_y = column + mx + cosine * along - sine * across, row + my + sine * along + cosine * across
    steep = np.sqrt(1.0 + slope * slope)
    return True, wall_x, wall_y, (-sine - slope * cosine) / steep, (cosine - slope * sine) / steep


@njit(cache=True, nogil=True)
def align_to_walls(hit_sums, points, delays, first, guess, prior, reach, scatter, most_iterations):  # type: ignore[no-untyped-def]
    """Gauss-Newton on the distances of oriented points (N, 4) to the walls near them.

    Sought are five numbers: the pose, and what is wrong with the speed and turn rate that the points, seen `delays`
    (N,) after the stamp, were straightened by. `first` (5,) is where to start, and the information `prior` (5, 5)
    pulls to `guess` (5,), as so many points would. A point `scatter` cells off its wall counts half (Cauchy
    weights). Returns the five numbers, how many points had a wall, the information of the points alone on the pose
    (3, 3), their weighted mean square distance, and each point's wall (N, 4): a point on it and its normal, 0, 0 if
    there is none.
    """
    solution = first.copy()
    matrix, step, row = np.empty((5, 5)), np.empty(5), np.empty(5)
    information = np.empty((3, 3))
    matched, squares, total = 0, 0.0, 0.0
    # The wall of each point, and where the point was when it was sought.
    walls, sought = np.empty((points.shape[0], 4)), np.full((points.shape[0], 2), np.inf)
    hits = np.empty(((2 * reach + 1) ** 2, 3))
    for _ in range(most_iterations):
        information[:] = 0.0
        squares, total = 0.0, 0.0
        for k in range(5):
            step[k] = 0.0
            for j in range(5):
                matrix[k, j] = prior[k, j]
                step[k] += prior[k, j] * (guess[j] - solution[j])
        cosine, sine = np.cos(solution[2]), np.sin(solution[2])
        matched = 0
        for i in range(points.shape[0]):
            turn, advance = solution[4] * delays[i], solution[3] * delays[i]
            px = points[i, 0] + advance - turn * points[i, 1]
            py = points[i, 1] + turn * points[i, 0]
            dx, dy = cosine * px - sine * py, sine * px + cosine * py
            x, y = solution[0] + dx, solution[1] + dy
            if abs(x - sought[i, 0]) + abs(y - sought[i, 1]) > 0.3:
                normal = cosine * points[i, 2] - sine * points[i, 3], sine * points[i, 2] + cosine * points[i, 3]
                _, walls[i, 0], walls[i, 1], walls[i, 2], walls[i, 3] = wall_near(hit_sums, x, y, normal, reach, hits)
                sought[i, 0], sought[i, 1] = x, y
            nx, ny = walls[i, 2], walls[i, 3]
            if nx == 0.0 and ny == 0.0:
                continue
            matched += 1
            distance = nx * (x - walls[i, 0]) + ny * (y - walls[i, 1])
            weight = 1.0 / (1.0 + (distance / scatter) ** 2)
            row[0], row[1], row[2] = nx, ny, ny * dx - nx * dy
            row[3] = delays[i] * (nx * cosine + ny * sine)
            row[4] = delays[i] * row[2]
            for j in range(5):
                step[j] -= weight * row[j] * distance
                for k in range(j + 1):
                    matrix[j, k] += weight * row[j] * row[k]
            for j in range(3):
                for k in range(3):
                    information[j, k] += weight * row[j] * row[k]
            squares += weight * distance * distance
            total += weight
        solve_in_place(matrix, step)
        solution += step
        if abs(step[0]) + abs(step[1]) < 0.004 and abs(step[2]) < 2e-5:
            break
    return solution, matched, information, squares / max(total, 1e-9), walls


@njit(cache=True, nogil=True)
def mean_agreement(field, points, pose):  # type: ignore[no-untyped-def]
    """Mean of the field in the cells that points (N, 2) fall in from a pose; 0 off the field."""
    rows, columns = field.shape
    total = 0.0
    cosine, sine = np.cos(pose[2]), np.sin(pose[2])
    for i in range(points.shape[0]):
        column = int(np.floor(pose[0] + cosine * points[i, 0] - sine * points[i, 1]))
        row = int(np.floor(pose[1] + sine * points[i, 0] + cosine * points[i, 1]))
        if 0 <= row < rows and 0 <= column < columns:
            total += field[row, column]
    return total / max(points.shape[0], 1)
