"""Moving lines of G-code in x and y: the numbers of absolute moves change, every other byte stays."""

from __future__ import annotations

import numpy as np

from chronarch.core.compiled import kernel
from chronarch.core.gcode.kernel_layout import Bytes


@kernel
def _put_number(out, n, value, decimals):
    """Write a number with so many decimals; returns where it ends."""
    if value < 0.0:
        out[n] = 45
        n += 1
        value = -value
    scale = 1
    for _ in range(decimals):
        scale *= 10
    whole = int(value * scale + 0.5)
    left, part = whole // scale, whole % scale
    begin = n
    while True:
        out[n] = 48 + left % 10
        n += 1
        left //= 10
        if left == 0:
            break
    a, b = begin, n - 1
    while a < b:
        out[a], out[b] = out[b], out[a]
        a += 1
        b -= 1
    if decimals > 0:
        out[n] = 46
        n += 1
        for _ in range(decimals):
            scale //= 10
            out[n] = 48 + part // scale % 10
            n += 1
    return n


@kernel
def shift_xy(data, start, stop, dx, dy, absolute, out):
    """Copy lines with the X and Y of absolute moves shifted (mm); every other byte stays. `out` must hold a half more
    than the lines and 64 bytes. Returns how many bytes were written."""
    p, n = start, 0
    while p < stop:
        begin = p
        while p < stop and (data[p] == 32 or data[p] == 9):
            p += 1
        if p < stop and data[p] & 223 == 78:
            p += 1
            while p < stop and (48 <= data[p] <= 57 or data[p] == 32):
                p += 1
        move = False
        if p + 1 < stop and data[p] & 223 == 71:
            q, number, digits = p + 1, 0, 0
            while q < stop and 48 <= data[q] <= 57:
                number = number * 10 + int(data[q]) - 48
                digits += 1
                q += 1
            if digits > 0 and digits < 4 and (q >= stop or data[q] != 46):
                move = number <= 3 and absolute
                if number == 90:
                    absolute = True
                elif number == 91:
                    absolute = False
        p = begin
        while p < stop and data[p] != 10:
            c = data[p]
            if c == 59 or not move:
                while p < stop and data[p] != 10:
                    out[n] = data[p]
                    n += 1
                    p += 1
                break
            out[n] = c
            n += 1
            p += 1
            if c & 223 == 88 or c & 223 == 89:
                q = p
                negative = q < stop and data[q] == 45
                if q < stop and (data[q] == 45 or data[q] == 43):
                    q += 1
                mantissa, digits, scale = 0, 0, -1
                while q < stop and digits < 15 and (48 <= data[q] <= 57 or (data[q] == 46 and scale < 0)):
                    if data[q] == 46:
                        scale = 0
                    else:
                        mantissa = mantissa * 10 + int(data[q]) - 48
                        digits += 1
                        if scale >= 0:
                            scale += 1
                    q += 1
                if digits > 0:
                    scale = max(scale, 0)
                    value = float(mantissa)
                    for _ in range(scale):
                        value /= 10.0
                    if negative:
                        value = -value
                    n = _put_number(out, n, value + (dx if c & 223 == 88 else dy), max(3, scale))
                    p = q
        if p < stop:
            out[n] = 10
            n += 1
            p += 1
    return n


def shifted(data: Bytes, start: int, stop: int, dx: float, dy: float, absolute: bool) -> bytes:
    """Lines `start` to `stop` (bytes) with their absolute X and Y moved by (dx, dy) mm."""
    out = np.zeros((stop - start) * 5 // 2 + 64, np.uint8)
    return out[: int(shift_xy(data, start, stop, dx, dy, absolute, out))].tobytes()
