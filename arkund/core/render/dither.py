"""Sound as whole steps of 24 bits, with triangular dither."""

import numpy as np
from numpy.typing import NDArray

from arkund.core.kernel import kernel


def dithered(
    sound: NDArray[np.float32], place: int, seed: np.uint32, steps: NDArray[np.int32]
) -> int:
    """Samples ``(n,)`` as steps of 2^-23 into ``steps`` ``(n,)``, held within 24 bits; digital silence stays
    silent. Returns how many samples are over full scale.

    The noise is the difference of two numbers evenly spread over one step (Lipshitz, Wannamaker and
    Vanderkooy 1992): the error's mean and power do not depend on the sound. ``place`` counts the samples
    before these in the file; noise of one place and ``seed`` is always the same.
    """
    return int(_dither(sound, place, seed, steps))


def packed(steps: NDArray[np.int32]) -> NDArray[np.uint8]:
    """Steps ``(n,)`` as three bytes each, the lowest first."""
    out = np.empty(steps.size * 3, np.uint8)
    _pack(steps, out)
    return out


@kernel(fastmath=True, error_model="numpy")
def _dither(sound, place, seed, steps):  # type: ignore[no-untyped-def]
    over = 0
    for n in range(len(sound)):
        # A number's place, hashed (the finish of MurmurHash3): no sample waits for the one before it, as
        # with a generator. Each step is cast, since numba makes 64 bits of two times 32.
        word = np.uint32(np.uint32(place + n) * np.uint32(0x9E3779B1)) ^ seed
        word = np.uint32(word ^ (word >> np.uint32(16)))
        word = np.uint32(word * np.uint32(0x85EBCA6B))
        word = np.uint32(word ^ (word >> np.uint32(13)))
        word = np.uint32(word * np.uint32(0xC2B2AE35))
        word = np.uint32(word ^ (word >> np.uint32(16)))
        apart = np.int32(word & np.uint32(0xFFFF)) - np.int32(word >> np.uint32(16))
        step = np.floor(np.float64(sound[n]) * 8388608.0 + apart * (1.0 / 65536.0) + 0.5)
        value = np.int32(min(max(step, -8388608.0), 8388607.0))
        steps[n] = value if sound[n] != np.float32(0.0) else np.int32(0)
        over += abs(sound[n]) > np.float32(1.0)
    return over


@kernel()
def _pack(steps, out):  # type: ignore[no-untyped-def]
    for n in range(len(steps)):
        out[3 * n] = steps[n] & 0xFF
        out[3 * n + 1] = (steps[n] >> 8) & 0xFF
        out[3 * n + 2] = (steps[n] >> 16) & 0xFF
