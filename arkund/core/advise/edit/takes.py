"""Edit: what the takes say of each other."""

from collections.abc import Sequence

import numpy as np

from arkund.core.advise.finding import Finding
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.graph.nodes import File
from arkund.core.hits.confidence import LIKELY
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import is_shell, label

NAME = "edit"
SAME_PLACE_S = 0.06
"""Two takes play the same hit when it falls within this of each other."""

SILENT_BY = 0.25
"""Share of a hit's usual peak under which it was not played."""

RIDDEN_PER_BAR = 1.5


def find(study: Study, subject: str, school: School) -> list[Finding]:
    """What the takes say of each other."""
    return [*_dropped(study), *_cymbals(study)]


def _dropped(study: Study) -> list[Finding]:
    """Hits that all other takes play and one does not, confirmed on its own close mic."""
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
                    f"{len(missing)} hit{'s' if len(missing) > 1 else ''} dropped in take "
                    f"{take}: a {label(h.piece)} in bar {bar}{more}, which the other takes play.",
                    {
                        "hits": len(missing),
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
                    f"Take {take} rides {what} in the {section.name} from bar {section.start_bar}: "
                    f"{rate[take]:.1f} hat hits a bar, {min(rest):.1f} in the other takes. A join into "
                    "or out of it is heard.",
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
    return [sheet.tempo, sheet.sections]  # type: ignore[attr-defined]


MODULE = Module(NAME, "edit", 4, lambda sheet: ["kit"], _reads, find)
