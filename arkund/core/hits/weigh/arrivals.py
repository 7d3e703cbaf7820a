"""When an onset first arrives in a piece's mic, and how the drum's hits begin."""

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.hits.explain.believed import Onset
from arkund.core.hits.hear.arrival import first_arrival
from arkund.core.hits.hear.masked import CLEAR_DB, Beginning, shared_beginning
from arkund.core.hits.hear.slowed import Slowed
from arkund.core.kit.roles import is_shell, piece_family

MANY_ALONE = 6
"""So many hits that begin when nothing bleeds tell how a drum's hits begin."""

EARLIER_FRAMES, REACH_S = 7, 0.0014
LATER_FRAMES, SHARE = {True: 4, False: 5}, {True: 0.1, False: 0.3}
"""How far about the frame of a drum's (or a cymbal's) onset it is looked for, and which share of its
loudest moment counts as begun."""


def arrival_of(piece: str, frame: int, ear: NDArray[np.float32], hop: int, rate: int) -> float:
    """First arrival in samples of an onset at a frame in ``ear`` ``(frames,)``, of a cymbal's mic what
    `without_drums` leaves."""
    shell = is_shell(piece)
    start, stop = (frame - EARLIER_FRAMES) * hop, (frame + LATER_FRAMES[shell]) * hop
    return first_arrival(ear, start, stop, round(REACH_S * rate), SHARE[shell])


def shape_of(piece: str, onsets: list[tuple[float, Onset]], ear: Slowed) -> Beginning | None:
    """How a drum's hits begin, from what is taken to be some of its ``onsets``, each with its first
    arrival in samples; None of cymbals, and where too few tell."""
    if not is_shell(piece):
        return None
    # What begins when nothing bleeds is the drum's own, however little it exceeds bleed.
    known = [(at, o) for at, o in onsets if o.alone and o.trust in ("sure", "own")]
    clear = np.full(len(known), CLEAR_DB)
    of_all = piece_family(piece) == "tom"
    if len(known) < MANY_ALONE or of_all:
        sure = [(at, o) for at, o in onsets if o.trust == "sure"]
        known = sorted({*known, *sure}, key=lambda pair: pair[0])
        clear = np.array([o.excess_db if of_all else o.clear_db for _, o in known])
    return shared_beginning(ear, [at for at, _ in known], clear)


def without_drums(audio: NDArray[np.float32], rate: int) -> NDArray[np.float32]:
    """What is left above 5 kHz of ``(frames,)``, where a cymbal is heard to begin though a drum just did."""
    highpass = scipy.signal.butter(4, min(5000.0, 0.36 * rate), "highpass", fs=rate, output="sos")
    high: NDArray[np.float32] = scipy.signal.sosfilt(highpass, audio).astype(np.float32)
    return high
