"""Vibrating bodies as banks of damped modes, struck again and again.

A mode is a two-pole resonator; a hit is a short half-sine of force whose duration is the time
of contact. Harder hits touch more briefly and so excite higher modes: brightness follows
velocity without being drawn by hand. Ringing carries over from hit to hit.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.kernel import kernel


@dataclass(frozen=True)
class Bank:
    """``frequency`` in Hz and ``t60`` in s, both ``(modes,)``; ``output`` is ``(modes, parts)``:
    how much of each mode each radiating part of the piece gives off."""

    frequency: NDArray[np.float64]
    t60: NDArray[np.float64]
    output: NDArray[np.float64]


def strike(
    bank: Bank,
    onsets: NDArray[np.float64],
    forces: NDArray[np.float64],
    contacts: NDArray[np.float64],
    positions: NDArray[np.float64],
    frames: int,
    rate: int,
) -> NDArray[np.float32]:
    """Sound of the bank, ``(parts, frames)``.

    Hits are given by ``onsets`` (fractional samples, ascending), peak ``forces``, ``contacts``
    (seconds) and ``positions`` ``(hits, modes)``, the share of each mode that the place of the
    hit excites.
    """
    usable = bank.frequency < 0.45 * rate
    radius = 10.0 ** (-3.0 / (bank.t60[usable] * rate))
    angle = 2 * np.pi * bank.frequency[usable] / rate
    # An impulse into 1 / (1 - 2 r cos w z^-1 + r² z^-2) rings with amplitude 1 / sin w.
    gain = np.sin(angle)
    return _ring(
        2 * radius * np.cos(angle),
        radius * radius,
        np.ascontiguousarray(bank.output[usable]),
        onsets,
        forces,
        contacts * rate,
        np.ascontiguousarray(positions[:, usable] * gain),
        frames,
    )


@kernel(fastmath=True)
def _ring(a1, a2, output, onsets, forces, contacts, positions, frames):  # type: ignore[no-untyped-def]
    modes, parts = output.shape
    y1 = np.zeros(modes)
    y2 = np.zeros(modes)
    out = np.zeros((parts, frames), np.float32)
    drive = np.zeros(modes)
    first = 0
    hits = len(onsets)
    quiet_until = 0
    for n in range(frames):
        if n < quiet_until:
            continue
        while first < hits and n > onsets[first] + contacts[first] + 1:
            first += 1
        active = False
        s = first
        while s < hits and onsets[s] <= n:
            phase = (n - onsets[s]) / contacts[s]
            if phase < 1.0:
                if not active:
                    drive[:] = 0.0
                    active = True
                # Normalised to unit impulse, so that contact time shapes brightness alone.
                push = forces[s] * np.sin(np.pi * phase) * np.pi / (2.0 * contacts[s])
                for m in range(modes):
                    drive[m] += push * positions[s, m]
            s += 1
        for p in range(parts):
            total = 0.0
            for m in range(modes):
                total += output[m, p] * y1[m]
            out[p, n] = total
        if active:
            for m in range(modes):
                y = a1[m] * y1[m] - a2[m] * y2[m] + drive[m]
                y2[m] = y1[m]
                y1[m] = y
        else:
            for m in range(modes):
                y = a1[m] * y1[m] - a2[m] * y2[m]
                y2[m] = y1[m]
                y1[m] = y
        if n % 4096 == 0 and not active:
            loudest = 0.0
            for m in range(modes):
                loudest = max(loudest, abs(y1[m]))
            if loudest < 1e-8:
                y1[:] = 0.0
                y2[:] = 0.0
                # Nothing rings: go on at the next hit.
                quiet_until = frames if s >= hits else int(np.ceil(onsets[s]))
    return out
