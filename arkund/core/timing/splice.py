"""Where a splice is heard least: the place and the jump at which sound goes on most like itself."""

import numpy as np
from numpy.typing import NDArray

from arkund.core.kernel import kernel

NEAR_S = 0.002
"""Both ends of a fade keep so far from whatever ticks by itself."""


def best_splice(
    sound: NDArray[np.float32],
    jumps: NDArray[np.int64],
    fade: int,
    span: tuple[int, int],
    rate: int,
) -> tuple[int, int] | None:
    """``(place, jump)`` of the splice that changes least, or None where there is no room.

    ``sound`` is ``(frames, 2)``; what comes in after a splice at ``place`` goes on from there, and
    what went out would have gone on at ``place + jump``, one of ``jumps``, over the ``fade``
    samples before. Both stay within the ``span`` of samples. Among all places that one is taken
    whose two sounds differ least in energy over the fade (Verhelst and Roelands, 1993), weighted
    by how much bends stand out at its ends. Raises `ValueError` for a span outside the sound.
    """
    if not 0 <= span[0] <= span[1] < len(sound):
        raise ValueError(f"{span} does not lie within {len(sound)} samples")
    edge = _restless(sound, rate)
    place, jump = _search(sound, edge, jumps, fade, *span)
    return (int(place), int(jump)) if place >= 0 else None


def _restless(sound: NDArray[np.float32], rate: int) -> NDArray[np.float64]:
    """By how much the largest bend within `NEAR_S` of each sample exceeds what is usual in it,
    squared; at least 1."""
    near = _largest_bend(sound, round(NEAR_S * rate))
    return np.maximum(near / (np.median(near[::16]) + 1e-12), 1.0) ** 2


@kernel()
def _largest_bend(sound, near):  # type: ignore[no-untyped-def]
    """The largest second difference, sides added, within ``near`` samples of each."""
    n = len(sound)
    bend = np.zeros(n)
    for i in range(1, n - 1):
        for side in range(2):
            bend[i] += abs(
                float(sound[i - 1, side]) - 2.0 * sound[i, side] + float(sound[i + 1, side])
            )
    out = np.empty(n)
    # Places of ever smaller bends ahead: the first of them is the largest in the window.
    kept = np.empty(n, np.int64)
    first, count = 0, 0
    for i in range(n + near):
        if i < n:
            while count > first and bend[kept[count - 1]] <= bend[i]:
                count -= 1
            kept[count] = i
            count += 1
        if i >= near:
            while kept[first] < i - 2 * near:
                first += 1
            out[i - near] = bend[kept[first]]
    return out


@kernel()
def _search(sound, edge, jumps, fade, low, high):  # type: ignore[no-untyped-def]
    """Place and jump of the least cost; place −1 where no jump has room."""
    best, place, jump = np.inf, -1, 0
    for j in jumps:
        lowest = low + fade + max(-j, 0)
        highest = high - max(j, 0)
        if highest <= lowest:
            continue
        energy = 0.0
        for n in range(lowest - fade, lowest):
            for side in range(2):
                energy += (float(sound[n, side]) - sound[n + j, side]) ** 2
        for p in range(lowest, highest + 1):
            b = p - fade
            worst = max(edge[b], edge[p], edge[b + j], edge[p + j])
            cost = (max(energy, 0.0) + 1e-12) * worst
            if cost < best:
                best, place, jump = cost, p, j
            for side in range(2):
                energy += (float(sound[p, side]) - sound[p + j, side]) ** 2
                energy -= (float(sound[b, side]) - sound[b + j, side]) ** 2
    return place, jump
