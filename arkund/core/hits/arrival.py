"""When sound first arrives: the foot of the rise, to a sample."""

import numpy as np
from numpy.typing import NDArray


def first_arrival(
    audio: NDArray[np.float32], start: int, stop: int, reach: int = 67, share: float = 0.1
) -> float:
    """Sample at which the loudest onset between ``start`` and ``stop`` first stirs.

    The split that best parts a quiet run from a loud one (Akaike's criterion over two variances,
    after Maeda, 1985), taken on the signal's first difference, which lets the stick stand out
    from slow bleed, up to its steepest moment. ``reach`` is how many samples a rise may take; what stirs before
    and stays below ``share`` of the loudest moment's energy is something else.
    """
    start, stop = max(start, 0), min(stop, len(audio))
    if stop - start < 16:
        return float(start)
    steps = np.diff(audio[start:stop].astype(np.float64))
    smooth = np.convolve(steps * steps, np.ones(8), "same")
    peak = int(np.argmax(smooth))
    end = min(peak + 4, len(steps))
    if end < 12:
        return float(start)
    # Bleed may stir before. The foot of the loudest onset is one from which the sound soon
    # comes near its peak; an earlier one belongs to something else.
    enough = share * smooth[peak]
    begin, foot = 0, 0
    for _ in range(4):
        if end - begin < 12:
            return float(start + min(begin, peak))
        foot = begin + _best_split(steps[begin:end])
        if smooth[foot : foot + reach].max() >= enough:
            break
        begin = foot + reach // 3
    return float(start + foot)


def _best_split(x: NDArray[np.float64]) -> int:
    """k that minimises k ln var(x[:k]) + (N-k) ln var(x[k:])."""
    count = len(x)
    power = np.cumsum(x * x)
    k = np.arange(4, count - 2)
    before = power[k - 1] / k
    after = (power[-1] - power[k - 1]) / (count - k)
    criterion = k * np.log(before + 1e-16) + (count - k) * np.log(after + 1e-16)
    return int(k[np.argmin(criterion)])
