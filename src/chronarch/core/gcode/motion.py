"""How long a machine takes for its moves: a window of moves planned together, both ways.

Each move is a block of uniformly accelerated motion. With v the speed, a the acceleration and s the way,
v² = u² + 2as (any mechanics text), so a block of length d, entered at u, left at w, that may cruise at c, takes

    (c-u)/a + (c-w)/a + (d - (c²-u²)/2a - (c²-w²)/2a)/c        where it reaches c, and
    (p-u)/a + (p-w)/a  with  p² = ad + (u²+w²)/2               where it does not.

Between blocks the speed is bounded by the model's cornering rule:

*   `deviation`: the path may be cut so that it passes the corner at distance δ. On the circle that touches both moves
    and does so, v² = aδ sin(θ/2) / (1 - sin(θ/2)) keeps the centripetal acceleration v²/r at a; θ is the angle
    between the moves, 180° when they go straight on.
*   `jerk`: no axis may change its speed by more than its jerk in one step, v = min over axes of jerk / |Δdirection|.

The window is then gone through backwards (a block must be slow enough to reach what comes after it, standing still at
the window's end) and forwards (and can only be as quick as what came before lets it).
"""

from __future__ import annotations

import math

from chronarch.core.compiled import kernel
from chronarch.core.gcode import kernel_layout as s


@kernel
def block_s(length, entry, cruise, leave, acc):
    """Seconds for `length` mm from entry through cruise to leaving speed (mm/s) at `acc` mm/s²."""
    entry2, leave2 = entry * entry, leave * leave
    ramps = 0.5 * (2.0 * cruise * cruise - entry2 - leave2)
    if ramps <= length * acc:
        return (2.0 * cruise - entry - leave) / acc + (length - ramps / acc) / cruise
    peak = math.sqrt(max(acc * length + 0.5 * (entry2 + leave2), max(entry2, leave2)))
    return (2.0 * peak - entry - leave) / acc


@kernel
def plan_mark(f, i, t, command, filament):
    """Note in the plan that `command` commands are done now."""
    if filament > f[s.FILAMENT_TOP]:
        f[s.FILAMENT_TOP] = filament
    n = i[s.PLAN_MARKS]
    if n > 0 and t.plan[n - 1, s.P_COMMAND] >= command:
        t.plan[n - 1, s.P_SECONDS] = f[s.SECONDS]
        t.plan[n - 1, s.P_FILAMENT] = f[s.FILAMENT_TOP]
        return
    t.plan[n, s.P_COMMAND] = command
    t.plan[n, s.P_SECONDS] = f[s.SECONDS]
    t.plan[n, s.P_FILAMENT] = f[s.FILAMENT_TOP]
    i[s.PLAN_MARKS] = n + 1
    f[s.MARKED_S] = f[s.SECONDS]


@kernel
def settle(f, i, m, t, keep):
    """Plan the window and let all but its last `keep` blocks pass."""
    n = i[s.BLOCKS]
    if n == 0:
        return
    b = t.blocks
    leave2 = 0.0
    for k in range(n - 1, 0, -1):
        reach2 = leave2 + 2.0 * b[k, s.B_ACC] * b[k, s.B_LENGTH]
        leave2 = b[k, s.B_ENTRY2] if b[k, s.B_ENTRY2] < reach2 else reach2
        b[k, s.B_PLAN2] = leave2
    entry2 = f[s.ENTRY2]
    entry = math.sqrt(entry2)
    done = n - keep
    for k in range(done):
        acc, length = b[k, s.B_ACC], b[k, s.B_LENGTH]
        leave2 = 0.0
        if k + 1 < n:
            leave2 = min(b[k + 1, s.B_PLAN2], entry2 + 2.0 * acc * length)
        leave = math.sqrt(leave2)
        seconds = block_s(length, entry, max(b[k, s.B_CRUISE], max(entry, leave)), leave, acc)
        f[s.SECONDS] += seconds
        t.layer_seconds[int(b[k, s.B_LAYER])] += seconds
        if b[k, s.B_SPAN] >= 0:
            t.spans[int(b[k, s.B_SPAN]), s.S_SECONDS] += seconds
        if b[k, s.B_MOVE] >= 0:
            t.moves[int(b[k, s.B_MOVE]), s.V_SECONDS] += seconds
        if f[s.SECONDS] - f[s.MARKED_S] >= f[s.MARK_EVERY]:
            plan_mark(f, i, t, b[k, s.B_COMMAND], b[k, s.B_FILAMENT])
        entry2, entry = leave2, leave
    for k in range(keep):
        for c in range(s.BLOCK_COLUMNS):
            b[k, c] = b[done + k, c]
    i[s.BLOCKS] = keep
    f[s.ENTRY2] = entry2


@kernel
def stand_still(f, i, m, t):
    """The machine comes to a stop: the whole window passes."""
    settle(f, i, m, t, 0)
    f[s.ENTRY2] = f[s.CRUISE2] = 0.0
    for k in range(4):
        f[s.DIRECTION + k] = 0.0


@kernel
def wait_s(f, i, m, t, seconds):
    """The machine stands for `seconds`; the window must be empty."""
    if seconds > 0.0:
        plan_mark(f, i, t, i[s.COMMAND], f[s.FILAMENT])
        f[s.SECONDS] += seconds
        t.layer_seconds[i[s.LAYERS]] += seconds
        plan_mark(f, i, t, i[s.COMMAND] + 1, f[s.FILAMENT])


@kernel
def _within(f, axis, share, speed, acc):
    """Speed and acceleration, brought down to what an axis bears that has so much of the way."""
    if speed * share > f[s.MAX_AXIS + axis]:
        speed = f[s.MAX_AXIS + axis] / share
    if acc * share > f[s.ACC_AXIS + axis]:
        acc = f[s.ACC_AXIS + axis] / share
    return speed, acc


@kernel
def add_block(f, i, m, t, length, fed, speed, ax, ay, az, bx, by, bz, radius):
    """Put a move into the window: its length (mm, of the filament where the head stands), the filament fed, the speed
    asked (mm/s), its direction at the start (a) and the end (b), and the radius of an arc (0: straight). Returns the
    speed it may cruise at (mm/s)."""
    moves = ax != 0.0 or ay != 0.0 or az != 0.0
    de = fed / length
    acc = f[s.ACC_RETRACT]
    if moves:
        acc = f[s.ACC_PRINT] if fed != 0.0 else f[s.ACC_TRAVEL]
    if radius > 0.0:
        # on an arc the direction turns through both of its axes; each must bear the whole speed
        speed = min(speed, min(f[s.MAX_AXIS], f[s.MAX_AXIS + 1]))
        acc = min(acc, min(f[s.ACC_AXIS], f[s.ACC_AXIS + 1]))
        speed = min(speed, math.sqrt(acc * radius))
        az = bz
    else:
        speed, acc = _within(f, 0, abs(ax), speed, acc)
        speed, acc = _within(f, 1, abs(ay), speed, acc)
    speed, acc = _within(f, 2, abs(az), speed, acc)
    speed, acc = _within(f, 3, abs(de), speed, acc)
    cruise2 = speed * speed
    entry2 = 0.0
    most2 = min(cruise2, f[s.CRUISE2])
    if most2 > 0.0:
        if m[s.M_BY_JERK] != 0.0:
            v = math.sqrt(most2)
            for k in range(4):
                now = ax if k == 0 else ay if k == 1 else az if k == 2 else de
                step = abs(now - f[s.DIRECTION + k])
                if step * v > f[s.JERK + k]:
                    v = f[s.JERK + k] / step
            entry2 = v * v
        elif moves:
            straight = ax * f[s.DIRECTION] + ay * f[s.DIRECTION + 1] + az * f[s.DIRECTION + 2]
            if straight > 0.999999:
                entry2 = most2
            elif straight > -0.999999:
                half = math.sqrt(0.5 * (1.0 + straight))
                entry2 = min(most2, acc * f[s.DEVIATION] * half / (1.0 - half))
    n = i[s.BLOCKS]
    b = t.blocks
    b[n, s.B_LENGTH] = length
    b[n, s.B_CRUISE] = speed
    b[n, s.B_ACC] = acc
    b[n, s.B_ENTRY2] = entry2
    b[n, s.B_LAYER] = i[s.LAYERS]
    b[n, s.B_COMMAND] = i[s.COMMAND] + 1
    b[n, s.B_FILAMENT] = f[s.FILAMENT]
    b[n, s.B_SPAN] = i[s.SPAN]
    b[n, s.B_MOVE] = i[s.MOVES] if i[s.EMIT] != 0 else -1
    i[s.BLOCKS] = n + 1
    f[s.CRUISE2] = cruise2
    f[s.DIRECTION] = bx
    f[s.DIRECTION + 1] = by
    f[s.DIRECTION + 2] = bz
    f[s.DIRECTION + 3] = de
    if n + 1 >= 2 * m[s.M_WINDOW]:
        settle(f, i, m, t, int(m[s.M_WINDOW]))
    return speed
