"""A drum's mics are one body: they stand to each other as they hear the drum, and move together.

How far apart two mics of one drum hear it is measured on the drum itself and bounded by its size; what
overheads say of either is measured over metres. So the body is settled first, from the sound as recorded,
and only the body is brought to the overheads. Polarity is no part of it: a mic that stands upside down
hears the drum just as late.
"""

from collections.abc import Iterable, Mapping, Sequence

from arkund.core.align.pairs import Pair
from arkund.core.kit.roles import piece_family
from arkund.core.units import SPEED_OF_SOUND_M_S

REACH_M = {"kick": 1.2}
OTHERS_REACH_M = 0.45
"""No two mics of one drum hear it farther apart than this: what asks for more heard something else."""

SCATTERED_S = 0.0001
"""Where single hits place two mics of one drum apart by so much more or less, their mean is no first arrival. (Of seven
such pairs on fifty worlds four were off by 0.3 to 4 ms; of 47 others one was, by more than 0.02.)"""


def farthest_samples(piece: str, rate: int) -> float:
    """The most samples at ``rate`` Hz by which two mics of a drum can hear it apart."""
    return REACH_M.get(piece_family(piece), OTHERS_REACH_M) / SPEED_OF_SOUND_M_S * rate


def offsets(
    pairs: Iterable[Pair], pieces: Mapping[str, Sequence[str]], rate: int
) -> dict[str, float]:
    """By how many samples each mic is shifted against the first of its piece (positive is later), so that
    both hear the piece at once.

    ``pieces`` are the close mics of each piece, nearest first; ``rate`` in Hz. A pair decides that is sure,
    no farther apart than two mics of one drum are, and told alike by single hits; without one the mic stays as
    it was recorded, at 0 against the first.
    """
    by_mic = {(p.piece, p.mic, p.reference): p for p in pairs}
    out: dict[str, float] = {}
    for piece, close in pieces.items():
        farthest = farthest_samples(piece, rate)
        for mic in close:
            pair = by_mic.get((piece, mic, close[0]))
            is_known = (
                pair is not None
                and pair.sure
                and abs(pair.delay_samples) <= farthest
                and pair.spread_samples <= SCATTERED_S * rate
            )
            out[mic] = -pair.delay_samples if pair is not None and is_known else 0.0
    return out
