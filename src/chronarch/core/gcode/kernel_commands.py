"""What each word does: the part of the kernel that follows a file's effect on time, position, heat and material."""

from __future__ import annotations

import math

from chronarch.core.compiled import kernel
from chronarch.core.gcode import kernel_layout as s
from chronarch.core.gcode.motion import add_block, plan_mark, stand_still, wait_s

MOST_LAYERS = 20_000

FURTHEST_MM, SLOWEST_MM_S, LONGEST_DWELL_S = 1e7, 1e-4, 1e6
"""No machine has a position, speed or wait beyond these."""
LEAST_LIMIT = 1e-3
"""The least a file may set a speed, acceleration or jerk to."""


@kernel
def fault(i, t, rule, value):
    """Something a preflight must know: the first line it happens, how often, and the worst value."""
    if t.rule_counts[rule] == 0:
        t.rule_lines[rule] = i[s.LINE]
    t.rule_counts[rule] += 1
    t.rule_values[rule] = max(t.rule_values[rule], value)


@kernel
def add_mark(i, t, kind, offset, length):
    n = i[s.MARKS]
    t.marks[n, 0] = kind
    t.marks[n, 1] = offset
    t.marks[n, 2] = length
    t.marks[n, 3] = i[s.LINE]
    t.marks[n, 4] = i[s.COMMAND]
    t.marks[n, 5] = i[s.LAYERS]
    i[s.MARKS] = n + 1


@kernel
def object_mark(i, t, kind, offset, length):
    """An object begins or ends here: what is laid from now on is counted apart."""
    add_mark(i, t, kind, offset, length)
    n = i[s.SPANS]
    row = t.spans[n]
    row[s.S_FILAMENT] = row[s.S_SECONDS] = row[s.S_COUNT] = 0.0
    row[s.S_LOW_X] = row[s.S_LOW_Y] = math.inf
    row[s.S_HIGH_X] = row[s.S_HIGH_Y] = -math.inf
    row[s.S_MARK] = i[s.MARKS] - 1
    i[s.SPAN] = n
    i[s.SPANS] = n + 1


@kernel
def _reach(f, i, m, t, low, high, rule, x, y, z):
    """Widen extents by a point in machine coordinates, and note when it lies outside the build volume."""
    if (
        i[s.OUTSIDE] == 0
        and f[low] <= x <= f[high]
        and f[low + 1] <= y <= f[high + 1]
        and f[low + 2] <= z <= f[high + 2]
    ):
        return
    for k in range(3):
        v = x if k == 0 else y if k == 1 else z
        if v < f[low + k]:
            f[low + k] = v
        if v > f[high + k]:
            f[high + k] = v
        if v < -0.01:
            i[s.OUTSIDE] = 1
            fault(i, t, rule + k, -v)
        elif v > m[s.M_VOLUME + k] + 0.01:
            i[s.OUTSIDE] = 1
            fault(i, t, rule + 3 + k, v - m[s.M_VOLUME + k])


@kernel
def _new_layer(f, i, t, z):
    i[s.LAYERS] += 1
    n = i[s.LAYERS]
    if z > f[s.LAYER_Z] and z - f[s.LAYER_Z] < 2.0:
        f[s.LAYER_H] = z - f[s.LAYER_Z]
    elif n == 1 and 0.0 < z < 2.0:
        f[s.LAYER_H] = z
    f[s.LAYER_Z] = z
    for k in range(f.size):
        t.layer_floats[n, k] = f[k]
    t.layer_floats[n, s.E], t.layer_floats[n, s.FEED] = f[s.PRIOR_E], f[s.PRIOR_FEED]
    for k in range(i.size):
        t.layer_ints[n, k] = i[k]
    t.layer_seconds[n] = 0.0
    t.layer_filament[n] = 0.0


@kernel
def _lay(f, i, m, t, x0, y0, z0, x, y, z):
    """Material is laid between two points (machine coordinates): note its layer and its extents."""
    if i[s.EMIT] == 0 and i[s.LAYERS] < MOST_LAYERS:
        if abs(z - z0) > 1e-6:
            if i[s.LAYERS] == 0 or z - f[s.LAYER_Z] >= 0.999 * max(f[s.LAYER_H], 0.04):
                i[s.SPIRAL] += 1
                _new_layer(f, i, t, z)
        elif abs(z - f[s.LAYER_Z]) > 1e-3:
            _new_layer(f, i, t, z)
    i[s.EXTRUSIONS] += 1
    i[s.LAST_LAID] = i[s.OFFSET_AT]
    _reach(f, i, m, t, s.LAID_LOW, s.LAID_HIGH, s.R_LAID, x0, y0, z0)
    _reach(f, i, m, t, s.LAID_LOW, s.LAID_HIGH, s.R_LAID, x, y, z)
    if i[s.SPAN] >= 0:
        span = t.spans[i[s.SPAN]]
        span[s.S_LOW_X] = min(span[s.S_LOW_X], min(x0, x))
        span[s.S_LOW_Y] = min(span[s.S_LOW_Y], min(y0, y))
        span[s.S_HIGH_X] = max(span[s.S_HIGH_X], max(x0, x))
        span[s.S_HIGH_Y] = max(span[s.S_HIGH_Y], max(y0, y))
        span[s.S_COUNT] += 1.0


@kernel
def _feed_filament(f, i, m, t, fed):
    f[s.FILAMENT] += fed
    f[s.FILAMENT_OF + i[s.TOOL]] += fed
    t.layer_filament[i[s.LAYERS]] += fed
    f[s.RETRACTED] = max(0.0, f[s.RETRACTED] - fed)
    i[s.USED_TOOLS] |= 1 << i[s.TOOL]
    if i[s.SPAN] >= 0:
        t.spans[i[s.SPAN], s.S_FILAMENT] += fed
    if fed > 0.0 and f[s.NOZZLE + 3 * i[s.TOOL]] < m[s.M_COLD]:
        fault(i, t, s.R_COLD, m[s.M_COLD] - f[s.NOZZLE + 3 * i[s.TOOL]])


@kernel
def _emit(f, i, t, kind, fed, speed, x, y, z, cx, cy):
    """Write the next move's row; its number is taken once its block is in the window."""
    row = t.moves[i[s.MOVES]]
    row[s.V_X], row[s.V_Y], row[s.V_Z] = x, y, z
    row[s.V_SPEED], row[s.V_FILAMENT], row[s.V_SECONDS] = speed, fed, 0.0
    row[s.V_KIND], row[s.V_TOOL], row[s.V_LINE] = kind, i[s.TOOL], i[s.LINE]
    row[s.V_CX], row[s.V_CY], row[s.V_MARK] = cx, cy, i[s.MARKS] - 1
    row[s.V_COMMAND] = i[s.COMMAND] + 1


@kernel
def _arc(f, t, mask, plane, clockwise, x0, y0, z0, x, y, z):
    """Centre offset, radius and swept angle of an arc in its plane (a, b): (ca, cb, r, sweep). r = 0: no arc."""
    if plane == 17:
        a0, b0, a1, b1, la, lb = x0, y0, x, y, 8, 9
    elif plane == 18:
        a0, b0, a1, b1, la, lb = z0, x0, z, x, 10, 8
    else:
        a0, b0, a1, b1, la, lb = y0, z0, y, z, 9, 10
    da, db = a1 - a0, b1 - b0
    if mask & (1 << 17):
        r = t.vals[17] * f[s.UNIT]
        chord = math.hypot(da, db)
        if chord == 0.0 or r == 0.0:
            return 0.0, 0.0, 0.0, 0.0
        h2 = r * r - 0.25 * chord * chord
        h = math.sqrt(h2) if h2 > 0.0 else 0.0
        side = 1.0 if clockwise != (r < 0.0) else -1.0
        ca, cb = 0.5 * da + side * h * db / chord, 0.5 * db - side * h * da / chord
        r = math.hypot(ca, cb)
    else:
        ca = t.vals[la] * f[s.UNIT] if mask & (1 << la) else 0.0
        cb = t.vals[lb] * f[s.UNIT] if mask & (1 << lb) else 0.0
        r = math.hypot(ca, cb)
        if r == 0.0:
            return 0.0, 0.0, 0.0, 0.0
    begin = math.atan2(-cb, -ca)
    end = math.atan2(b1 - b0 - cb, a1 - a0 - ca)
    sweep = end - begin
    if abs(da) < 1e-9 and abs(db) < 1e-9:
        sweep = 2.0 * math.pi
        if clockwise:
            sweep = -sweep
    elif clockwise:
        while sweep >= 0.0:
            sweep -= 2.0 * math.pi
    else:
        while sweep <= 0.0:
            sweep += 2.0 * math.pi
    return ca, cb, r, sweep


@kernel
def _crosses(begin, sweep, angle):
    """Whether an arc from `begin` through `sweep` passes `angle` (rad)."""
    way = (angle - begin) % (2.0 * math.pi) if sweep > 0.0 else (begin - angle) % (2.0 * math.pi)
    return way <= abs(sweep)


@kernel
def _move(f, i, m, t, word, mask):
    """G0 to G3, and G5."""
    f[s.PRIOR_E], f[s.PRIOR_FEED] = f[s.E], f[s.FEED]
    x0, y0, z0 = f[s.X], f[s.Y], f[s.Z]
    x, y, z = x0, y0, z0
    unit = f[s.UNIT]
    if i[s.ABSOLUTE] != 0:
        if mask & (1 << 23):
            x = t.vals[23] * unit
        if mask & (1 << 24):
            y = t.vals[24] * unit
        if mask & (1 << 25):
            z = t.vals[25] * unit
    else:
        if mask & (1 << 23):
            x += t.vals[23] * unit
        if mask & (1 << 24):
            y += t.vals[24] * unit
        if mask & (1 << 25):
            z += t.vals[25] * unit
    fed = 0.0
    if mask & (1 << 4):
        e = t.vals[4] * unit
        if i[s.ABSOLUTE_E] != 0:
            fed = e - f[s.E]
            f[s.E] = e
        else:
            fed = e
            f[s.E] += e
        fed *= f[s.E_MM] * f[s.FLOW]
    if mask & (1 << 5) and t.vals[5] != 0.0:
        f[s.FEED] = abs(t.vals[5]) * unit / 60.0
        if f[s.FEED] < SLOWEST_MM_S:
            i[s.FAILED] = s.NO_SUCH_FIGURE
            return
        f[s.FEED_TOP] = max(f[s.FEED_TOP], f[s.FEED])
    if not (abs(x) < FURTHEST_MM and abs(y) < FURTHEST_MM and abs(z) < FURTHEST_MM and abs(fed) < FURTHEST_MM):
        i[s.FAILED] = s.NO_SUCH_FIGURE
        return
    i[s.MOTIONS] += 1
    speed = f[s.FEED] * f[s.SPEED]
    if word == 5:
        _go_spline(f, i, m, t, mask, fed, speed, x, y, z)
        return
    if word >= 2:
        ca, cb, r, sweep = _arc(f, t, mask, i[s.PLANE], word == 2, x0, y0, z0, x, y, z)
        if r > 0.0:
            _go_arc(f, i, m, t, word, fed, speed, x, y, z, ca, cb, r, sweep)
            return
    _straight(f, i, m, t, mask, fed, speed, x, y, z)


@kernel
def _straight(f, i, m, t, mask, fed, speed, x, y, z):
    """Go straight to a place, and feed so much filament on the way."""
    x0, y0, z0 = f[s.X], f[s.Y], f[s.Z]
    dx, dy, dz = x - x0, y - y0, z - z0
    ox, oy, oz = f[s.OFFSET], f[s.OFFSET + 1], f[s.OFFSET + 2]
    flat2 = dx * dx + dy * dy
    way = math.sqrt(flat2 + dz * dz)
    if way == 0.0:
        if fed != 0.0:
            if i[s.EMIT] != 0:
                _emit(f, i, t, s.PRIME if fed > 0.0 else s.RETRACT, fed, speed, x + ox, y + oy, z + oz, 0.0, 0.0)
            _feed_filament(f, i, m, t, fed)
            add_block(f, i, m, t, abs(fed), fed, speed, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0)
            if i[s.EMIT] != 0:
                i[s.MOVES] += 1
        return
    if fed > 0.0 and flat2 > 0.0:
        _lay(f, i, m, t, x0 + ox, y0 + oy, z0 + oz, x + ox, y + oy, z + oz)
    if (
        (mask & (1 << 23) and i[s.HOMED] & 1 == 0)
        or (mask & (1 << 24) and i[s.HOMED] & 2 == 0)
        or (mask & (1 << 25) and i[s.HOMED] & 4 == 0)
    ):
        fault(i, t, s.R_UNHOMED, 1.0)
    _reach(f, i, m, t, s.ALL_LOW, s.ALL_HIGH, s.R_WENT, x + ox, y + oy, z + oz)
    if fed != 0.0:
        _feed_filament(f, i, m, t, fed)
    if i[s.EMIT] != 0:
        _emit(
            f, i, t, s.EXTRUDE if fed > 0.0 and flat2 > 0.0 else s.TRAVEL, fed, speed, x + ox, y + oy, z + oz, 0.0, 0.0
        )
    share = 1.0 / way
    dx, dy, dz = dx * share, dy * share, dz * share
    cruise = add_block(f, i, m, t, way, fed, speed, dx, dy, dz, dx, dy, dz, 0.0)
    if i[s.EMIT] != 0:
        t.moves[i[s.MOVES], s.V_SPEED] = cruise
        i[s.MOVES] += 1
    f[s.X], f[s.Y], f[s.Z] = x, y, z


@kernel
def _go_arc(f, i, m, t, word, fed, speed, x, y, z, ca, cb, r, sweep):
    """An arc is one block as long as it is, with its own directions at both ends."""
    x0, y0, z0 = f[s.X], f[s.Y], f[s.Z]
    ox, oy, oz = f[s.OFFSET], f[s.OFFSET + 1], f[s.OFFSET + 2]
    plane = i[s.PLANE]
    turn = 1.0 if sweep > 0.0 else -1.0
    begin = math.atan2(-cb, -ca)
    end = begin + sweep
    rise = (z - z0) if plane == 17 else (y - y0) if plane == 18 else (x - x0)
    flat = r * abs(sweep)
    way = math.hypot(flat, rise)
    ta, tb = -math.sin(begin) * turn * flat / way, math.cos(begin) * turn * flat / way
    ea, eb = -math.sin(end) * turn * flat / way, math.cos(end) * turn * flat / way
    up = rise / way
    if plane == 17:
        ax, ay, az, bx, by, bz = ta, tb, up, ea, eb, up
    elif plane == 18:
        ax, ay, az, bx, by, bz = tb, up, ta, eb, up, ea
    else:
        ax, ay, az, bx, by, bz = up, ta, tb, up, ea, eb
    if fed > 0.0:
        _lay(f, i, m, t, x0 + ox, y0 + oy, z0 + oz, x + ox, y + oy, z + oz)
    if i[s.HOMED] != 7:
        fault(i, t, s.R_UNHOMED, 1.0)
    _reach(f, i, m, t, s.ALL_LOW, s.ALL_HIGH, s.R_WENT, x + ox, y + oy, z + oz)
    if plane == 17:
        for quarter in range(4):
            angle = 0.5 * math.pi * quarter
            if _crosses(begin, sweep, angle):
                px, py = x0 + ca + r * math.cos(angle) + ox, y0 + cb + r * math.sin(angle) + oy
                _reach(f, i, m, t, s.ALL_LOW, s.ALL_HIGH, s.R_WENT, px, py, z + oz)
                if fed > 0.0:
                    _reach(f, i, m, t, s.LAID_LOW, s.LAID_HIGH, s.R_LAID, px, py, z + oz)
                    if i[s.SPAN] >= 0:
                        span = t.spans[i[s.SPAN]]
                        span[s.S_LOW_X], span[s.S_HIGH_X] = min(span[s.S_LOW_X], px), max(span[s.S_HIGH_X], px)
                        span[s.S_LOW_Y], span[s.S_HIGH_Y] = min(span[s.S_LOW_Y], py), max(span[s.S_HIGH_Y], py)
    if fed != 0.0:
        _feed_filament(f, i, m, t, fed)
    if i[s.EMIT] != 0:
        kind = (s.EXTRUDE if fed > 0.0 else s.TRAVEL) + (
            (s.CLOCKWISE if sweep < 0.0 else s.COUNTER) if plane == 17 else 0
        )
        _emit(f, i, t, kind, fed, speed, x + ox, y + oy, z + oz, x0 + ca + ox, y0 + cb + oy)
    cruise = add_block(f, i, m, t, way, fed, speed, ax, ay, az, bx, by, bz, r)
    if i[s.EMIT] != 0:
        t.moves[i[s.MOVES], s.V_SPEED] = cruise
        i[s.MOVES] += 1
    f[s.X], f[s.Y], f[s.Z] = x, y, z


@kernel
def _heater_c(f, m, at, figures):
    """What a heater has now: it rises towards what it would reach in the end, and cools towards ambient, both as
    first-order lags (Newton's law of cooling)."""
    target, was, since = f[at], f[at + 1], f[s.SECONDS] - f[at + 2]
    rise, reach, cooling = m[figures], m[figures + 1], m[figures + 2]
    if target > was:
        lag = (reach - s.AMBIENT_C) / rise
        return min(target, reach - (reach - was) * math.exp(-since / lag))
    return max(
        max(target, s.AMBIENT_C) if target > 0.0 else s.AMBIENT_C,
        s.AMBIENT_C + (was - s.AMBIENT_C) * math.exp(-since / cooling),
    )


@kernel
def _ask_heat(f, m, at, figures, target):
    now = _heater_c(f, m, at, figures)
    f[at], f[at + 1], f[at + 2] = target, now, f[s.SECONDS]


@kernel
def _await_heat(f, i, m, t, at, figures, also_cooling):
    """Wait until a heater has what is asked."""
    now, target = _heater_c(f, m, at, figures), f[at]
    rise, reach, cooling = m[figures], m[figures + 1], m[figures + 2]
    seconds = 0.0
    if target > now + 0.5:
        lag = (reach - s.AMBIENT_C) / rise
        seconds = lag * math.log((reach - now) / (reach - target)) if target < reach else 10.0 * lag
    elif also_cooling and target < now - 0.5 and target > s.AMBIENT_C:
        seconds = cooling * math.log((now - s.AMBIENT_C) / (target - s.AMBIENT_C))
    wait_s(f, i, m, t, seconds)
    f[s.HEATING_S] += seconds
    if seconds > 0.0:
        f[at + 1], f[at + 2] = target, f[s.SECONDS]


@kernel
def _heat(f, i, m, t, at, figures, ceiling, rule, top, mask, waits):
    """One of M104, M109, M140, M190, M141, M191."""
    cooling = mask & (1 << 18) == 0 and mask & (1 << 17) != 0
    if waits:
        stand_still(f, i, m, t)
    if mask & ((1 << 18) | (1 << 17)):
        target = t.vals[17] if cooling else t.vals[18]
        _ask_heat(f, m, at, figures, target)
        f[top] = max(f[top], target)
        if target > m[ceiling]:
            fault(i, t, rule, target)
    if waits:
        _await_heat(f, i, m, t, at, figures, cooling)


@kernel
def _spline_at(a, b, c, d, u):
    """A cubic Bezier curve's place at u, 0 to 1, in Bernstein's form."""
    v = 1.0 - u
    return v * v * v * a + 3.0 * v * v * u * b + 3.0 * v * u * u * c + u * u * u * d


@kernel
def _go_spline(f, i, m, t, mask, fed, speed, x, y, z):
    """G5: a cubic Bezier curve. I and J lead from its start to the first control point, P and Q from its end to the
    second. It is gone in straight pieces, with the filament shared out by their lengths."""
    unit = f[s.UNIT]
    x0, y0, z0 = f[s.X], f[s.Y], f[s.Z]
    bx = x0 + (t.vals[8] * unit if mask & (1 << 8) else 0.0)
    by = y0 + (t.vals[9] * unit if mask & (1 << 9) else 0.0)
    cx = x + (t.vals[15] * unit if mask & (1 << 15) else 0.0)
    cy = y + (t.vals[16] * unit if mask & (1 << 16) else 0.0)
    if not (abs(bx) < FURTHEST_MM and abs(by) < FURTHEST_MM and abs(cx) < FURTHEST_MM and abs(cy) < FURTHEST_MM):
        i[s.FAILED] = s.NO_SUCH_FIGURE
        return
    whole, px, py = 0.0, x0, y0
    for n in range(1, s.SPLINE_PIECES + 1):
        u = n / s.SPLINE_PIECES
        qx, qy = _spline_at(x0, bx, cx, x, u), _spline_at(y0, by, cy, y, u)
        whole += math.hypot(qx - px, qy - py)
        px, py = qx, qy
    if whole == 0.0:
        _straight(f, i, m, t, mask, fed, speed, x, y, z)
        return
    done, px, py = 0.0, x0, y0
    for n in range(1, s.SPLINE_PIECES + 1):
        u = n / s.SPLINE_PIECES
        qx, qy = _spline_at(x0, bx, cx, x, u), _spline_at(y0, by, cy, y, u)
        share = math.hypot(qx - px, qy - py) / whole
        done += share
        _straight(f, i, m, t, mask, fed * share, speed, qx, qy, z0 + (z - z0) * done)
        px, py = qx, qy
    f[s.X], f[s.Y], f[s.Z] = x, y, z


@kernel
def do_g(f, i, m, t, word, mask):
    """G words by number x 10 + first decimal."""
    if word <= 30 or word == 50:
        if word % 10 == 0:
            _move(f, i, m, t, word // 10, mask)
    elif word == 920:
        for k in range(3):
            if mask & (1 << (23 + k)):
                v = t.vals[23 + k] * f[s.UNIT]
                if not abs(v) < FURTHEST_MM:
                    i[s.FAILED] = s.NO_SUCH_FIGURE
                    return
                f[s.OFFSET + k] += f[s.X + k] - v
                f[s.X + k] = v
                i[s.HOMED] |= 1 << k
        if mask & (1 << 4):
            f[s.E] = t.vals[4] * f[s.UNIT]
    elif word == 40:
        stand_still(f, i, m, t)
        seconds = 0.0
        if mask & (1 << 18):
            seconds = max(0.0, t.vals[18])
        elif mask & (1 << 15):
            seconds = max(0.0, t.vals[15] / 1000.0)
        if not seconds < LONGEST_DWELL_S:
            i[s.FAILED] = s.NO_SUCH_FIGURE
            return
        wait_s(f, i, m, t, seconds)
        f[s.DWELL_S] += seconds
    elif word == 100 or word == 110:
        if mask & ((1 << 11) | (1 << 15)) == 0 and (word == 100) != (i[s.G10_DONE] != 0):
            i[s.G10_DONE] = 1 - i[s.G10_DONE]
            fed = -f[s.G10_MM] if word == 100 else f[s.G10_MM]
            if i[s.EMIT] != 0:
                _emit(
                    f,
                    i,
                    t,
                    s.RETRACT if fed < 0.0 else s.PRIME,
                    fed,
                    f[s.G10_MM_S],
                    f[s.X] + f[s.OFFSET],
                    f[s.Y] + f[s.OFFSET + 1],
                    f[s.Z] + f[s.OFFSET + 2],
                    0.0,
                    0.0,
                )
            _feed_filament(f, i, m, t, fed)
            add_block(f, i, m, t, abs(fed), fed, f[s.G10_MM_S], 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0)
            if i[s.EMIT] != 0:
                i[s.MOVES] += 1
    elif word == 280:
        stand_still(f, i, m, t)
        named = mask & ((1 << 23) | (1 << 24) | (1 << 25))
        share = 0.0
        for k in range(3):
            if named == 0 or named & (1 << (23 + k)):
                f[s.X + k] = f[s.OFFSET + k] = 0.0
                i[s.HOMED] |= 1 << k
                share += 1.0 / 3.0
        wait_s(f, i, m, t, m[s.M_HOMING] * share)
        f[s.OTHER_S] += m[s.M_HOMING] * share
    elif word == 290:
        stand_still(f, i, m, t)
        wait_s(f, i, m, t, m[s.M_LEVELLING])
        f[s.OTHER_S] += m[s.M_LEVELLING]
    elif word == 200:
        f[s.UNIT] = 25.4
        fault(i, t, s.R_INCHES, 1.0)
    elif word == 210:
        f[s.UNIT] = 1.0
    elif word == 900 or word == 910:
        i[s.ABSOLUTE] = i[s.ABSOLUTE_E] = 1 if word == 900 else 0
    elif word == 170 or word == 180 or word == 190:
        i[s.PLANE] = word // 10


@kernel
def _four(f, t, mask, at):
    """X, Y, Z and E of M201, M203 and M205, for the axes named."""
    for k in range(4):
        letter = 4 if k == 3 else 23 + k
        if mask & (1 << letter) and t.vals[letter] > 0.0:
            f[at + k] = max(t.vals[letter], LEAST_LIMIT)


@kernel
def do_m(f, i, m, t, word, mask, at, length):
    tool = i[s.TOOL]
    if mask & (1 << 19) and 0.0 <= t.vals[19] < s.TOOLS:
        tool = int(t.vals[19])
    if word == 104 or word == 109:
        _heat(f, i, m, t, s.NOZZLE + 3 * tool, s.M_NOZZLE, s.M_NOZZLE_MAX, s.R_NOZZLE, s.NOZZLE_TOP, mask, word == 109)
    elif word == 140 or word == 190:
        _heat(f, i, m, t, s.BED, s.M_BED, s.M_BED_MAX, s.R_BED, s.BED_TOP, mask, word == 190)
    elif word == 141 or word == 191:
        _heat(f, i, m, t, s.CHAMBER, s.M_CHAMBER, s.M_CHAMBER_MAX, s.R_CHAMBER, s.CHAMBER_TOP, mask, word == 191)
    elif word == 106:
        f[s.FAN] = min(255.0, max(0.0, t.vals[18])) if mask & (1 << 18) else 255.0
    elif word == 107:
        f[s.FAN] = 0.0
    elif word == 82 or word == 83:
        i[s.ABSOLUTE_E] = 1 if word == 82 else 0
    elif word == 204:
        if mask & (1 << 18) and t.vals[18] > 0.0:
            f[s.ACC_PRINT] = f[s.ACC_TRAVEL] = t.vals[18]
        if mask & (1 << 15) and t.vals[15] > 0.0:
            f[s.ACC_PRINT] = t.vals[15]
        if mask & (1 << 17) and t.vals[17] > 0.0:
            f[s.ACC_RETRACT] = t.vals[17]
        if mask & (1 << 19) and t.vals[19] > 0.0:
            f[s.ACC_TRAVEL] = t.vals[19]
    elif word == 205:
        _four(f, t, mask, s.JERK)
        if mask & (1 << 9) and t.vals[9] > 0.0:
            f[s.DEVIATION] = t.vals[9]
    elif word == 201:
        _four(f, t, mask, s.ACC_AXIS)
    elif word == 203:
        _four(f, t, mask, s.MAX_AXIS)
    elif word == 200:
        if mask & (1 << 3):
            d = t.vals[3]
            f[s.E_MM] = 1.0 / (0.25 * math.pi * d * d) if d > 0.0 else 1.0
    elif word == 207:
        if mask & (1 << 18):
            f[s.G10_MM] = abs(t.vals[18])
        if mask & (1 << 5) and t.vals[5] > 0.0:
            f[s.G10_MM_S] = t.vals[5] / 60.0
    elif word == 220 or word == 221:
        if mask & (1 << 18) and t.vals[18] > 0.0:
            f[s.SPEED if word == 220 else s.FLOW] = t.vals[18] / 100.0
    elif word == 400 or word == 116:
        stand_still(f, i, m, t)
        if word == 116:
            _await_heat(f, i, m, t, s.BED, s.M_BED, True)
            _await_heat(f, i, m, t, s.NOZZLE + 3 * i[s.TOOL], s.M_NOZZLE, True)
    elif word == 0 or word == 1 or word == 25 or word == 226 or word == 600 or word == 601:
        stand_still(f, i, m, t)
        plan_mark(f, i, t, i[s.COMMAND], f[s.FILAMENT])
        add_mark(i, t, s.K_PAUSE, at, length)
    elif word == 486:
        object_mark(i, t, s.K_M486, at, length)


@kernel
def choose_tool(f, i, m, t, tool):
    if 0 <= tool < s.TOOLS and tool != i[s.TOOL]:
        if i[s.USED_TOOLS] != 0:
            stand_still(f, i, m, t)
            wait_s(f, i, m, t, m[s.M_TOOL_CHANGE])
            f[s.OTHER_S] += m[s.M_TOOL_CHANGE]
        i[s.TOOL] = tool
