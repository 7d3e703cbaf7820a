"""What the engineer's own changes did, in figures: each heard before and after, over the bars where it shows."""

from typing import Any

import numpy as np

from arkund.core.advise.goal import GHOSTS, GOALS, LOW_LEVEL, MONO, NOISE, figures, hits_in
from arkund.core.measure.punch import punch_card
from arkund.core.render.engine import Engine
from arkund.core.sheet.sheet import Sheet
from arkund.core.sheet.tempo import grid_of
from arkund.core.units import amplitude_to_db
from arkund.songs.facts import hits_of
from arkund.songs.models import Revision, Song
from arkund.songs.passages import passages_of
from arkund.songs.rendering import render_span

LEAST_DB = 0.1
"""Less than this is no figure."""

LONGEST_S = 10.0
MOST = 3
LEVELS = ("peak_dbfs", "loudness_lufs")
TOLD = (GHOSTS, "cymbals over snare", NOISE, MONO)
BARS = "bars"
"""Key of the bars that were measured, stored beside the figures."""


def unmeasured(song: Song, most: int) -> list[Revision]:
    """The latest changes of a hand that have no figures yet, the latest first."""
    by_hand = song.revisions.filter(finding="", measures={}, parent__isnull=False)
    return list(by_hand.exclude(patch={}).select_related("parent").order_by("-number")[:most])


def measure(revision: Revision, engine: Engine | None = None) -> dict[str, Any]:
    """Measure a change, store its figures with it and return them: of the mix's levels and of the punch card those that
    moved most, ``[before, after]`` each, and the ``bars`` that were heard."""
    assert revision.parent is not None
    before, now = revision.parent.sheet, revision.sheet
    first, last = _passage(now, revision)
    start, stop = grid_of(now).frames_of_bars(first, last, now.rate)
    stop = min(stop, start + round(LONGEST_S * now.rate), now.frames, before.frames)
    found: dict[str, Any] = {BARS: f"{first}-{last}"}
    if stop - start > now.rate // 2:
        found |= _moved(before, now, (start, stop), engine)
    Revision.objects.filter(pk=revision.pk).update(measures=found)
    return found


def _passage(sheet: Sheet, revision: Revision) -> tuple[int, int]:
    """The bars over which a value differs now; else where the one drum that a change is about plays loudest, or the
    snare or the kick."""
    differing = [over for over in sheet.over if f"over.{over.id}" in _entries(revision)]
    if differing:
        return differing[0].spans[0]
    pieces = {
        mic.name.piece for name, mic in sheet.mics.items() if f"mics.{name}" in _entries(revision)
    }
    own = [piece for piece in pieces if piece] if len(pieces) == 1 else []
    for piece in (*own, "snare", "kick"):
        loudest = passages_of(sheet, piece).loudest
        if loudest is not None:
            return loudest.first, loudest.last
    return 1, 4


def _entries(revision: Revision) -> set[str]:
    """The entries of tables that a change is about: ``mics.snare_top``, ``over.d1``."""
    return {".".join(path.split(".")[:2]) for path in revision.change}


def _is_told(name: str) -> bool:
    """Of a drum its attack and its low end; others of the card follow these."""
    is_ring = name.endswith("under attack")
    return (name.endswith((" attack", LOW_LEVEL)) and not is_ring) or name in TOLD


def _moved(
    before: Sheet, now: Sheet, span: tuple[int, int], engine: Engine | None
) -> dict[str, list[float]]:
    start, stop = span
    sounds = [
        render_span(sheet, "output", "now", start, stop, engine=engine) for sheet in (before, now)
    ]
    rate = now.rate
    inside = [h for h in hits_of(now) if start <= h.time_s * rate < stop]
    hits = hits_in(inside, (start / rate, stop / rate), fewest=1)
    then, after = (punch_card(sound, rate, hits) for sound in sounds)
    peaks = [amplitude_to_db(float(np.abs(sound).max(initial=0.0))) for sound in sounds]
    pairs = {
        LEVELS[0]: (peaks[0], peaks[1]),
        LEVELS[1]: (then.loudness_lufs, after.loudness_lufs),
        **{
            f.name: (f.recorded, f.now)
            for f in figures(then, after, GOALS["size"])
            if _is_told(f.name)
        },
    }
    apart = {name: abs(b - a) for name, (a, b) in pairs.items()}
    moved = [name for name in sorted(apart, key=lambda n: -apart[n]) if apart[name] >= LEAST_DB]
    return {name: [round(one, 1) for one in pairs[name]] for name in moved[:MOST]}
