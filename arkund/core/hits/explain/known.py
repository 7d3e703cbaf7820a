"""What is known of kits before any is heard: how loud a piece may be in another's mics, how few lows
a cymbal has, how soon a drum is silent in the overheads.

Where two pieces always fall together nothing in the song tells which of them a level belongs to;
these bounds do.
"""

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.explain.heard import Heard
from arkund.core.hits.explain.ownership import rows_of
from arkund.core.hits.hear.novelty import BANDS, BRIGHT
from arkund.core.kit.roles import is_shell, piece_family

BLEEDS_DB = {
    ("kick", True): -15.0,
    ("snare", True): -13.0,
    ("tom", True): -13.0,
    ("cymbal", True): -18.0,
    ("kick", False): -16.0,
    ("snare", False): -9.0,
    ("tom", False): -13.0,
    ("cymbal", False): -9.0,
}
"""What a piece is taken to leave in another's mics, against that other's own loud hits, where
the two always fall together: nothing then tells which of them a level belongs to, but a cymbal a
metre away is not as loud in a drum's mic as the drum."""

CYMBAL_LOW_DB = -14.0
"""The most that a cymbal leaves below `BRIGHT` in a drum's mic, against the drum's loudest."""


def kind_of(piece: str) -> str:
    """What kind of piece it is where only kinds are known: a drum's family, or *cymbal*."""
    return piece_family(piece) if is_shell(piece) else "cymbal"


def most_of_cymbal(theirs: NDArray[np.int64], heard: Heard, amount: float) -> NDArray[np.float64]:
    """The most that a cymbal leaves in each row of a drum's mics: below 1.2 kHz far less than the
    drum's loudest hits, whatever always falls together with it."""
    loudest = np.sort(heard.scaled[theirs], axis=1)[:, -4:].mean(axis=1)
    low = theirs % BANDS < BRIGHT
    return np.where(low, 10 ** (CYMBAL_LOW_DB / 10) * loudest / amount, np.inf)


RINGS_DB = -9.0
"""What still rings of a drum in the overheads, at most, against its beginning there: what rings
more is a cymbal's that falls together with it."""


def most_ringing(heard: Heard, column: NDArray[np.float64]) -> NDArray[np.float64]:
    """The most that a drum with this signature ``(rows,)`` leaves in each of the ringing rows."""
    begins = np.concatenate([rows_of([m])[-2:] for m in heard.overheads])
    energy = column[begins] * heard.scale[begins]
    out: NDArray[np.float64] = energy * 10 ** (RINGS_DB / 10) / heard.scale[heard.ringing]
    return out


LOWS_DB = {"hat": (-16.0, -8.0, -2.0), "other": (-12.0, -4.0)}
"""The most that cymbals hold in the lowest bands, a hat against its two brightest bands, others
against their loudest of the upper four, as a drum's mic hears them."""


def as_cymbals_sound(
    piece: str, leak: NDArray[np.float64], scale: NDArray[np.float64], band: NDArray[np.int64]
) -> NDArray[np.float64]:
    """A cymbal's leak ``(rows,)`` into the rows of a drum's mics with no more lows than cymbals have: where
    drums always fall together with it, theirs were taken for its own."""
    energy, out = leak * scale, leak.copy()
    lows = LOWS_DB.get(piece, LOWS_DB["other"])
    for first in np.flatnonzero(band == 0):
        own = energy[first : first + BANDS]
        upper = own[-2:].sum() if piece == "hat" else own[2:].max()
        for low, most_db in enumerate(lows):
            most = upper * 10 ** (most_db / 10)
            out[first + low] = min(leak[first + low], most / scale[first + low])
    return out
