"""Clean by hand on a stored song: regions from a gate, and what a hand does to them."""

from dataclasses import asdict
from types import MappingProxyType
from typing import Any, Literal

from arkund.core.advise.clean import gate
from arkund.core.advise.study import Study
from arkund.core.clean import regions
from arkund.core.clean.rule import GateRule
from arkund.core.errors import ArkundError
from arkund.core.graph.hits import Hits
from arkund.core.graph.sources import gate_rule
from arkund.core.kit.roles import label
from arkund.core.sheet.channels import Mic
from arkund.core.sheet.paths import Patch
from arkund.core.units import samples_to_ms
from arkund.songs import findings, revisions
from arkund.songs.models import Revision, Song
from arkund.songs.timing import sheet_of

STATION = "clean"
What = Literal["derive", "edge", "split", "join", "draw", "remove"]
SAID = {
    "edge": "Region edge moved",
    "split": "Region split",
    "join": "Regions joined",
    "draw": "Region drawn",
    "remove": "Region removed",
}


def derive(song: Song, mic: str, *, base: int | None = None) -> Revision:
    """Regions where a mic's gate opens, or would open as it is proposed; those that a hand has set stay.
    From then on the mic passes by its regions; one whose drum is never hit passes nothing until
    regions are drawn. Raises `ArkundError`."""
    mine = _close_mic(song, mic)
    study = findings.study_of_song(song)
    proposed = _proposed(song, study, mine, mic)
    kept = regions.derived_around(_derived(study.tried(proposed), mic), mine.clean.spans)
    count = f"{len(kept)} region{'' if len(kept) == 1 else 's'}" if kept else "No regions yet"
    return _keep(song, mic, regions.named(kept), f"{count} on {label(mic)}", base, proposed)


def _proposed(song: Song, study: Study, mine: Mic, mic: str) -> Patch:
    """The gate that is proposed for a mic whose gate is off and has no regions; else nothing."""
    if mine.clean.on or mine.clean.spans:
        return {}
    prefix = f"mics.{mic}.clean."
    found = gate.find(study, mic, findings.school_of_song(song))
    gates = (f.proposal for f in found if f.proposal.get(f"{prefix}on"))
    return {path: v for path, v in next(gates, {}).items() if path.startswith(prefix)}


def edit(
    song: Song,
    mic: str,
    what: What,
    region: str = "",
    *,
    at: int = 0,
    stop: int = 0,
    edge: Literal["in", "out"] = "in",
    base: int | None = None,
) -> Revision:
    """What a hand does to a region of a mic; places in samples. Raises `ArkundError`."""
    if what == "derive":
        return derive(song, mic, base=base)
    mine = _close_mic(song, mic)
    spans = _named_spans(mine)
    made = {
        "edge": lambda: regions.with_edge(spans, region, edge, at),
        "split": lambda: regions.with_split(spans, region, at),
        "join": lambda: regions.with_joined(spans, region),
        "draw": lambda: regions.with_drawn(
            spans, at, stop, _rule(findings.study_of_song(song), mine).timing
        ),
        "remove": lambda: regions.without(spans, region),
    }[what]()
    return _keep(song, mic, made, f"{SAID[what]} on {label(mic)}", base)


def described(song: Song, mic: str) -> list[dict[str, Any]]:
    """The regions of a mic as they are, else as they would be derived."""
    study = findings.study_of_song(song)
    mine, rate = study.sheet.mics[mic], study.rate
    proposed = study.tried(_proposed(song, study, mine, mic))
    spans = _named_spans(mine) or regions.named(_derived(proposed, mic))
    return [
        {
            "id": name,
            "at_s": round(s.at / rate, 4),
            "stop_s": round(s.stop / rate, 4),
            "fade_in_ms": round(samples_to_ms(s.fade_in, rate), 2),
            "fade_out_ms": round(samples_to_ms(s.fade_out, rate), 2),
            "gain_db": s.gain_db,
            "by_hand": s.by_hand,
        }
        for name, s in sorted(spans.items(), key=lambda one: one[1].at)
    ]


def _close_mic(song: Song, mic: str) -> Mic:
    song.refresh_from_db()
    found = sheet_of(song).mics.get(mic)
    if found is None or found.name.piece is None:
        raise ArkundError("Regions belong to close mics; choose kick, snare, a tom, hat or ride.")
    return found


def _named_spans(mic: Mic) -> dict[str, regions.Span]:
    return dict(
        zip(
            sorted(mic.clean.regions, key=lambda n: mic.clean.regions[n].at),
            mic.clean.spans,
            strict=True,
        )
    )


def _rule(study: Study, mic: Mic, opens_on: str = "hits") -> GateRule:
    clean = mic.clean.model_copy(update={"opens_on": opens_on})
    heard = [*study.hits, *study.unlisted]
    return gate_rule(mic.model_copy(update={"clean": clean}), study.rate, lambda: Hits(heard))


def _derived(study: Study, name: str) -> list[regions.Span]:
    """By the threshold where that is what opens the gate, else by the hits."""
    mic, frames = study.sheet.mics[name], study.sheet.frames
    if not mic.clean.on or mic.clean.opens_on != "threshold":
        rule = _rule(study, mic)
        return regions.derived(rule.openings([], frames), rule.timing, frames)
    rule = _rule(study, mic, "threshold")
    heard = study.engine.read(study.graph.node(f"{name}.clean.key"), 0, frames)
    return regions.derived(rule.openings([(0, heard)], frames), rule.timing, frames)


def _keep(
    song: Song,
    mic: str,
    spans: regions.Spans,
    words: str,
    base: int | None,
    besides: Patch = MappingProxyType({}),
) -> Revision:
    path = f"mics.{mic}.clean"
    stored = {name: asdict(span) for name, span in spans.items()}
    hand = {f"{path}.regions": stored, f"{path}.on": True, f"{path}.opens_on": "hand"}
    patch = {**besides, **hand}
    return revisions.keep(song.pk, _base(song, base), patch, label=words, station=STATION)


def _base(song: Song, base: int | None) -> int:
    assert song.current is not None
    return song.current.number if base is None else base
