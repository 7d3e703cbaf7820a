"""A band that moves with level: a bell or shelf that is let in as far as a detector says.

Let in wholly it is the band of its full ``range_db``, to the bit as that is matched; let in by half its dB
it changes the level there by half. The change is ``y = x + share · (H − 1) x``, H being the whole band: H has
no phase at a bell's middle and none far out on a shelf, so the level there is what the share says, and
nothing has to be designed anew while it moves.

The detector is the *straight* compressor's (`shape/compressor.py`): above the threshold the band moves by the
overshoot less its ratio's part, up to its range, up or down as the range says.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.shape import biquad, compressor
from arkund.core.shape.sides import louder_side


@dataclass(frozen=True)
class Settings:
    """``section`` is the band at its whole range of ``range_db`` (up or down, not 0), ``detector`` when and
    how fast it moves, ``by_key`` whether what it hears is a key or its own band's sound."""

    section: biquad.Section
    range_db: float
    detector: compressor.Settings
    by_key: bool = False


def static_move_db(level_db: NDArray[np.float64], s: Settings) -> NDArray[np.float64]:
    """How far in dB ``(n,)`` steady levels ``(n,)`` dBFS of what it listens to move the band."""
    over = compressor.static_reduction_db(level_db, s.detector)
    return np.sign(s.range_db) * np.minimum(over, abs(s.range_db))


def size(channels: int) -> int:
    """How many values a band's state has for so many channels."""
    return 2 * channels + 1


def memory(s: Settings, rate: int) -> int:
    """Samples after which what went in before no longer matters."""
    return biquad.memory([s.section]) + compressor.memory(s.detector, rate)


def run(
    audio: NDArray[np.float32],
    key: NDArray[np.float32] | None,
    s: Settings,
    rate: int,
    state: NDArray[np.float64],
) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """``audio`` ``(frames,)`` or ``(frames, 2)`` with the band moved, and by how much, in dB ``(frames,)``.

    ``key`` ``(frames,)`` or ``(frames, 2)`` is what the detector hears where it listens to one; both sides
    move together. ``state`` of `size` values is carried on.
    """
    part = band_alone(audio, s, state[:-1].reshape(-1, 2))
    heard = key if s.by_key and key is not None else part
    reductions = compressor.reductions(louder_side(heard), s.detector, rate, state[-1:])
    moves = np.minimum(reductions, np.float32(abs(s.range_db)))
    if s.range_db < 0:
        moves = -moves
    change = np.expm1(moves * np.float32(np.log(10) / 20))
    return audio + part * (change if audio.ndim == 1 else change[:, None]), moves


def band_alone(
    audio: NDArray[np.float32], s: Settings, state: NDArray[np.float64]
) -> NDArray[np.float32]:
    """What the band acts on, its shape like ``audio``'s: at its middle (far out on a shelf) as loud as that."""
    b0, b1, b2, a1, a2 = s.section
    whole = 10 ** (s.range_db / 20) - 1
    section = ((b0 - 1) / whole, (b1 - a1) / whole, (b2 - a2) / whole, a1, a2)
    return biquad.run_sides(audio, [section], state)
