"""A sound in bands that add up to it."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from arkund.core.process.stage import Audio
from arkund.core.shape import biquad

SPLIT_Q = 0.5
"""Two real poles: neither the low-pass nor what is left over it rings, and the latter stays within 1.2 dB."""


class Split:
    """Bands between ``edges_hz`` (rising), at a rate; sides run by themselves.

    The lowest is a low-pass of 12 dB an octave, each next one the low-pass at its upper edge without what the
    lower ones have, the highest what is left. So they add up to what goes in whatever their edges, and a band that
    nobody changes changes nothing, phase included. The price is their slope upwards: 6 dB an octave.
    """

    def __init__(self, edges_hz: Sequence[float], rate: int) -> None:
        self.edges_hz = tuple(edges_hz)
        self.sections = [[biquad.match(biquad.low_pass_2(SPLIT_Q), hz, rate)] for hz in edges_hz]
        self.memory = max((biquad.memory(one) for one in self.sections), default=0)

    def size(self, channels: int) -> int:
        """Numbers in the state of so many sides."""
        return channels * sum(biquad.new_state(one).size for one in self.sections)

    def run(self, audio: Audio, state: NDArray[np.float64]) -> list[Audio]:
        """The bands of ``audio`` ``(frames,)`` or ``(frames, 2)`` from the lowest to the highest, each of its
        shape; ``state`` ``(size,)`` is carried on."""
        below, out, at = np.zeros((), np.float32), [], 0
        sides = 1 if audio.ndim == 1 else audio.shape[1]
        for sections in self.sections:
            size = sides * biquad.new_state(sections).size
            low = biquad.run_sides(audio, sections, state[at : at + size].reshape(-1, 2))
            out.append(low - below)
            below, at = low, at + size
        return [*out, audio - below]
