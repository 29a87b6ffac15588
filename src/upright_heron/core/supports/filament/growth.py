"""Kernels of tree supports: growing branches down through free room."""

from __future__ import annotations

import numpy as np
from numba import njit

# A tip is this wide at the part, as a share of the branch.
TIP_SHARE = 0.6
# Beside a slope the first step may be as near to the part as this share of the branch.
NEAR_SHARE = 0.7
# Over so many steps from its tip it may come off a wall that it touches.
FRESH_STEPS = 4.0
# A branch thickens with this power of the number of tips it carries.
LOAD = 0.45
# No distance on the raster is so far below zero.
OUTSIDE = -1e3
# Branches further apart than this run down by themselves.
COME_TOGETHER_MM = 25.0


@njit(cache=True)
def free_at(away, k, x, y, low, px):  # type: ignore[no-untyped-def]
    """Free distance of any place of step k, between the pixels round it; ``OUTSIDE`` beyond the raster."""
    rows, columns = away.shape[1], away.shape[2]
    u, v = (x - low[0]) / px - 0.5, (y - low[1]) / px - 0.5
    c, r = int(np.floor(u)), int(np.floor(v))
    if c < 0 or r < 0 or c + 1 >= columns or r + 1 >= rows:
        return OUTSIDE
    fu, fv = u - c, v - r
    lower = away[k, r, c] * (1.0 - fu) + away[k, r, c + 1] * fu
    upper = away[k, r + 1, c] * (1.0 - fu) + away[k, r + 1, c + 1] * fu
    return lower * (1.0 - fv) + upper * fv


@njit(cache=True)
def _best(away, opened, k, x, y, wx, wy, need, within, low, px, least):  # type: ignore[no-untyped-def]
    """Free place of step k nearest to the wished one, within reach: x, y and whether there is one.

    It has to be open at least so far: 1, the plate is reached from it; 2, by a stout trunk; 3, by a wide one.
    """
    rows, columns = away.shape[1], away.shape[2]
    # The wish itself, where it is free.
    gx, gy = wx - x, wy - y
    if gx * gx + gy * gy <= within * within:
        c, r = int((wx - low[0]) / px), int((wy - low[1]) / px)
        if (
            0 <= r < rows
            and 0 <= c < columns
            and free_at(away, k, wx, wy, low, px) >= need
            and opened[k, r, c] >= least
        ):
            return wx, wy, True
    best, bx, by = np.inf, x, y
    span = int(np.ceil(within / px)) + 1
    c0, r0 = int((x - low[0]) / px), int((y - low[1]) / px)
    for r in range(max(0, r0 - span), min(rows, r0 + span + 1)):
        for c in range(max(0, c0 - span), min(columns, c0 + span + 1)):
            if away[k, r, c] < need or opened[k, r, c] < least:
                continue
            px_x, px_y = low[0] + (c + 0.5) * px, low[1] + (r + 0.5) * px
            if (px_x - x) ** 2 + (px_y - y) ** 2 > within * within:
                continue
            d = (px_x - wx) ** 2 + (px_y - wy) ** 2
            if d < best:
                best, bx, by = d, px_x, px_y
    return bx, by, best < np.inf


@njit(cache=True)
def _grade(opened, k, x, y, low, px):  # type: ignore[no-untyped-def]
    """How far a place of step k is open."""
    c, r = int((x - low[0]) / px), int((y - low[1]) / px)
    inside = 0 <= r < opened.shape[1] and 0 <= c < opened.shape[2]
    return opened[k, r, c] if inside else 0


@njit(cache=True)
def narrow_steps(below, reach, px, away, need, wide):  # type: ignore[no-untyped-def]
    """For how many steps a trunk is narrow on its best way to the plate, from each place of a step.

    255 without a way, 254 for that many and more. ``below`` has those of the step below, and 0 at the plate;
    a place needs so much free room, and is narrow with less than the wider one.
    """
    rows, columns = away.shape
    found = np.empty((rows, columns), np.uint8)
    span = int(reach / px)
    for r in range(rows):
        for c in range(columns):
            if away[r, c] < need:
                found[r, c] = 255
                continue
            least = below[r, c]
            for dr in range(-span, span + 1):
                if least == 0:
                    break
                for dc in range(-span, span + 1):
                    a, b = r + dr, c + dc
                    if 0 <= a < rows and 0 <= b < columns and (dr * dr + dc * dc) * px * px <= reach * reach:
                        least = min(least, below[a, b])
            found[r, c] = least if least >= 254 or away[r, c] >= wide else least + 1
    return found


@njit(cache=True)
def _roomiest(narrow, k, x, y, wx, wy, within, low, px):  # type: ignore[no-untyped-def]
    """Place of step k within reach whose way down is narrow for the fewest steps, nearest to the wish."""
    rows, columns = narrow.shape[1], narrow.shape[2]
    least, best, bx, by = 255, np.inf, x, y
    span = int(np.ceil(within / px)) + 1
    c0, r0 = int((x - low[0]) / px), int((y - low[1]) / px)
    for r in range(max(0, r0 - span), min(rows, r0 + span + 1)):
        for c in range(max(0, c0 - span), min(columns, c0 + span + 1)):
            if narrow[k, r, c] > least or narrow[k, r, c] == 255:
                continue
            px_x, px_y = low[0] + (c + 0.5) * px, low[1] + (r + 0.5) * px
            if (px_x - x) ** 2 + (px_y - y) ** 2 > within * within:
                continue
            d = (px_x - wx) ** 2 + (px_y - wy) ** 2
            if narrow[k, r, c] < least or d < best:
                least, best, bx, by = narrow[k, r, c], d, px_x, px_y
    return bx, by, least < 255


@njit(cache=True)
def _way(  # type: ignore[no-untyped-def]
    away, opened, narrow, k, x, y, wx, wy, wish, least, clearance, within, low, px, wide
):
    """Next place of a branch that wants to be so thick; where a stout trunk reaches the plate, if any is.

    One that wants to be wide takes the way on which it has to be narrow for the shortest stretch.
    """
    if wish >= wide:
        for share in (1.0, wide / wish):
            bx, by, ok = _best(away, opened, k, x, y, wx, wy, share * wish + clearance, within, low, px, 3)
            if ok:
                return bx, by, True
        bx, by, ok = _roomiest(narrow, k, x, y, wx, wy, within, low, px)
        if ok:
            return bx, by, True
    for grade in (2, 1):
        for share in (1.0, 0.6, 0.0):
            need = max(least, share * wish) + clearance
            bx, by, ok = _best(away, opened, k, x, y, wx, wy, need, within, low, px, grade)
            if ok:
                return bx, by, True
    return x, y, False


@njit(cache=True)
def _freest(away, k, x, y, within, low, px):  # type: ignore[no-untyped-def]
    """Place of step k within reach that is furthest from the part: x, y and how far that is."""
    rows, columns = away.shape[1], away.shape[2]
    best, bx, by = -1.0, x, y
    span = int(np.ceil(within / px)) + 1
    c0, r0 = int((x - low[0]) / px), int((y - low[1]) / px)
    for r in range(max(0, r0 - span), min(rows, r0 + span + 1)):
        for c in range(max(0, c0 - span), min(columns, c0 + span + 1)):
            px_x, px_y = low[0] + (c + 0.5) * px, low[1] + (r + 0.5) * px
            if (px_x - x) ** 2 + (px_y - y) ** 2 <= within * within and away[k, r, c] > best:
                best, bx, by = away[k, r, c], px_x, px_y
    return bx, by, best


@njit(cache=True)
def grow_down(  # type: ignore[no-untyped-def]
    tips,
    alone,
    away,
    opened,
    narrow,
    low,
    px,
    step,
    reach,
    slope,
    radius,
    most,
    wide,
    clearance,
    taper,
    plate,
):
    """Grow branches down from tips, step by step.

    Places are open to the plate in grades, see ``_best``; ``narrow`` is from ``narrow_steps``. Tips alone
    stay apart from others; those marked plate end there or nowhere, and so does what they join.
    A branch thickens by the taper for each millimetre that it runs, to each side.

    Nodes (k, 4), the node each leads down to, the tip each begins at (or -1), and how each foot ends: 0 on
    the plate, 1 on the part, 2 nowhere. Lower nodes come after higher ones.
    """
    n = tips.shape[0]
    steps = away.shape[0]
    nodes = np.empty((n * (steps + 3) + 1, 4))
    down = np.full(nodes.shape[0], -1, np.int64)
    tip_of = np.full(nodes.shape[0], -1, np.int64)
    ends = np.zeros(nodes.shape[0], np.int64)
    count = 0
    # Branches under way: place, length so far, tips they carry, last node, whether they go to the part.
    ax, ay, length = np.empty(n), np.empty(n), np.empty(n)
    carry, last = np.empty(n, np.int64), np.empty(n, np.int64)
    lone, doomed, alive = np.empty(n, np.bool_), np.zeros(n, np.bool_), np.zeros(n, np.bool_)
    bound = np.zeros(n, np.bool_)
    active = 0
    nxt = 0
    for k in range(steps - 1, -1, -1):
        z = k * step
        # Tips whose first step down ends here.
        while nxt < n and max(0, int(np.floor(tips[nxt, 2] / step + 1e-9)) - 1) >= k:
            x, y, top = tips[nxt, 0], tips[nxt, 1], tips[nxt, 2]
            nodes[count, 0], nodes[count, 1], nodes[count, 2] = x, y, top
            nodes[count, 3] = TIP_SHARE * radius
            tip_of[count] = nxt
            head = count
            count += 1
            height = top - z
            if height < 1e-9:
                nxt += 1
                continue
            # First steeply down to where the plate can be reached, then anywhere right below: beside a slope
            # there is no room for the clearance yet, a step further down there is. A long way aside comes
            # last, for it leads past the slope.
            full, near, far = radius + clearance, 0.4 * slope * height, slope * height
            bx, by, ok = _best(away, opened, k, x, y, x, y, full, near, low, px, 1)
            if not ok and plate[nxt]:
                # What may end on the plate only is lost anywhere else.
                bx, by, ok = _best(away, opened, k, x, y, x, y, full, far, low, px, 1)
            if not ok:
                bx, by, ok = _best(away, opened, k, x, y, x, y, NEAR_SHARE * radius, near, low, px, 0)
            if not ok:
                bx, by, ok = _best(away, opened, k, x, y, x, y, full, far, low, px, 1)
            if not ok:
                bx, by, ok = _best(away, opened, k, x, y, x, y, NEAR_SHARE * radius, far, low, px, 0)
            if not ok:
                # No room: it may still stand straight on what is below.
                if k > 0:
                    ends[head] = 2 if plate[nxt] else 1
                else:
                    ends[head] = 2 if plate[nxt] else 0
                nxt += 1
                continue
            nodes[count, 0], nodes[count, 1], nodes[count, 2] = bx, by, z
            nodes[count, 3] = radius
            down[head] = count
            ax[active], ay[active], length[active] = bx, by, height
            carry[active], last[active] = 1, count
            lone[active], doomed[active], alive[active] = alone[nxt], False, True
            bound[active] = plate[nxt]
            active += 1
            count += 1
            nxt += 1
        if k == 0:
            break
        # Where each wants to go: towards the nearest other one, if they can meet before the plate.
        target_x, target_y = ax[:active].copy(), ay[:active].copy()
        for i in range(active):
            if not alive[i] or lone[i]:
                continue
            best, at = 1e18, -1
            for j in range(active):
                if j == i or not alive[j] or lone[j] or doomed[j] != doomed[i]:
                    continue
                d = (ax[i] - ax[j]) ** 2 + (ay[i] - ay[j]) ** 2
                if d < best:
                    best, at = d, j
            d = np.sqrt(best) if at >= 0 else 1e9
            if at >= 0 and d <= min(COME_TOGETHER_MM, 1.6 * reach * k):
                pull = min(0.9 * reach, d / 2)
                target_x[i] = ax[i] + (ax[at] - ax[i]) / max(d, 1e-9) * pull
                target_y[i] = ay[i] + (ay[at] - ay[i]) / max(d, 1e-9) * pull
        new_x, new_y = ax[:active].copy(), ay[:active].copy()
        moved = np.zeros(active, np.bool_)
        for i in range(active):
            if not alive[i]:
                continue
            wish = min(most, max(radius + taper * (length[i] + step), radius * carry[i] ** LOAD))
            if doomed[i]:
                bx, by, ok = _best(
                    away, opened, k - 1, ax[i], ay[i], target_x[i], target_y[i], radius + clearance, reach,
                    low, px, 0,
                )  # fmt: skip
            else:
                bx, by, ok = _way(
                    away, opened, narrow, k - 1, ax[i], ay[i], target_x[i], target_y[i], wish, radius,
                    clearance, reach, low, px, wide,
                )  # fmt: skip
            if not ok and length[i] <= FRESH_STEPS * step:
                # Just off a wall there is no room for the clearance yet: away from it as far as it leans.
                bx, by, most_free = _freest(away, k - 1, ax[i], ay[i], reach, low, px)
                ok = most_free >= NEAR_SHARE * radius
            if not ok and not doomed[i] and not bound[i]:
                doomed[i] = True
                bx, by, ok = _best(
                    away, opened, k - 1, ax[i], ay[i], ax[i], ay[i], radius + clearance, reach, low, px, 0
                )
            if not ok:
                alive[i] = False
                ends[last[i]] = 2 if bound[i] else 1
                continue
            new_x[i], new_y[i] = bx, by
            moved[i] = True
        # Come together where both reach the same place within their lean.
        into = np.full(active, -1, np.int64)
        for i in range(active):
            if not moved[i] or into[i] >= 0 or lone[i]:
                continue
            joined = False
            for j in range(i + 1, active):
                if not moved[j] or into[j] >= 0 or lone[j] or doomed[i] != doomed[j]:
                    continue
                if (new_x[i] - new_x[j]) ** 2 + (new_y[i] - new_y[j]) ** 2 > (1.2 * px) ** 2 + 0.25:
                    continue
                mx, my = 0.5 * (new_x[i] + new_x[j]), 0.5 * (new_y[i] + new_y[j])
                least = min(
                    _grade(opened, k - 1, new_x[i], new_y[i], low, px),
                    _grade(opened, k - 1, new_x[j], new_y[j], low, px),
                )
                for attempt in range(3):
                    if joined and attempt != 1:
                        continue  # what came to it before may not reach another place
                    if attempt == 1:
                        mx, my = new_x[i], new_y[i]
                    elif attempt == 2:
                        mx, my = new_x[j], new_y[j]
                    di = np.sqrt((mx - ax[i]) ** 2 + (my - ay[i]) ** 2)
                    dj = np.sqrt((mx - ax[j]) ** 2 + (my - ay[j]) ** 2)
                    if di > reach or dj > reach:
                        continue
                    bx, by, ok = _best(
                        away, opened, k - 1, mx, my, mx, my, radius + clearance, 1e-9, low, px, least
                    )
                    if ok:
                        new_x[i], new_y[i] = mx, my
                        into[j] = i
                        joined = True
                        break
        for i in range(active):
            if not moved[i] or into[i] >= 0:
                continue
            total, longest = carry[i], length[i]
            for j in range(active):
                if into[j] == i:
                    total += carry[j]
                    longest = max(longest, length[j])
                    bound[i] = bound[i] or bound[j]
            wish = min(most, max(radius + taper * (longest + step), radius * total**LOAD))
            free = free_at(away, k - 1, new_x[i], new_y[i], low, px)
            thick = max(radius, min(wish, free - clearance))
            nodes[count, 0], nodes[count, 1], nodes[count, 2] = new_x[i], new_y[i], (k - 1) * step
            nodes[count, 3] = thick
            down[last[i]] = count
            for j in range(active):
                if into[j] == i:
                    down[last[j]] = count
                    alive[j] = False
            last[i] = count
            carry[i], length[i] = total, longest + step
            ax[i], ay[i] = new_x[i], new_y[i]
            count += 1
    # Tips so low that no step lies below them stand on the plate by themselves.
    while nxt < n:
        nodes[count, 0], nodes[count, 1], nodes[count, 2] = tips[nxt, 0], tips[nxt, 1], tips[nxt, 2]
        nodes[count, 3] = TIP_SHARE * radius
        tip_of[count] = nxt
        count += 1
        nxt += 1
    return nodes[:count].copy(), down[:count].copy(), tip_of[:count].copy(), ends[:count].copy()
