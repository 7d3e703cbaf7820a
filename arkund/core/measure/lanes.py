"""Power of a sound behind pairs of biquads, step by step, in stretches side by side."""

import numpy as np
from numpy.typing import NDArray

from arkund.core.kernel import kernel

LANES = 16
"""Stretches of a sound that are filtered side by side: a filter waits for its own last sample, and a
processor does several at a time."""

LEAD_S = 0.15
"""What each stretch hears before it begins, at least: a filter that rings at 40 Hz has fallen by more
than 200 dB by then."""

AT_ONCE = 64


def powers(
    audio: NDArray[np.float32], rate: int, filters: NDArray[np.float64], step: int
) -> NDArray[np.float64]:
    """Mean square ``(steps, filters)`` of each whole ``step`` samples of ``(frames,)`` behind each of
    ``filters`` ``(filters, 2, 5)``: two biquads in cascade, b0, b1, b2, a1, a2 (a0 is 1), from 35 Hz
    on."""
    out = np.zeros((len(audio) // step, len(filters)))
    lead = -(-round(LEAD_S * rate) // step)
    _add_up(np.ascontiguousarray(audio, np.float32), filters, step, lead, LANES, out)
    return out


@kernel(fastmath=True)
def _add_up(audio, filters, step, lead, lanes, out):  # type: ignore[no-untyped-def]
    each = -(-len(out) // lanes)
    x = np.zeros((AT_ONCE, lanes), np.float32)
    states = np.zeros((len(filters), 4, lanes))
    sums = np.zeros((len(filters), lanes))
    for number in range(-lead, each):
        sums[:] = 0.0
        for first in range(0, step, AT_ONCE):
            count = min(AT_ONCE, step - first)
            for lane in range(lanes):
                at = lane * each + number
                if 0 <= at < len(out):
                    heard = audio[at * step + first : at * step + first + count]
                    for n in range(count):
                        x[n, lane] = heard[n]
                else:
                    for n in range(count):
                        x[n, lane] = 0.0
            for k in range(len(filters)):
                _filter(x, count, filters[k], states[k], sums[k])
        if number >= 0:
            for lane in range(lanes):
                if lane * each + number < len(out):
                    for k in range(len(filters)):
                        out[lane * each + number, k] = sums[k, lane] / step


@kernel(fastmath=True, inline="always")
def _filter(x, count, sections, state, sums):  # type: ignore[no-untyped-def]
    """Filter ``(samples, lanes)``, and add each lane's squares to ``sums``."""
    p, q = sections[0], sections[1]
    p0, p1, p2, p3, p4 = p[0], p[1], p[2], p[3], p[4]
    q0, q1, q2, q3, q4 = q[0], q[1], q[2], q[3], q[4]
    a, b, c, d = state[0], state[1], state[2], state[3]
    for n in range(count):
        row = x[n]
        for k in range(len(row)):
            v = row[k]
            y = p0 * v + a[k]
            a[k] = p1 * v - p3 * y + b[k]
            b[k] = p2 * v - p4 * y
            z = q0 * y + c[k]
            c[k] = q1 * y - q3 * z + d[k]
            d[k] = q2 * y - q4 * z
            sums[k] += z * z
    for k in range(len(sums)):
        # Denormal numbers would slow silence down many times over.
        if abs(a[k]) + abs(b[k]) + abs(c[k]) + abs(d[k]) < 1e-18:
            a[k] = b[k] = c[k] = d[k] = 0.0
