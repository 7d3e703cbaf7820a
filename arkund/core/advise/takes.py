"""Edit: what the takes say of each other, and strokes meant together but played apart."""

from collections import defaultdict
from collections.abc import Sequence

import numpy as np

from arkund.core.advise.finding import Change, Finding
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.advise.timing import kick_alone_ms
from arkund.core.hits.confidence import LIKELY
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import is_shell, label
from arkund.core.mix.nodes import File

NAME = "edit"
TOGETHER_S = 0.03
"""Strokes closer than this were meant together."""

APART_S = 0.008
"""From here on two strokes meant as one are heard as two."""

SAME_PLACE_S = 0.06
"""Two takes play the same stroke when it falls within this of each other."""

SILENT_BY = 0.25
"""Share of a stroke's usual peak under which it was not played."""

WORTH_MOVING_MS = 2.0
RIDDEN_PER_BAR = 1.5


def find(study: Study, subject: str, school: School) -> list[Finding]:
    """What the takes say of each other, and of strokes meant together."""
    return [*_apart(study), *_dropped(study), *_cymbals(study)]


def _apart(study: Study) -> list[Finding]:
    """Kick and snare within `TOGETHER_S` but `APART_S` or more from each other, bar by bar. Of the snare
    accents count: a ghost beside a kick is heard as nothing of its own, and its level is the kick's."""
    kicks = [h for h in study.strokes("kick") if h.kind != "ghost"]
    snares = [h for h in study.strokes("snare") if h.kind == "accent"]
    by_bar: dict[int, list[tuple[float, float]]] = defaultdict(list)
    for s in snares:
        near = min(kicks, key=lambda k: abs(k.time_s - s.time_s), default=None)
        if near is None:
            continue
        gap = near.time_s - s.time_s
        if APART_S <= abs(gap) <= TOGETHER_S:
            by_bar[study.bar_of(s.time_s)].append((gap, min(near.confidence, s.confidence)))
    out = []
    for bar, pairs in sorted(by_bar.items()):
        gap = max((g for g, _ in pairs), key=abs)
        sure = float(np.mean([c for _, c in pairs]))
        who = "after" if gap > 0 else "before"
        many = f", {len(pairs)} times" if len(pairs) > 1 else ""
        remedy, patch, left = _remedy(study, gap)
        out.append(
            Finding(
                NAME,
                "apart",
                f"bar {bar}",
                f"{abs(gap) * 1000:.1f} ms between kick and snare in bar {bar}{many}: the kick "
                f"falls {who} the snare, and they are heard as two. {remedy}",
                {"gap_ms": round(gap * 1000, 1), "pairs": len(pairs), "bar": bar},
                float(np.clip(0.6 + 0.4 * sure, 0, 0.98)),
                patch,
                {"gap_ms": Change(round(abs(gap) * 1000, 1), left)} if patch else {},
                mic=study.close("kick")[0],
                bars=(bar, bar),
            )
        )
    return out


def _remedy(study: Study, gap_s: float) -> tuple[str, dict[str, float], float]:
    """Words, change and what is left of a gap in ms, if the kick's mics follow the snare as far
    as the kick in overheads and rooms lets that go unheard."""
    limit, under = kick_alone_ms(study)
    allowed = study.sheet.timing.kick_alone_ms
    if limit < WORTH_MOVING_MS or allowed >= limit:
        return (
            "The snare leads, but the kick is too loud in overheads and rooms to be moved further "
            "alone: replace one of the two, or take the bar from another take.",
            {},
            0.0,
        )
    left = round(max(abs(gap_s) * 1000 - limit, 0.0), 1)
    return (
        f"The snare leads; the kick's own mics can follow by {limit:.0f} ms unheard, for overheads "
        f"and rooms hear the kick {under:.0f} dB under them. It holds for every such pair.",
        {"timing.kick_alone_ms": limit},
        left,
    )


def _dropped(study: Study) -> list[Finding]:
    """Strokes that all other takes play and one does not, confirmed on its own close mic."""
    if len(study.takes) < 3:
        return []
    out = []
    for take, facts in study.takes.items():
        others = [study.takes[n] for n in study.takes if n != take]
        first = next(n for n in study.takes if n != take)
        missing: list[Hit] = []
        for piece in {h.piece for h in others[0].hits if is_shell(h.piece)}:
            own = _times(facts.hits, piece)
            rest = [_times(o.hits, piece) for o in others[1:]]
            for h in others[0].hits:
                if h.piece != piece or h.kind == "ghost" or h.confidence < LIKELY:
                    continue
                if _near(own, h.time_s) or not all(_near(r, h.time_s) for r in rest):
                    continue
                if _is_silent(study, take, first, piece, h.time_s):
                    missing.append(h)
        missing.sort(key=lambda h: h.time_s)
        if missing:
            h = missing[0]
            bar = study.bar_of(h.time_s)
            more = f" and {len(missing) - 1} more" if len(missing) > 1 else ""
            out.append(
                Finding(
                    NAME,
                    "dropped",
                    f"take {take}",
                    f"{len(missing)} stroke{'s' if len(missing) > 1 else ''} dropped in take "
                    f"{take}: a {label(h.piece)} in bar {bar}{more}, which the other takes play.",
                    {
                        "strokes": len(missing),
                        "bar": bar,
                        "piece": h.piece,
                        "places_s": [round(m.time_s, 3) for m in missing],
                    },
                    0.9,
                    mic=study.close(h.piece)[0],
                    bars=(bar, bar),
                )
            )
    return out


def _times(hits: Sequence[Hit], piece: str) -> np.ndarray:
    return np.array([h.time_s for h in hits if h.piece == piece])


def _near(times: np.ndarray, at: float) -> bool:
    return bool(len(times)) and float(np.min(np.abs(times - at))) < SAME_PLACE_S


def _is_silent(study: Study, take: int, other: int, piece: str, at: float) -> bool:
    """Whether the piece's close mic stays under `SILENT_BY` of what the other take plays there."""
    mics = study.close(piece)
    sounding = next(t for t in study.sheet.takes if t.number == take)
    usual = next(t for t in study.sheet.takes if t.number == other)
    if not mics or mics[0] not in sounding.sources or mics[0] not in usual.sources:
        return False
    peaks, rises = [], []
    for t in (sounding, usual):
        source = t.sources[mics[0]]
        node = File(study.library.path_of(source.sha256), source.sha256, source.pick)
        middle = round(at * study.rate)
        reach = round(0.035 * study.rate)
        sound = np.abs(study.engine.read(node, middle - 2 * reach, middle + 2 * reach))
        before, after = float(sound[:reach].max()), float(sound[reach:].max())
        peaks.append(after)
        rises.append(after / (before + 1e-9))
    # A ringing drum is not silent, but it does not rise either.
    return peaks[0] < SILENT_BY * peaks[1] or (rises[0] < 1.2 and rises[1] > 2.0)


def _cymbals(study: Study) -> list[Finding]:
    """Sections in which one take leaves the hat that the others ride."""
    if len(study.takes) < 2 or not study.close("hat"):
        return []
    grid = study.grid
    out = []
    for section in study.sheet.sections:
        start = grid.bar_start_s(section.start_bar)
        stop = grid.bar_start_s(section.start_bar + section.bars)
        rate = {
            n: sum(
                start <= h.time_s < stop and h.confidence >= LIKELY and h.level_db > -20
                for h in f.hits
                if h.piece == "hat"
            )
            / section.bars
            for n, f in study.takes.items()
        }
        for take in rate:
            rest = [rate[n] for n in rate if n != take]
            if min(rest) < RIDDEN_PER_BAR or rate[take] > 0.4 * min(rest):
                continue
            what = _ridden(study, take, start, stop, section.bars)
            bars = (section.start_bar, section.start_bar + 1)
            out.append(
                Finding(
                    NAME,
                    "cymbal",
                    f"take {take}",
                    f"{rate[take]:.1f} hat strokes a bar in take {take}'s {section.name} from bar "
                    f"{section.start_bar}, {min(rest):.1f} in the other takes: it rides {what} "
                    "there. A join into or out of it is heard.",
                    {
                        "hat_per_bar": round(rate[take], 2),
                        "others_per_bar": round(min(rest), 2),
                        "section": section.name,
                        "start_bar": section.start_bar,
                    },
                    0.85,
                    mic="hat",
                    bars=bars,
                )
            )
    return out


def _ridden(study: Study, take: int, start: float, stop: float, bars: int) -> str:
    # A cymbal without a mic of its own is not told from the others well enough to be named.
    counts = {
        p: sum(start <= h.time_s < stop for h in study.takes[take].hits if h.piece == p) / bars
        for p in study.pieces
        if p.startswith(("ride", "crash"))
    }
    best = max(counts, key=lambda p: counts[p], default=None)
    if best is None or counts[best] < RIDDEN_PER_BAR:
        return "another cymbal"
    return f"the {label(best)}"


def _reads(sheet: object, subject: str) -> list[object]:
    levels = [(m.fader_db, m.mute, m.trim_db) for m in sheet.mics.values()]  # type: ignore[attr-defined]
    return [sheet.tempo, sheet.sections, sheet.timing, levels]  # type: ignore[attr-defined]


MODULE = Module(NAME, "edit", 3, lambda sheet: ["kit"], _reads, find)
