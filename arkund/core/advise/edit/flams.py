"""Edit: kick and snare that were meant as one and sound like a flam, and what makes them one again.

Two ways are tried on the sound. The kick's own mics follow the snare, as far as overheads and rooms let
that go unheard; or a clean hit of both from elsewhere in the song is laid over the flam in all mics.
"""

from collections import defaultdict
from collections.abc import Iterator, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from arkund.core.advise.edit.timing import kick_alone_ms
from arkund.core.advise.finding import Change, Finding, Way
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.graph.hits import copy_of, played_hits
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import parse_mic_name
from arkund.core.measure.attacks import attacks
from arkund.core.replace.matching import matches
from arkund.core.units import db_to_amplitude

NAME = "edit"
TOGETHER_S = 0.03
"""Hits closer than this were meant together."""

APART_S = 0.008
"""From here on two hits meant as one are heard as two."""

CLEAN_S = 0.004
"""Kick and snare no further apart are one hit, which may stand in for a flam."""

MOST_TRIED, MOST_HEARD = 8, 24
WORTH_MOVING_MS = 2.0
AROUND_S = 0.08


class Flam(NamedTuple):
    """A kick and a snare that were meant as one."""

    kick: Hit
    snare: Hit

    @property
    def gap_s(self) -> float:
        """Positive where the kick is late."""
        return self.kick.time_s - self.snare.time_s


def find(study: Study, subject: str, school: School) -> list[Finding]:
    """Flams of kick and snare, bar by bar, each with what makes it one hit."""
    by_bar: dict[int, list[Flam]] = defaultdict(list)
    for flam in _flams(study.hits):
        by_bar[study.bar_of(flam.snare.time_s)].append(flam)
    return [_finding(study, bar, flams, school) for bar, flams in sorted(by_bar.items())]


def _flams(hits: Sequence[Hit]) -> Iterator[Flam]:
    """Kick and snare within `TOGETHER_S` but `APART_S` or more from each other. Of the snare accents count:
    a ghost beside a kick is heard as nothing of its own, and its level is the kick's."""
    kicks = [h for h in hits if h.piece == "kick" and h.kind != "ghost"]
    for snare in hits:
        if snare.piece != "snare" or snare.kind != "accent" or not kicks:
            continue
        flam = Flam(min(kicks, key=lambda k: abs(k.time_s - snare.time_s)), snare)
        if APART_S <= abs(flam.gap_s) <= TOGETHER_S:
            yield flam


def _finding(study: Study, bar: int, flams: Sequence[Flam], school: School) -> Finding:
    gap_ms = 1000 * max((f.gap_s for f in flams), key=abs)
    sure = np.mean([min(f.kick.confidence, f.snare.confidence) for f in flams])
    confidence = float(np.clip(0.6 + 0.4 * sure, 0, 0.98))
    many = f", {len(flams)} times" if len(flams) > 1 else ""
    said = (
        f"Bar {bar}: the kick is {abs(gap_ms):.1f} ms {'late' if gap_ms > 0 else 'early'} against the "
        f"snare{many} and sounds like a flam."
    )
    alone, makes_one = _kick_alone(study, flams)
    clean = _clean_hit(study, flams)
    ways = [w for w in ((alone, clean) if makes_one or not clean else (clean, alone)) if w]
    if not ways:
        said += (
            " The kick is too loud in overheads and rooms to be moved alone, and no clean hit of both is "
            "in the song: take the bar from another take."
        )
    return Finding(
        NAME,
        "apart",
        f"bar {bar}",
        f"{said} {ways[0].said}" if ways else said,
        {"gap_ms": round(gap_ms, 1), "pairs": len(flams), "bar": bar},
        confidence,
        ways[0].proposal if ways else {},
        ways[0].gain if ways else {},
        mic=study.close("kick")[0],
        bars=(bar, bar),
        others=ways[1:],
        asks=bool(ways) and (ways[0] is clean or school.timing == "untouched"),
    )


def _kick_alone(study: Study, flams: Sequence[Flam]) -> tuple[Way | None, bool]:
    """The kick's own mics moved to the snare, and whether every flam is one attack then."""
    limit, under = kick_alone_ms(study)
    if limit < WORTH_MOVING_MS or study.sheet.timing.kick_alone_ms >= limit:
        return None, False
    widest = 1000 * max(abs(f.gap_s) for f in flams)
    left = round(max(widest - limit, 0.0), 1)
    makes_one = all(_is_one(study, f.snare.time_s, _way_s(f, limit)) for f in flams)
    after = "It sounds as one hit then" if makes_one else f"{left:.0f} ms remain"
    way = Way(
        "kick's mics alone",
        f"Moving the kick's own mics by up to {limit:.0f} ms goes unheard: overheads and rooms have the "
        f"kick {under:.0f} dB lower. {after}. This applies to every such flam.",
        {"timing.kick_alone_ms": limit},
        {"gap_ms": Change(round(widest, 1), left)},
    )
    return way, makes_one


def _way_s(flam: Flam, limit_ms: float) -> float:
    return float(np.clip(-flam.gap_s, -limit_ms / 1000, limit_ms / 1000))


def _clean_hit(study: Study, flams: Sequence[Flam]) -> Way | None:
    """A clean hit of kick and snare laid over every flam, in all mics; None where one has none."""
    sheet = study.sheet
    played = played_hits(sheet, study.hits_of)
    by_id = {h.id: h for h in played}
    kicks = np.array([h.time_s for h in played if h.piece == "kick"])
    copies, places, gaps = [], [], []
    for flam in flams:
        target = by_id.get(flam.snare.id)
        chosen = target and _stand_in(study, target, played, kicks)
        if not target or not chosen:
            return None
        copies.append(copy_of(chosen, target.time_s, sheet, study.hits_of))
        places.append(study.grid.place(chosen.time_s))
        gaps.append(1000 * float(np.abs(kicks - chosen.time_s).min()))
    named = " and ".join(dict.fromkeys(places))
    return Way(
        "a clean hit",
        f"The clean hit at {named} can replace it in all mics.",
        {"copies": [c.model_dump(mode="json") for c in (*sheet.copies, *copies)]},
        {"gap_ms": Change(round(1000 * max(abs(f.gap_s) for f in flams), 1), round(max(gaps), 1))},
    )


def _stand_in(
    study: Study, target: Hit, played: Sequence[Hit], kicks: NDArray[np.float64]
) -> Hit | None:
    """The snare most like ``target`` that falls with a kick and is heard as one with it."""
    tried = 0
    for match in matches(target, played):
        if np.abs(kicks - match.hit.time_s).min() > CLEAN_S:
            continue
        if _is_one(study, match.hit.time_s):
            return match.hit
        tried += 1
        if tried == MOST_TRIED:
            break
    return None


def _is_one(study: Study, at_s: float, kick_s: float = 0.0) -> bool:
    """Whether a moment has no more attacks than a snare of this song usually has: some kits answer a
    single hit with two, and overheads that were not moved yet hear each hit once more."""
    usual: float = study.remember("attacks of a snare", lambda: _usual(study))
    return _attacks_at(study, at_s, kick_s) <= usual


def _usual(study: Study) -> float:
    kicks = np.array([h.time_s for h in study.hits_on("kick")])
    apart = [
        (h, float(np.abs(kicks - h.time_s).min(initial=1.0)))
        for h in study.hits_on("snare")
        if h.kind == "accent"
    ]
    clean = [h for h, gap in apart if gap <= CLEAN_S or gap > 2 * TOGETHER_S][:MOST_HEARD]
    return float(np.median([_attacks_at(study, h.time_s) for h in clean] or [1]))


def _attacks_at(study: Study, at_s: float, kick_s: float = 0.0) -> int:
    sound = _kit_at(study, at_s, kick_s)
    return len(attacks(sound, study.rate, len(sound) // 2))


def _kit_at(study: Study, at_s: float, kick_s: float = 0.0) -> NDArray[np.float32]:
    """The kit's mics added up as they are balanced, around a time in s; the kick's own mics ``kick_s``
    later than they are."""
    middle, reach = round(at_s * study.rate), round(AROUND_S * study.rate)
    own = set(study.close("kick"))
    out = np.zeros(2 * reach, np.float32)
    for mic in study.mics:
        settings = study.sheet.mics[mic]
        # A room is late by the way of its sound, which no hit can help.
        if settings.mute or parse_mic_name(mic).role == "room":
            continue
        first = middle - reach - (round(kick_s * study.rate) if mic in own else 0)
        sound = study.engine.read(study.graph.mics[mic].placed, first, first + 2 * reach)
        out += np.float32(db_to_amplitude(settings.fader_db)) * sound
    return out


def _reads(sheet: object, subject: str) -> list[object]:
    levels = [
        (m.fader_db, m.mute, m.trim_db, m.polarity, m.delay_samples)
        for m in sheet.mics.values()  # type: ignore[attr-defined]
    ]
    return [sheet.tempo, sheet.timing, sheet.copies, sheet.comp, levels]  # type: ignore[attr-defined]


MODULE = Module(NAME, "edit", 4, lambda sheet: ["kit"], _reads, find)
