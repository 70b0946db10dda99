"""The kernel that reads G-code bytes: one pass, no object a line.

`scan` goes on from `start`, line by line, until `stop`, until a table is nearly full, or until it finds something that
is no G-code. All it knows is in two arrays (see `kernel_layout`), so it can stop and go on at any line."""

from __future__ import annotations

import numpy as np

from chronarch.core.compiled import kernel
from chronarch.core.gcode import kernel_layout as s
from chronarch.core.gcode.kernel_commands import add_mark, choose_tool, do_g, do_m, object_mark
from chronarch.core.gcode.motion import plan_mark, settle

LONGEST_LINE = np.uint64(4096)
LONGEST_S = 3.2e8
ONE, TWO, THREE, FOUR, FIVE, EIGHT, SIXTEEN = (np.uint64(n) for n in (1, 2, 3, 4, 5, 8, 16))
POWERS = 10.0 ** np.arange(19)
_TYPE, _FEAT, _PRIN, _STAR, _STOP, _MESH, _OBJE = (
    int.from_bytes(word, "big") for word in (b"type", b"feat", b"prin", b"star", b"stop", b"mesh", b"obje")
)
_EXCL, _UDE_, _OBJ2, _CT_S, _CT_E = (
    int.from_bytes(word, "big") for word in (b"EXCL", b"UDE_", b"OBJE", b"CT_S", b"CT_E")
)


@kernel
def _comment(i, t, data, at, end):
    """What a comment says that matters while reading: the kind of line that follows, or an object's begin or end."""
    while at < end and data[at] == 32:
        at += ONE
    if end < at + FIVE:
        return
    key = 0
    for k in range(4):
        key = (key << 8) | (int(data[at + np.uint64(k)]) | 32)
    length = end - at
    if key == _TYPE or key == _FEAT:
        i[s.FEATURE] = at
        if i[s.EMIT] != 0:
            add_mark(i, t, s.K_FEATURE, at, length)
    elif key == _PRIN:
        object_mark(i, t, s.K_OBJECT, at, length)
    elif key == _STOP:
        object_mark(i, t, s.K_OBJECT_END, at, length)
    elif key == _MESH or key == _STAR or key == _OBJE:
        object_mark(i, t, s.K_OBJECT, at, length)


@kernel
def _text_end(data, at, stop, comments):
    """Where text from `at` ends: at the end of the line, a zero byte, or, with `comments`, at a semicolon."""
    while at < stop:
        c = data[at]
        if c <= 10 and (c == 10 or c == 0):
            break
        if c == 59 and comments:
            break
        at += ONE
    return at


@kernel
def _is_name(data, at, end):
    """Whether a word of capitals, digits and underscores, three long at least, stands here: a command with a name."""
    begin = at
    while at < end and (65 <= data[at] <= 90 or data[at] == 95 or (at > begin and 48 <= data[at] <= 57)):
        at += ONE
    return at >= begin + THREE and (at == end or data[at] == 32 or data[at] == 61 or data[at] == 13 or data[at] == 59)


@kernel
def _four_bytes(data, at):
    key = 0
    for k in range(4):
        key = (key << 8) | int(data[at + np.uint64(k)])
    return key


@kernel
def _named_object(i, t, data, at, end):
    """EXCLUDE_OBJECT_START and _END: an object begins or ends."""
    if end < at + SIXTEEN or _four_bytes(data, at) != _EXCL or _four_bytes(data, at + FOUR) != _UDE_:
        return
    tail = _four_bytes(data, at + EIGHT + FOUR)
    if _four_bytes(data, at + EIGHT) == _OBJ2 and tail == _CT_S:
        object_mark(i, t, s.K_OBJECT, at, end - at)
    elif _four_bytes(data, at + EIGHT) == _OBJ2 and tail == _CT_E:
        object_mark(i, t, s.K_OBJECT_END, at, end - at)


@kernel
def _odd(i, t, data, at, end):
    """A line that holds neither G, M nor T word."""
    if _is_name(data, at, end):
        _named_object(i, t, data, at, end)
        i[s.NAMED] += 1
        if i[s.EMIT] == 0 and i[s.NAMED] <= 5_000:
            add_mark(i, t, s.K_NAMED, at, end - at)
    elif not (data[at] == 37 and end <= at + TWO):
        i[s.UNREADABLE] += 1
        if i[s.EMIT] == 0 and i[s.UNREADABLE] <= 100:
            add_mark(i, t, s.K_UNREADABLE, at, end - at)


@kernel
def _closing(data, at, end):
    """Where the parenthesis opened at `at` closes on this line, before any semicolon; `at` when it does not."""
    begin = at
    while at < end and data[at] != 10 and data[at] != 59:
        if data[at] == 41:
            return at
        at += ONE
    return begin


@kernel
def _is_checksum(data, at, end):
    """Whether only a number stands from here to the end of the line or a semicolon."""
    digits = 0
    while at < end and data[at] != 10 and data[at] != 59:
        c = data[at]
        if c == 40:
            close = _closing(data, at, end)
            if close == at:
                return False
            at = close
        elif 48 <= c <= 57:
            digits += 1
        elif c != 32 and c != 13 and c != 9:
            return False
        at += ONE
    return digits > 0


@kernel
def _long_number(data, at, end):
    """A number with more digits than an integer holds."""
    value, part = 0.0, 0.0
    while at < end:
        if data[at] == 46:
            part = 1.0
        elif part > 0.0:
            part *= 0.1
            value += part * (float(data[at]) - 48.0)
        else:
            value = value * 10.0 + (float(data[at]) - 48.0)
        at += ONE
    return min(value, 1e17)


@kernel
def _failed(i, at, why):
    i[s.FAILED] = why
    return np.int64(at)


@kernel
def scan(data, start, stop_at, chunk_at, f, i, m, t):
    """Read from `start` to the first line at or after `chunk_at`, at most to `stop_at`. Returns where it stopped;
    `i[FAILED]` says why when it could not go on.

    Places in the file are unsigned: numba would look at each whether it counts from the end.
    """
    p, stop, chunk = np.uint64(start), np.uint64(stop_at), np.uint64(chunk_at)
    window = 2 * int(m[s.M_WINDOW]) + 8
    while p < stop and p < chunk:
        if (
            i[s.MARKS] + 4 > t.marks.shape[0]
            or i[s.SPANS] + 4 > t.spans.shape[0]
            or i[s.LAYERS] + 4 > t.layer_seconds.shape[0]
            or i[s.PLAN_MARKS] + window > t.plan.shape[0]
            or i[s.MOVES] + 4 + s.SPLINE_PIECES > t.moves.shape[0]
        ):
            return np.int64(p)
        begin, first = p, p
        i[s.OFFSET_AT] = begin
        i[s.LINE] += 1
        kind, word, mask, found, numbered, closes = 0, 0, 0, False, False, True
        while p < stop:
            c = data[p]
            letter = (int(c) & 223) - 65
            if c <= 32:
                if c == 10:
                    break
                if c == 0:
                    return _failed(i, p, s.ZERO_BYTE)
                p += ONE
                continue
            if c < 65:
                if c == 59:
                    at = p + ONE
                    p = _text_end(data, at, stop, False)
                    if p < stop and data[p] == 0:
                        return _failed(i, p, s.ZERO_BYTE)
                    _comment(i, t, data, at, p)
                    break
                if c == 40 and closes:
                    close = _closing(data, p, stop)
                    if close > p:
                        p = close + ONE
                        continue
                    # none closes on the rest of this line either: it is looked through once
                    closes = False
                elif c == 42 and _is_checksum(data, p + ONE, stop):
                    p = _text_end(data, p, stop, True)
                    continue
            if kind == 0:
                digit = p + ONE < stop and 48 <= data[p + ONE] <= 57
                if letter == 13 and not numbered and digit and c >= 65:
                    numbered = True
                    p += ONE
                    while p < stop and 48 <= data[p] <= 57:
                        p += ONE
                    continue
                first, found = p, True
                if digit and (letter == 6 or letter == 12 or letter == 19) and c >= 65:
                    p += ONE
                    number, decimal = 0, 0
                    while p < stop and 48 <= data[p] <= 57:
                        number = min(number * 10 + int(data[p]) - 48, 1_000_000)
                        p += ONE
                    if p + ONE < stop and data[p] == 46 and 48 <= data[p + ONE] <= 57:
                        decimal = int(data[p + ONE]) - 48
                        p += TWO
                        while p < stop and 48 <= data[p] <= 57:
                            p += ONE
                    if p >= stop or (data[p] != 46 and not 48 <= data[p] <= 57):
                        kind = letter
                        word = number * 10 + decimal if letter == 6 else number
                        if letter == 12 and (word == 117 or word == 118 or word == 23 or word == 28 or word == 486):
                            p = _text_end(data, p, stop, True)
                        continue
                kind = -1
                p = _text_end(data, p, stop, True)
                continue
            if c >= 65 and 0 <= letter < 26:
                p += ONE
                while p < stop and data[p] == 32:
                    p += ONE
                q = p
                negative = False
                if q < stop and (data[q] == 45 or data[q] == 43):
                    negative = data[q] == 45
                    q += ONE
                mantissa, digits, scale = 0, 0, 0
                begun = q
                while q < stop and 48 <= data[q] <= 57:
                    mantissa = mantissa * 10 + int(data[q]) - 48
                    digits += 1
                    q += ONE
                if q < stop and data[q] == 46:
                    q += ONE
                    while q < stop and 48 <= data[q] <= 57:
                        mantissa = mantissa * 10 + int(data[q]) - 48
                        scale += 1
                        q += ONE
                    digits += scale
                if digits > 0:
                    value = float(mantissa)
                    if digits > 18:
                        value = _long_number(data, begun, q)
                    elif scale > 0:
                        value /= POWERS[scale]
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
                p += ONE
        # what sets the count or answers a wait belongs to whoever feeds the file: it is left out there too
        if found and not (kind == 12 and (word == 108 or word == 110)):
            if p > begin + LONGEST_LINE:
                return _failed(i, begin, s.LONG_LINE)
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
                do_m(f, i, m, t, word, mask, np.int64(first), np.int64(p - first))
            elif kind == 19:
                choose_tool(f, i, m, t, word)
            else:
                _odd(i, t, data, first, p)
            i[s.COMMAND] += 1
            if not f[s.SECONDS] < LONGEST_S:
                i[s.FAILED] = s.TOO_LONG
            if i[s.FAILED] != 0:
                return np.int64(begin)
        p += ONE
    return np.int64(min(p, stop))


@kernel
def finish(f, i, m, t):
    """The file is over: the window runs empty."""
    settle(f, i, m, t, 0)
    plan_mark(f, i, t, i[s.COMMAND], f[s.FILAMENT])
