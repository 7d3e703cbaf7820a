"""When strokes first arrive, and which of the soft ones are some, by how they begin."""

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.hits.arrival import first_arrival
from arkund.core.hits.believed import DOUBTFUL_DB, Onset
from arkund.core.hits.masked import CLEAR_DB, by_shape, own_place, shared_beginning, told_by_shape
from arkund.core.kit.roles import is_shell, piece_family

MANY_SOFT = 6
"""So many soft strokes, and most of what may be one, must begin as the drum's loud ones do for all
of them to be believed; fewer must each be as good as the same."""

THE_SAME = 0.85

CLEAR_ALONE_DB = 7.0
"""`DOUBTFUL_DB` for one that begins when nothing bleeds."""

BRIGHT_DB = 6.5
"""A tom under another drum is not alike, for the lows are that one's; so far over bleed in a bright
band of its nearest mic, it need not be."""

LEAST_ALIKE = 0.62
LEAST_ALIKE_OF_FEW = 0.82
"""A drum that is struck a few times is far more often heard by bleed than struck."""

MANY_LOUD = 12
"""Sure strokes from which on their shape can tell soft ones: a tom struck a few times, always with
the kick, begins as the kick does."""


MANY_ALONE = 6
"""So many strokes that begin when nothing bleeds tell how a drum's strokes begin."""


def arrivals_of(
    piece: str, onsets: list[Onset], ear: NDArray[np.float32], hop: int, rate: int
) -> list[tuple[float, Onset]]:
    """Onsets with their first arrivals in s, by time; of those that are not sure the ones whose
    shape tells."""
    reach = round(0.0014 * rate)
    share, later = 0.1, 4
    if not is_shell(piece):
        ear, share, later = without_drums(ear, rate), 0.3, 5

    def plain(onset: Onset) -> float:
        return first_arrival(
            ear, (onset.frame - 7) * hop, (onset.frame + later) * hop, reach, share
        )

    timed = [(plain(o), o) for o in onsets if o.trust == "sure"]
    beginning = None
    if is_shell(piece):
        # What begins when nothing bleeds is the drum's own, however little it exceeds bleed.
        known_ones = [(plain(o), o) for o in onsets if o.alone and o.trust in ("sure", "own")]
        clear = np.full(len(known_ones), CLEAR_DB)
        if len(known_ones) < MANY_ALONE or piece_family(piece) == "tom":
            known_ones = sorted({*known_ones, *timed}, key=lambda pair: pair[0])
            of_all = piece_family(piece) == "tom"
            clear = np.array([o.excess_db if of_all else o.clear_db for _, o in known_ones])
        beginning = shared_beginning(ear, rate, [at for at, _ in known_ones], clear)
    if beginning is not None:
        likely = [(told_by_shape(beginning, o.frame * hop, rate), o)
                  for o in onsets if o.trust not in ("sure", "own")]  # fmt: skip
        soft = [told for told, o in likely if o.trust == "soft"]
        known = len(timed) >= MANY_LOUD
        is_tom = piece_family(piece) == "tom" and len(timed) >= MANY_ALONE
        many = known and sum(map(bool, soft)) >= max(MANY_SOFT, len(soft) / 2)
        least = LEAST_ALIKE if known else LEAST_ALIKE_OF_FEW
        timed = [
            (own_place(beginning, o.frame * hop, at, rate), o)
            for at, o in timed
            if o.excess_db >= (CLEAR_ALONE_DB if o.alone else DOUBTFUL_DB)
            or (is_tom and o.clear_db >= BRIGHT_DB and o.excess_db >= BRIGHT_DB - 1.5)
            or (found := by_shape(beginning, o.frame * hop, rate)) is None
            or found.alike >= least
        ]
        for onset in (o for o in onsets if o.trust == "own"):
            found = by_shape(beginning, onset.frame * hop, rate)
            if found and found.alike >= (THE_SAME - 0.05 if onset.alone else THE_SAME):
                timed.append((own_place(beginning, onset.frame * hop, plain(onset), rate), onset))
        for told, onset in likely:
            if told is None:
                if many and onset.trust == "soft":
                    at = own_place(beginning, onset.frame * hop, plain(onset), rate)
                    timed.append((at, onset))
            elif (
                many
                or onset.trust == "perhaps"
                or (known and onset.trust == "soft" and told.alike >= THE_SAME)
            ):
                timed.append((told.at, onset))
    return sorted(((at / rate, o) for at, o in timed), key=lambda pair: pair[0])


def without_drums(audio: NDArray[np.float32], rate: int) -> NDArray[np.float32]:
    """What is left above 5 kHz, where a cymbal is heard to begin though a drum just did."""
    highpass = scipy.signal.butter(4, min(5000.0, 0.36 * rate), "highpass", fs=rate, output="sos")
    high: NDArray[np.float32] = scipy.signal.sosfilt(highpass, audio).astype(np.float32)
    return high
