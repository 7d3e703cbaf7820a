"""The hits that only overheads, or one mic of the whole kit, hear: found, told apart and timed."""

from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.choose.choosing import LIKELY, likeliest
from arkund.core.hits.choose.hits import Chosen
from arkund.core.hits.hear.arrival import first_arrival
from arkund.core.hits.hear.spectra import BANDS, Spectra
from arkund.core.hits.hit import SAME_HIT_S
from arkund.core.hits.weigh.afar import FAMILIES, Afar, Known
from arkund.core.hits.weigh.arrivals import without_drums
from arkund.core.kit.roles import is_shell, piece_family

TOLD = ("kick", "snare", "hat", "crash", "ride")
"""Families that are reported. Toms are told from the others, and not from one another."""

CYMBALS = ("crash", "ride")
TELLING = {
    "kick": slice(0, 3),
    "snare": slice(3, 11),
    "hat": slice(10, BANDS),
    "crash": slice(8, BANDS),
    "ride": slice(8, BANDS),
}
"""Bands by which a hit's level is told."""

EARLIER, LATER, SHARE = 7, {True: 6, False: 5}, {True: 0.1, False: 0.2}
"""How many frames about a drum's (or a cymbal's) onset its beginning is looked for, and which share of
its loudest moment counts as begun."""

SIDES, APART_DB, OF_WITHIN, FURTHEST_DB, PER_SIDE = slice(3, 5), 2.2, 2.0, 12.0, 2
"""Two crashes hang on two sides: the `afar.COARSE` bands by which that is told, how far apart they are
at least, in dB and against how far each strays, and how many hits each must have; further to one
side than so far is no further."""


def overheard(afar: Afar, known: Mapping[str, Known]) -> dict[str, list[Chosen]]:
    """Hits by piece, in order of time, of all families of which no piece is ``known``.

    ``known`` are the hits of each piece with a mic of its own. What is a crash or a ride and may be
    either is a *cymbal*.
    """
    share = afar.share(known)
    miced = {piece_family(piece) for piece in known}
    out: dict[str, list[Chosen]] = {}
    with ThreadPoolExecutor(2) as pool:
        high = list(pool.map(lambda ear: without_drums(ear, afar.rate), afar.ears))
    for family in TOLD:
        if family in miced:
            continue
        column = share[:, FAMILIES.index(family)]
        likely = column > LIKELY
        if family in CYMBALS:
            # One hand is on one of the two.
            likely &= column >= share[:, [FAMILIES.index(f) for f in CYMBALS]].max(axis=1)
        chosen = likeliest(afar.times_s, column, likely, SAME_HIT_S)
        hits = _timed(afar, family, chosen, column, afar.ears[:1] if is_shell(family) else high)
        pieces = _crashes(afar.heard, chosen) if family == "crash" else [family] * len(chosen)
        for piece, hit in zip(pieces, hits, strict=True):
            out.setdefault(piece, []).append(hit)
    if not miced & set(CYMBALS):
        two = share[:, [FAMILIES.index(f) for f in CYMBALS]]
        either = 1 - (1 - two).prod(axis=1)
        chosen = likeliest(
            afar.times_s, either, (either > LIKELY) & (two.max(axis=1) <= LIKELY), SAME_HIT_S
        )
        if chosen:
            out["cymbal"] = _timed(afar, "crash", chosen, either, high)
    return {piece: sorted(hits, key=lambda s: s.time_s) for piece, hits in out.items()}


def _timed(
    afar: Afar,
    family: str,
    chosen: Sequence[int],
    share: NDArray[np.float64],
    ears: Sequence[NDArray[np.float32]],
) -> list[Chosen]:
    """Hits from the ``chosen`` onsets, timed by where the first of ``ears`` hears each begin."""
    shell = is_shell(family)
    level = 10 * np.log10(afar.heard.energy["early"][:, TELLING[family]].mean(axis=1))
    out = []
    for i in chosen:
        frame = int(afar.frames[i])
        start, stop = (frame - EARLIER) * afar.hop, (frame + LATER[shell]) * afar.hop
        at = min(first_arrival(ear, start, stop, share=SHARE[shell]) for ear in ears)
        out.append(Chosen(at / afar.rate, float(level[i]), float(share[i])))
    return out


def _crashes(heard: Spectra, chosen: Sequence[int]) -> list[str]:
    """``crash_1``, and ``crash_2`` for the one further right where two places stand out.

    By what rings on, for drums that are struck with a crash are silent by then: along the line on
    which its places differ most, the widest gap parts the two.
    """
    place = np.clip(heard.ringing_db[list(chosen), SIDES], -FURTHEST_DB, FURTHEST_DB)
    if len(place) < 2 * PER_SIDE or not np.isfinite(place).all():
        return ["crash_1"] * len(place)
    away = place - place.mean(axis=0)
    along = away @ np.linalg.svd(away, full_matrices=False)[2][0]
    order = np.argsort(along)
    gaps = np.diff(along[order][PER_SIDE - 1 : len(order) - PER_SIDE + 1])
    first, second = np.split(order, [int(np.argmax(gaps)) + PER_SIDE])
    within = np.sqrt(
        (along[first].var() * len(first) + along[second].var() * len(second)) / len(order)
    )
    if gaps.max() < max(APART_DB, OF_WITHIN * within):
        return ["crash_1"] * len(place)
    right = second if place[first].mean() > place[second].mean() else first
    return ["crash_2" if n in set(right) else "crash_1" for n in range(len(place))]
