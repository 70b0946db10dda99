"""The planner's rules as one compiled run over time. Machines become free one after another; each takes the job that
the strategy chooses for it, and work by hand that must come first is given to one person at a time.

Tables are arrays with one column for each fact; the columns are named below. Few large arrays are used because passing
many small ones from function to function would cost more than the work itself. Nothing here makes an array. Times are
seconds from the moment of the snapshot."""

from __future__ import annotations

from math import ceil, inf, log
from typing import Any, NamedTuple

from chronarch.core.compiled import kernel

CLEAR, OCCUPIED, AWAY = 0, 1, 2
FIRST_COME, DUE_FIRST, HANDS_AWARE = 0, 1, 2
W_TOP, W_PRIORITY, W_DUE, W_LINE, W_STAFFED, W_OVERNIGHT, W_RELEASES, W_ONLY = 0, 1, 2, 3, 4, 5, 6, 7

M_PHASE, M_NEXT, M_IDLE, M_KIND, M_SITE, M_SPOOL, M_GRAMS, M_NOZZLE = 0, 1, 2, 3, 4, 5, 6, 7
M_BY_HAND, M_TAKES, M_COOL, M_RELEASES, M_LEFT, M_RELEASE, M_CURRENT, M_CLEARED = 8, 9, 10, 11, 12, 13, 14, 15
MACHINE = 16
"""A machine's row: phase; when it is its turn next; how long its bed has been clear; numbers of its kind, site, spool
and nozzle; grams left; whether a person starts it; whether it takes work; seconds of cooling; how many parts in a row
it may release, and how many of those are left; seconds one release takes; its last assignment (-1: none yet); when its
first bed was clear."""

J_BUILDS, J_NEED, J_LINE, J_TOP, J_PRIORITY, J_DUE, J_NOT_BEFORE, J_PLACES, J_LATEST = 0, 1, 2, 3, 4, 5, 6, 7, 8
JOB = 9
"""A job's row: builds that wait; its need; place in line; whether it was put to the top; priority; by when it must be
off the bed; when it may begin at the earliest; how many machines could make it; from when on it is urgent by day."""

O_HANDS, O_START, O_END, O_CLEARED, O_SPOOL, O_NOZZLE, O_WAIT, O_SECONDS, O_CHANGE = 0, 1, 2, 3, 4, 5, 6, 7, 8
O_CLASS, O_APPEAL, O_WHY, O_TURN, O_CAN, O_WAITING, O_GRAMS = 9, 10, 11, 12, 13, 14, 15
OFFER = 16
"""A need's row: what would follow if the machine whose turn it is took a build with this need; how many such builds
wait; the grams of one."""

A_MACHINE, A_JOB, A_HANDS, A_START, A_END, A_CLEARED, A_SPOOL, A_NOZZLE, A_WHY, A_WAIT, A_CHOICES = range(11)
ASSIGNED = 11
"""A planned build's row."""

S_SPOOLS, S_GRAMS, S_NOZZLES = 0, 1, 2
"""Rows of the stock: spools of each kind that are on no machine, grams on the fullest, nozzles of each kind."""

R_STRATEGY, R_CLEAR, R_SPOOL, R_NOZZLE, R_WALK, R_STEADY, R_HORIZON, R_PRESS, R_EARLY = range(9)
"""The rules of a run: the strategy, how many seconds work by hand takes, how long before its latest start a job that is
due becomes urgent, and how much earlier by day."""

C_PRESSES, C_NOW, C_CHANGE, C_LONG, C_LATER = 0.0, 1.0, 2.0, 3.0, 4.0
"""Classes of offers, best first: would be late otherwise; ends while somebody is there; the same, but after a change of
spool or nozzle; lasts long or ends when nobody is there; can begin only when somebody is back."""
TONIGHT_S, BEHIND_S = 1800.0, 1800.0
"""A bed that waits longer than this for a person waits overnight. A person with more work waiting than this is behind.
"""

NEVER_S = 1e12
PATIENCE_S, HARDLY = 1800.0, 0.5
"""A machine that has waited this long for a change that nobody made takes a job that needs no change, if there is one.
"""
RUSH, RUSH_FOR_S = 0.3, 120.0
"""Which share of the time before closing is really needed, since some beds are ready early; and for how many seconds a
figure once worked out is used."""

B_JOB, B_WAIT, B_START = 0, 1, 2
LENGTHS = 96
"""Classes of build length."""
BLOCK = 32
"""To find the machine whose turn is next, machines are looked through in blocks of this size."""


class SlotArrays(NamedTuple):
    """The tables of a run."""

    machines: Any
    jobs: Any
    offers: Any
    seconds: Any
    """By need and kind of machine; inf: never."""
    spool_ok: Any
    nozzle_ok: Any
    """By need and kind of spool, of nozzle."""
    upkeep: Any
    """Rows of (machine, begin, end)."""
    stock: Any
    spans: Any
    """Staffed spans: rows of (begin, end), by site and time."""
    sites: Any
    """Rows of (first span, past its last, people, machines that wait for hands)."""
    free: Any
    """By site and person: when each has finished the work in hand."""
    rushes: Any
    """By site: when the rush before closing was last worked out, and its seconds."""
    rules: Any
    before: Any
    """The plan before: rows of (job, wait, start), in order, machine after machine."""
    places: Any
    """Each machine's rows in `before`: (next, past the last)."""
    fresh: Any
    """Jobs that the plan before did not have; the first number says how many."""
    alive: Any
    """Jobs with waiting builds; the first number says how many."""
    lengths: Any
    """Waiting builds by length."""
    soonest: Any
    """The soonest M_NEXT of each BLOCK of machines."""
    plan: Any


@kernel
def bucket(seconds):
    """A build's length as one of LENGTHS classes, each 6 % longer than the one before, from ten minutes on."""
    if seconds <= 600.0:
        return 0
    return min(LENGTHS - 1, int(log(seconds / 600.0) / 0.06))


@kernel
def set_next(m, t, b):
    """It is the turn of machine m again at t."""
    b.machines[m, M_NEXT] = t
    block = m // BLOCK
    soonest = inf
    for i in range(block * BLOCK, min((block + 1) * BLOCK, b.machines.shape[0])):
        soonest = min(soonest, b.machines[i, M_NEXT])
    b.soonest[block] = soonest


@kernel
def whose_turn(b):
    """The machine whose turn is next; of several the first."""
    block = 0
    for i in range(1, b.soonest.shape[0]):
        if b.soonest[i] < b.soonest[block]:
            block = i
    m = block * BLOCK
    for i in range(m + 1, min((block + 1) * BLOCK, b.machines.shape[0])):
        if b.machines[i, M_NEXT] < b.machines[m, M_NEXT]:
            m = i
    return m


@kernel
def span_at(spans, first, last, t):
    """The row of the first span that ends after t; `last` when nobody comes any more."""
    while first < last:
        middle = (first + last) // 2
        if spans[middle, 1] > t:
            last = middle
        else:
            first = middle + 1
    return first


@kernel
def staffed_from(spans, first, last, t):
    """The first moment from t on when somebody is there; inf when nobody comes any more."""
    row = span_at(spans, first, last, t)
    return inf if row == last else max(t, spans[row, 0])


@kernel
def person(free, site, people):
    """The person who is free first."""
    best = 0
    for p in range(1, people):
        if free[site, p] < free[site, best]:
            best = p
    return best


@kernel
def change_for(have, grams, nozzle, n, o, spool_ok, nozzle_ok, stock, rules):
    """Seconds of work by hand before a machine with this spool and nozzle can build need n, -1 when it never can.
    Writes the spool and nozzle to put on into the offer."""
    o[O_SPOOL], o[O_NOZZLE], change = -1.0, -1.0, 0.0
    if not spool_ok[n, have] or grams < o[O_GRAMS]:
        best = -1
        for f in range(spool_ok.shape[1]):
            fits = stock[S_SPOOLS, f] > 0 and spool_ok[n, f] and stock[S_GRAMS, f] >= o[O_GRAMS]
            if fits and (best < 0 or f == have or (best != have and stock[S_GRAMS, f] > stock[S_GRAMS, best])):
                best = f
        if best < 0:
            return -1.0
        o[O_SPOOL] = best
        change += rules[R_SPOOL]
    if not nozzle_ok[n, nozzle]:
        best = -1
        for k in range(nozzle_ok.shape[1]):
            if best < 0 and stock[S_NOZZLES, k] > 0 and nozzle_ok[n, k]:
                best = k
        if best < 0:
            return -1.0
        o[O_NOZZLE] = best
        change += rules[R_NOZZLE]
    return change


@kernel
def look(m, n, t, kept, rush, b):
    """Fill the offer of need n: what would follow if machine m, free at t, took such a build. False when it cannot."""
    o = b.offers[n]
    at = b.machines[m]
    rules = b.rules
    o[O_CAN] = 0.0
    seconds = b.seconds[n, int(at[M_KIND])]
    if seconds == inf:
        return False
    have, nozzle, site = int(at[M_SPOOL]), int(at[M_NOZZLE]), int(at[M_SITE])
    change = change_for(have, at[M_GRAMS], nozzle, n, o, b.spool_ok, b.nozzle_ok, b.stock, rules)
    if change < 0.0:
        return False
    first, last = b.sites[site, 0], b.sites[site, 1]
    o[O_HANDS] = inf
    start = t
    if change > 0.0 or at[M_BY_HAND] > 0.0:
        late = at[M_IDLE] if t <= 1e-6 else 0.0
        free = b.free[site, person(b.free, site, b.sites[site, 2])]
        came = staffed_from(b.spans, first, last, max(t + late, free))
        if came == inf:
            return False
        o[O_HANDS] = came
        start = came + change
    end = start + seconds
    for row in range(b.upkeep.shape[0]):
        if int(b.upkeep[row, 0]) == m and b.upkeep[row, 1] < end and b.upkeep[row, 2] > start:
            return False
    ready = end + at[M_COOL]
    if at[M_LEFT] > 0.0:
        cleared, wait = ready + at[M_RELEASE], 0.0
    else:
        busy_until = b.free[site, person(b.free, site, b.sites[site, 2])]
        came = staffed_from(b.spans, first, last, max(ready + rules[R_WALK], busy_until))
        if rush > 0.0 and came < inf:
            late = staffed_from(b.spans, first, last, ready + rush)
            if late > ready + rush:
                came = late  # people have other beds to see to before they leave
        if came == inf:
            came = rules[R_HORIZON] + ready
        wait = came - ready
        cleared = came + rules[R_CLEAR]
    o[O_START], o[O_END], o[O_CLEARED], o[O_WAIT] = start, end, cleared, wait
    o[O_SECONDS], o[O_CHANGE] = seconds, change
    o[O_CAN] = HARDLY if change > 0.0 and t <= 1e-6 and at[M_IDLE] > PATIENCE_S else 1.0
    if rules[R_STRATEGY] == HANDS_AWARE:
        behind = max(0.0, b.free[site, person(b.free, site, b.sites[site, 2])] - t)
        _appeal(at, t, kept, behind, b.spans, first, last, rules, o)
    else:
        o[O_CLASS], o[O_APPEAL], o[O_WHY] = 1.0 if change > 0.0 else 0.0, 0.0, W_LINE
    return True


@kernel
def _appeal(at, t, kept, behind, spans, first, last, rules, o):
    """How good an offer is that is not urgent, for the strategy that is aware of hands: its class and, within the
    class, a number (0 where the due time and then the place in line decide)."""
    length = bucket(o[O_SECONDS])
    overnight = o[O_WAIT] > TONIGHT_S
    rate = -o[O_SECONDS] / (o[O_CLEARED] - t + 3.0 * o[O_CHANGE] + behind)
    o[O_APPEAL], o[O_WHY] = 0.0, W_STAFFED
    if o[O_START] - t > o[O_CHANGE] + TONIGHT_S:
        o[O_CLASS], o[O_APPEAL] = C_LATER, rate
    elif at[M_LEFT] > 0.0 and length < kept:
        row = span_at(spans, first, last, t)
        opens = spans[row, 0] if row < last else rules[R_HORIZON]
        o[O_APPEAL] = abs(log(o[O_SECONDS] / max(900.0, (opens - t) / (at[M_LEFT] + 1.0))))
        o[O_CLASS], o[O_WHY] = C_CHANGE if o[O_CHANGE] > 0.0 else C_NOW, W_RELEASES
    elif overnight or length >= kept:
        o[O_CLASS], o[O_APPEAL], o[O_WHY] = C_LONG, rate, W_OVERNIGHT if overnight else W_STAFFED
    else:
        o[O_CLASS] = C_CHANGE if o[O_CHANGE] > 0.0 else C_NOW
        if behind > BEHIND_S:
            o[O_APPEAL] = rate


@kernel
def weigh(j, o, t, again, rules):
    """The class and number of an offer for one job, and why it would be taken. A job that would be late otherwise is
    urgent. `again` is when the next machine like this one becomes free."""
    due = j[J_DUE]
    if rules[R_STRATEGY] == DUE_FIRST:
        return o[O_CLASS], min(due, NEVER_S), W_DUE if due < inf else W_LINE
    if due == inf or rules[R_STRATEGY] == FIRST_COME:
        return o[O_CLASS], o[O_APPEAL], int(o[O_WHY])
    if o[O_CLASS] != C_LATER:
        need = ceil(j[J_BUILDS] / max(1.0, j[J_PLACES])) * (o[O_SECONDS] + rules[R_WALK] + rules[R_CLEAR])
        by_day = o[O_WAIT] <= TONIGHT_S and t >= j[J_LATEST] - rules[R_EARLY]
        if by_day or t + need <= due < again + 1.25 * need + rules[R_PRESS]:
            return C_PRESSES, due + (21600.0 if o[O_CHANGE] > 0.0 else 0.0), W_DUE
    if o[O_APPEAL] == 0.0:
        return o[O_CLASS], due - NEVER_S, int(o[O_WHY])
    return o[O_CLASS], o[O_APPEAL], int(o[O_WHY])


@kernel
def presses_by(priority, rank, o, rules):
    """What a job's priority counts for: a priority of 1 is not worth a change of nozzle when nothing is urgent."""
    if priority == 1.0 and rules[R_STRATEGY] == HANDS_AWARE and o[O_NOZZLE] >= 0.0 and rank != C_PRESSES:
        return 0.0
    return priority


@kernel
def kept_from(lengths, want):
    """The class of length from which on builds are kept for closing time: the `want` longest that wait."""
    count = 0
    for c in range(LENGTHS - 1, -1, -1):
        count += lengths[c]
        if count > want:
            return c + 1
    return 0


@kernel
def closing_rush(site, t, closes, b):
    """How long before people leave a bed must be ready so that somebody comes to it in time: they have one bed to see
    to for every machine of the site that has no build for the night yet."""
    if abs(t - b.rushes[site, 0]) < RUSH_FOR_S:
        return b.rushes[site, 1]
    many = 0
    for i in range(b.machines.shape[0]):
        at = b.machines[i]
        if at[M_SITE] == site and at[M_RELEASES] == 0.0 and at[M_PHASE] != AWAY and at[M_NEXT] < closes:
            many += 1
    b.rushes[site, 0], b.rushes[site, 1] = t, RUSH * many * (b.rules[R_WALK] + b.rules[R_CLEAR]) / b.sites[site, 2]
    return b.rushes[site, 1]


@kernel
def pick(m, t, held, again, kept, rush, among, b):
    """The job with the best offer of those in `among` and `held` (-1: none), why, and out of how many."""
    rules, jobs, offers = b.rules, b.jobs, b.offers
    found, choices, why = held, 0, W_LINE
    can, top, priority, rank, number, line = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    if held >= 0:
        o = offers[int(jobs[held, J_NEED])]
        can, top, line = o[O_CAN], jobs[held, J_TOP], jobs[held, J_LINE]
        rank, number, why = weigh(jobs[held], o, t, again, rules)
        priority = presses_by(jobs[held, J_PRIORITY], rank, o, rules)
    i = 0
    while i < among[0]:
        i += 1
        j = among[i]
        row_j = jobs[j]
        if row_j[J_BUILDS] <= 0.0:
            among[i] = among[among[0]]
            among[0] -= 1
            i -= 1
            continue
        if row_j[J_NOT_BEFORE] > t + 1e-6 or j == held:
            continue
        n = int(row_j[J_NEED])
        if held >= 0:
            if not look(m, n, t, kept, rush, b):
                continue
        elif offers[n, O_CAN] == 0.0:
            continue
        choices += 1
        able = offers[n, O_CAN]
        if found >= 0 and (able < can or (able == can and row_j[J_TOP] < top)):
            continue
        r, x, w = weigh(row_j, offers[n], t, again, rules)
        p = presses_by(row_j[J_PRIORITY], r, offers[n], rules)
        if found >= 0 and able == can and row_j[J_TOP] == top:
            worse = r > rank or (r == rank and (x > number + 1e-9 or (x > number - 1e-9 and row_j[J_LINE] >= line)))
            if p < priority or (p == priority and worse):
                continue
        found, can, top, priority, rank, number, line, why = j, able, row_j[J_TOP], p, r, x, row_j[J_LINE], w
    return found, why, choices


@kernel
def could_without(m, n, t, b):
    """How many other machines with a clear bed could build need n without a change."""
    many = 0
    grams = b.offers[n, O_GRAMS]
    for i in range(b.machines.shape[0]):
        at = b.machines[i]
        clear = i != m and at[M_PHASE] == CLEAR and at[M_TAKES] > 0.0 and at[M_NEXT] <= t + b.rules[R_SPOOL]
        could = clear and b.seconds[n, int(at[M_KIND])] < inf and at[M_GRAMS] >= grams
        if could and b.spool_ok[n, int(at[M_SPOOL])] and b.nozzle_ok[n, int(at[M_NOZZLE])]:
            many += 1
    return many


@kernel
def choose(m, t, b):
    """The job that machine m takes at t (-1: none), why, and out of how many; out of 0 when it stays from the plan
    before because no fresh job has a better offer."""
    rules, jobs, offers = b.rules, b.jobs, b.offers
    site = int(b.machines[m, M_SITE])
    last = b.sites[site, 1]
    row = span_at(b.spans, b.sites[site, 0], last, t)
    again = t + 5400.0
    if row < last and again > b.spans[row, 1]:
        again = b.spans[row + 1, 0] if row + 1 < last else rules[R_HORIZON]
    kept = kept_from(b.lengths, b.sites[site, 3]) if rules[R_STRATEGY] == HANDS_AWARE else LENGTHS
    rush = 0.0
    if rules[R_STRATEGY] == HANDS_AWARE and row < last and b.spans[row, 0] <= t:
        rush = closing_rush(site, t, b.spans[row, 1], b)
    held = -1
    while held < 0 and b.places[m, 0] < b.places[m, 1]:
        place = b.places[m, 0]
        j = int(b.before[place, B_JOB])
        if jobs[j, J_BUILDS] > 0.0 and jobs[j, J_NOT_BEFORE] <= t + 1e-6:
            n = int(jobs[j, J_NEED])
            if look(m, n, t, kept, rush, b):
                longer = offers[n, O_WAIT] - b.before[place, B_WAIT]
                steady = abs(offers[n, O_START] - b.before[place, B_START]) <= rules[R_STEADY]
                if offers[n, O_CAN] == 1.0 and (steady or longer <= rules[R_STEADY]):
                    held = j
                    break
            if b.fresh[0] + 1 < b.fresh.shape[0]:
                b.fresh[0] += 1
                b.fresh[b.fresh[0]] = j
        b.places[m, 0] += 1
    among = b.alive if held < 0 else b.fresh
    if held < 0:
        for n in range(offers.shape[0]):
            offers[n, O_CAN] = 0.0
            if offers[n, O_WAITING] > 0.0 and b.seconds[n, int(b.machines[m, M_KIND])] < inf:
                look(m, n, t, kept, rush, b)
    found, why, choices = pick(m, t, held, again, kept, rush, among, b)
    while found >= 0 and found != held and offers[int(jobs[found, J_NEED]), O_CHANGE] > 0.0:
        n = int(jobs[found, J_NEED])
        if offers[n, O_WAITING] > could_without(m, n, t, b):
            break
        if held >= 0:  # what was planned stays; the fresh job goes to a machine that needs no change
            found, why, choices = held, W_LINE, 0
            break
        offers[n, O_CAN] = 0.0
        found, why, choices = pick(m, t, held, again, kept, rush, among, b)
    if found >= 0:
        if held >= 0 and found == held:
            choices = 0
            b.places[m, 0] += 1
            look(m, int(jobs[held, J_NEED]), t, kept, rush, b)
        elif choices == 1 and why != W_DUE and why != W_OVERNIGHT and why != W_RELEASES:
            why = W_ONLY
        if jobs[found, J_TOP] > 0.0:
            why = W_TOP
        elif jobs[found, J_PRIORITY] > 0.0 and why != W_DUE:
            why = W_PRIORITY
    return found, why, choices


@kernel
def clear_bed(m, t, b):
    """When the bed of machine m, which can be cleared from t on, is clear. Books the person who clears it."""
    at = b.machines[m]
    site = int(at[M_SITE])
    first, last = b.sites[site, 0], b.sites[site, 1]
    if at[M_LEFT] > 0.0:
        seen = staffed_from(b.spans, first, last, t) <= t
        at[M_LEFT] = at[M_RELEASES] if seen else at[M_LEFT] - 1.0
        return t + at[M_RELEASE]
    p = person(b.free, site, b.sites[site, 2])
    came = staffed_from(b.spans, first, last, max(t + b.rules[R_WALK], b.free[site, p]))
    if came == inf:
        return inf
    b.free[site, p] = came + b.rules[R_CLEAR]
    at[M_LEFT] = at[M_RELEASES]
    return came + b.rules[R_CLEAR]


@kernel
def later(m, t, b):
    """When a machine that found nothing at t has its turn again: when a job may begin, or upkeep is over."""
    at = inf
    for i in range(1, b.alive[0] + 1):
        begins = b.jobs[b.alive[i], J_NOT_BEFORE]
        if b.jobs[b.alive[i], J_BUILDS] > 0.0 and t < begins < at:
            at = begins
    for row in range(b.upkeep.shape[0]):
        if int(b.upkeep[row, 0]) == m and t < b.upkeep[row, 2] < at:
            at = b.upkeep[row, 2]
    return at


@kernel
def take(m, j, t, why, choices, made, b):
    """Write the assignment, and what it changes: people's time, spools, nozzles, waiting builds."""
    at, n = b.machines[m], int(b.jobs[j, J_NEED])
    o, site, row = b.offers[n], int(at[M_SITE]), b.plan[made]
    if o[O_HANDS] < inf:
        b.free[site, person(b.free, site, b.sites[site, 2])] = o[O_START]
    if o[O_SPOOL] >= 0.0:
        f = int(o[O_SPOOL])
        b.stock[S_SPOOLS, int(at[M_SPOOL])] += 1
        b.stock[S_SPOOLS, f] -= 1
        at[M_SPOOL], at[M_GRAMS] = f, b.stock[S_GRAMS, f]
    if o[O_NOZZLE] >= 0.0:
        k = int(o[O_NOZZLE])
        b.stock[S_NOZZLES, int(at[M_NOZZLE])] += 1
        b.stock[S_NOZZLES, k] -= 1
        at[M_NOZZLE] = k
    if o[O_SPOOL] >= 0.0 or o[O_NOZZLE] >= 0.0:
        for i in range(b.machines.shape[0]):  # another machine may have been waiting for what came off this one
            if b.machines[i, M_PHASE] == CLEAR and b.machines[i, M_NEXT] == inf and b.machines[i, M_TAKES] > 0.0:
                set_next(i, o[O_START], b)
    at[M_GRAMS] -= o[O_GRAMS]
    o[O_WAITING] -= 1.0
    b.jobs[j, J_BUILDS] -= 1.0
    b.lengths[bucket(o[O_SECONDS])] -= 1
    row[A_MACHINE], row[A_JOB], row[A_WHY], row[A_CHOICES] = m, j, why, choices
    row[A_HANDS], row[A_START], row[A_END], row[A_CLEARED] = o[O_HANDS], o[O_START], o[O_END], o[O_CLEARED]
    row[A_SPOOL], row[A_NOZZLE], row[A_WAIT] = o[O_SPOOL], o[O_NOZZLE], o[O_WAIT]
    at[M_CURRENT], at[M_PHASE] = made, OCCUPIED
    set_next(m, o[O_END] + at[M_COOL], b)


@kernel
def run(b):
    """Plan until nothing waits, no machine can take what does, or the horizon is reached. Returns how many builds."""
    made = 0
    machines = b.machines
    for m in range(0, machines.shape[0], BLOCK):
        set_next(m, machines[m, M_NEXT], b)
    for m in range(machines.shape[0]):  # the beds that wait already are seen to first
        if machines[m, M_PHASE] == OCCUPIED and machines[m, M_NEXT] <= 0.0:
            _clear(m, machines[m, M_NEXT], b)
    while made < b.plan.shape[0]:
        m = whose_turn(b)
        t = machines[m, M_NEXT]
        if t > b.rules[R_HORIZON]:
            break
        if machines[m, M_PHASE] == OCCUPIED:
            _clear(m, t, b)
            continue
        if machines[m, M_TAKES] == 0.0:
            set_next(m, inf, b)
            continue
        j, why, choices = choose(m, t, b)
        if j < 0:
            set_next(m, later(m, t, b), b)
            continue
        take(m, j, t, why, choices, made, b)
        made += 1
    while True:
        m = -1
        for i in range(machines.shape[0]):
            if machines[i, M_PHASE] == OCCUPIED and (m < 0 or machines[i, M_NEXT] < machines[m, M_NEXT]):
                m = i
        if m < 0:
            return made
        _clear(m, machines[m, M_NEXT], b)


@kernel
def _clear(m, t, b):
    at = b.machines[m]
    cleared = clear_bed(m, t, b)
    if at[M_CURRENT] < 0.0:
        at[M_CLEARED] = cleared
    else:
        row = b.plan[int(at[M_CURRENT])]
        row[A_CLEARED], row[A_WAIT] = cleared, cleared - t
    at[M_PHASE] = CLEAR
    set_next(m, cleared, b)
