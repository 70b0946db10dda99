"""The kernel that reads G-code bytes: one pass, no object a line.

`scan` goes on from `start`, line by line, until `stop`, until a table is nearly full, or until something that is no
G-code. All it knows stands in two arrays (see `state`), so it can be left and taken up at any line.
"""

from __future__ import annotations

import numpy as np

from chronarch.core.gcode import state as s
from chronarch.core.gcode.effects import add_mark, choose_tool, do_g, do_m, object_mark
from chronarch.core.gcode.kernel import kernel
from chronarch.core.gcode.motion import plan_mark, settle

LONGEST_LINE = 4096
POWERS = 10.0 ** np.arange(19)
_TYPE, _FEAT, _PRIN, _STOP, _MESH = (
    int.from_bytes(word, "big") for word in (b"type", b"feat", b"prin", b"stop", b"mesh")
)


@kernel
def _comment(i, t, data, at, end):
    """What a comment says that matters while reading: the kind of line that follows, or an object's begin or end."""
    while at < end and data[at] == 32:
        at += 1
    if end - at < 5:
        return
    key = 0
    for k in range(4):
        key = (key << 8) | (int(data[at + k]) | 32)
    if key == _TYPE or key == _FEAT:
        i[s.FEATURE] = at
        if i[s.EMIT] != 0:
            add_mark(i, t, s.K_FEATURE, at, end - at)
    elif key == _PRIN:
        object_mark(i, t, s.K_OBJECT, at, end - at)
    elif key == _STOP:
        object_mark(i, t, s.K_OBJECT_END, at, end - at)
    elif key == _MESH:
        object_mark(i, t, s.K_OBJECT, at, end - at)


@kernel
def _line_end(data, at, stop):
    while at < stop and data[at] != 10:
        if data[at] == 0:
            return -1
        at += 1
    return at


@kernel
def _is_name(data, at, end):
    """Whether a word of capitals, digits and underscores, three long at least, stands here: a command with a name."""
    n = 0
    while at < end and (65 <= data[at] <= 90 or data[at] == 95 or (n > 0 and 48 <= data[at] <= 57)):
        n += 1
        at += 1
    return n >= 3 and (at == end or data[at] == 32 or data[at] == 61 or data[at] == 13 or data[at] == 59)


@kernel
def _odd(i, t, data, at, end):
    """A line that holds neither G, M nor T word."""
    if _is_name(data, at, end):
        i[s.NAMED] += 1
        if i[s.EMIT] == 0 and i[s.NAMED] <= 5_000:
            add_mark(i, t, s.K_NAMED, at, end - at)
    elif not (data[at] == 37 and end - at <= 2):
        i[s.UNREADABLE] += 1
        if i[s.EMIT] == 0 and i[s.UNREADABLE] <= 100:
            add_mark(i, t, s.K_UNREADABLE, at, end - at)


@kernel
def _closing(data, at, end):
    """Where the parenthesis opened at `at` closes on this line, before any semicolon; -1 when it does not."""
    while at < end and data[at] != 10 and data[at] != 59:
        if data[at] == 41:
            return at
        at += 1
    return -1


@kernel
def _is_checksum(data, at, end):
    """Whether only a number stands from here to the end of the line or a semicolon."""
    digits = 0
    while at < end and data[at] != 10 and data[at] != 59:
        c = data[at]
        if 48 <= c <= 57:
            digits += 1
        elif c != 32 and c != 13 and c != 9:
            return False
        at += 1
    return digits > 0


@kernel
def scan(data, start, stop, chunk, f, i, m, t):
    """Read from `start` to the first line at or after `chunk`, at most to `stop`. Returns where it stopped; `i[FAILED]`
    says why when it could not go on."""
    p = start
    window = 2 * int(m[s.M_WINDOW]) + 8
    while p < stop and p < chunk:
        if (
            i[s.MARKS] + 4 > t.marks.shape[0]
            or i[s.SPANS] + 4 > t.spans.shape[0]
            or i[s.LAYERS] + 4 > t.layer_seconds.shape[0]
            or i[s.PLAN_MARKS] + window > t.plan.shape[0]
            or i[s.MOVES] + 4 > t.moves.shape[0]
        ):
            return p
        begin = p
        i[s.OFFSET_AT] = begin
        i[s.LINE] += 1
        kind, word, mask, first, numbered = 0, 0, 0, -1, False
        while p < stop:
            c = data[p]
            if c == 10:
                break
            if c <= 32:
                if c == 0:
                    i[s.FAILED] = s.ZERO_BYTE
                    return p
                p += 1
                continue
            if c == 59:
                at = p + 1
                p = _line_end(data, at, stop)
                if p < 0:
                    i[s.FAILED] = s.ZERO_BYTE
                    return at
                _comment(i, t, data, at, p)
                break
            if c == 40:
                close = _closing(data, p, stop)
                if close >= 0:
                    p = close + 1
                    continue
            elif c == 42 and _is_checksum(data, p + 1, stop):
                while p < stop and data[p] != 10 and data[p] != 59:
                    p += 1
                continue
            letter = (c & 223) - 65
            if kind == 0:
                digit = p + 1 < stop and 48 <= data[p + 1] <= 57
                if letter == 13 and not numbered and digit and first < 0:
                    numbered = True
                    p += 1
                    while p < stop and 48 <= data[p] <= 57:
                        p += 1
                    continue
                first = p
                if digit and (letter == 6 or letter == 12 or letter == 19) and c >= 65:
                    p += 1
                    number, decimal = 0, 0
                    while p < stop and 48 <= data[p] <= 57:
                        number = min(number * 10 + int(data[p]) - 48, 1_000_000)
                        p += 1
                    if p + 1 < stop and data[p] == 46 and 48 <= data[p + 1] <= 57:
                        decimal = int(data[p + 1]) - 48
                        p += 2
                        while p < stop and 48 <= data[p] <= 57:
                            p += 1
                    if p >= stop or (data[p] != 46 and not 48 <= data[p] <= 57):
                        kind = letter
                        word = number * 10 + decimal if letter == 6 else number
                        if letter == 12 and (word == 117 or word == 118 or word == 23 or word == 28 or word == 486):
                            while p < stop and data[p] != 10 and data[p] != 59:
                                if data[p] == 0:
                                    i[s.FAILED] = s.ZERO_BYTE
                                    return p
                                p += 1
                        continue
                kind = -1
                while p < stop and data[p] != 10 and data[p] != 59:
                    if data[p] == 0:
                        i[s.FAILED] = s.ZERO_BYTE
                        return p
                    p += 1
                continue
            if 0 <= letter < 26 and c >= 65:
                p += 1
                while p < stop and data[p] == 32:
                    p += 1
                q = p
                negative = False
                if q < stop and (data[q] == 45 or data[q] == 43):
                    negative = data[q] == 45
                    q += 1
                mantissa, digits, scale = 0, 0, 0
                while q < stop:
                    c = data[q]
                    if 48 <= c <= 57:
                        if digits < 18:
                            mantissa = mantissa * 10 + int(c) - 48
                            digits += 1
                            if scale > 0:
                                scale += 1
                        elif scale == 0:
                            mantissa = 10**17
                    elif c == 46 and scale == 0:
                        scale = 1
                    else:
                        break
                    q += 1
                if digits > 0:
                    value = float(mantissa)
                    if scale > 1:
                        value /= POWERS[scale - 1]
                    t.vals[letter] = -value if negative else value
                    mask |= 1 << letter
                    p = q
                else:
                    # a letter alone: 0, and told apart by the bit above the alphabet
                    t.vals[letter] = 0.0
                    mask |= 1 << 26
                    if kind == 6 and word == 280:
                        mask |= 1 << letter
            else:
                p += 1
        if p - begin > LONGEST_LINE and first >= 0:
            i[s.FAILED] = s.LONG_LINE
            return begin
        if first >= 0:
            if kind == 6:
                if word < s.M_WORDS:
                    if t.counts[0, word] == 0:
                        t.counts[2, word] = i[s.LINE]
                    t.counts[0, word] += 1
                do_g(f, i, m, t, word, mask)
            elif kind == 12:
                if word < s.M_WORDS:
                    if t.counts[1, word] == 0:
                        t.counts[3, word] = i[s.LINE]
                    t.counts[1, word] += 1
                do_m(f, i, m, t, word, mask, first, p - first)
            elif kind == 19:
                choose_tool(f, i, m, t, word)
            else:
                _odd(i, t, data, first, p)
            i[s.COMMAND] += 1
        p += 1
    return p


@kernel
def finish(f, i, m, t):
    """The file is over: the window runs empty."""
    settle(f, i, m, t, 0)
    plan_mark(f, i, t, i[s.COMMAND], f[s.FILAMENT])
