"""When sound first arrives: the foot of the rise, to a sample."""

import numpy as np
from numpy.typing import NDArray

from arkund.core.kernel import kernel


def first_arrival(
    audio: NDArray[np.float32], start: int, stop: int, reach: int = 67, share: float = 0.1
) -> float:
    """Sample at which the loudest onset of ``audio`` ``(frames,)`` between ``start`` and ``stop`` first stirs.

    The split that best parts a quiet run from a loud one (Akaike's criterion over two variances,
    after Maeda, 1985), taken on the signal's first difference, which lets the stick stand out
    from slow bleed, up to its steepest moment. ``reach`` is how many samples a rise may take; what stirs before
    and stays below ``share`` of the loudest moment's energy is something else.
    """
    start, stop = max(start, 0), min(stop, len(audio))
    if stop - start < 16:
        return float(start)
    return float(start + _foot(audio[start:stop].astype(np.float64), reach, share))


@kernel()
def _foot(sound, reach, share):  # type: ignore[no-untyped-def]
    count = len(sound) - 1
    steps = np.diff(sound)
    smooth = np.zeros(count)
    for n in range(count):
        # Eight squares about each step, as a running mean that keeps its length.
        for k in range(max(n - 3, 0), min(n + 5, count)):
            smooth[n] += steps[k] * steps[k]
    peak = int(np.argmax(smooth))
    end = min(peak + 4, count)
    if end < 12:
        return 0
    # Bleed may stir before. The foot of the loudest onset is one from which the sound soon
    # comes near its peak; an earlier one belongs to something else.
    enough = share * smooth[peak]
    begin, foot = 0, 0
    for _ in range(4):
        if end - begin < 12:
            return min(begin, peak)
        foot = begin + _best_split(steps[begin:end])
        if smooth[foot : foot + reach].max() >= enough:
            break
        begin = foot + reach // 3
    return foot


@kernel()
def _best_split(x):  # type: ignore[no-untyped-def]
    """k that minimises k ln var(x[:k]) + (N-k) ln var(x[k:])."""
    count = len(x)
    total = 0.0
    for value in x:
        total += value * value
    before, best, at = 0.0, np.inf, 4
    for k in range(1, count - 2):
        before += x[k - 1] * x[k - 1]
        if k < 4:
            continue
        after = total - before
        criterion = k * np.log(before / k + 1e-16) + (count - k) * np.log(
            max(after, 0.0) / (count - k) + 1e-16
        )
        if criterion < best:
            best, at = criterion, k
    return at
