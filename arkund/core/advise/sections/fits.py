"""A gate that fits one section and not another: what it drops there, and the bars in which it opens on hits instead."""

from collections import defaultdict
from collections.abc import Mapping

from arkund.core.advise.clean.proposing import hits_through
from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.sections.more import STATION
from arkund.core.advise.study import Study
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import label, parse_mic_name
from arkund.core.sheet.sheet import Section, Sheet

NAME = "fits"

FEWEST_HITS, FEWEST_DROPPED = 6, 3
DROPS, SPARES = 0.12, 0.03
"""A section loses at least this share of its hits while another loses no more than that."""


def find(study: Study, mic: str, school: School) -> list[Finding]:
    """A mic's gate that opens by level, where it drops hits of one section and hardly any of another."""
    clean = study.sheet.mics[mic].clean
    heard = _by_section(study, hits_through(study, mic, clean))
    shares = {
        name: sum(not through for _, through in hits) / len(hits)
        for name, hits in heard.items()
        if len(hits) >= FEWEST_HITS
    }
    if len(shares) < 2:
        return []
    worst, best = max(shares, key=lambda n: shares[n]), min(shares, key=lambda n: shares[n])
    dropped = [hit for hit, through in heard[worst] if not through]
    if len(dropped) < FEWEST_DROPPED or shares[worst] < DROPS or shares[best] > SPARES:
        return []
    on_hits = clean.model_copy(update={"opens_on": "hits"})
    after = _by_section(study, hits_through(study, mic, on_hits))[worst]
    then = sum(not through for _, through in after)
    if then >= len(dropped):
        return []
    sections = [one for one in study.sheet.sections if called(one) == worst]
    ghosts = sum(hit.kind == "ghost" for hit in dropped)
    counted = f"{len(dropped)} of {len(heard[worst])} hits" + (
        f", {ghosts} of them ghosts" if ghosts else ""
    )
    return [
        Finding(
            NAME,
            "drops",
            mic,
            spoken(
                f"In the {worst} the gate of {label(mic)} drops {counted}; in the {best} "
                f"{round(shares[best] * len(heard[best]))} of {len(heard[best])}. Opening on hits in the bars of the "
                f"{worst} alone drops {then}."
            ),
            {"dropped": len(dropped), "hits": len(heard[worst])},
            0.85,
            _patch(study.sheet, mic, sections),
            {"dropped": Change(len(dropped), then)},
            mic=mic,
            bars=(sections[0].start_bar, sections[0].start_bar + sections[0].bars - 1),
            asks=True,
        )
    ]


def called(section: Section) -> str:
    """A section by its name without its number: both verses are the verse."""
    return section.name.lower().rstrip(" 0123456789")


def _by_section(
    study: Study, heard: list[tuple[Hit, bool]]
) -> Mapping[str, list[tuple[Hit, bool]]]:
    """Hits by the name of the section in which they lie."""
    out: dict[str, list[tuple[Hit, bool]]] = defaultdict(list)
    for hit, through in heard:
        if section := section_of(study, hit):
            out[called(section)].append((hit, through))
    return out


def section_of(study: Study, hit: Hit) -> Section | None:
    """The section in which a hit lies; None outside all."""
    bar = study.bar_of(hit.time_s)
    return next(
        (one for one in study.sheet.sections if one.start_bar <= bar < one.start_bar + one.bars),
        None,
    )


def _patch(sheet: Sheet, mic: str, sections: list[Section]) -> dict[str, object]:
    taken = {one.id for one in sheet.over}
    free = next(name for n in range(1, 1000) if (name := f"fit{n}") not in taken)
    bars = ", ".join(f"{one.start_bar}-{one.start_bar + one.bars - 1}" for one in sections)
    return {f"over.{free}": {"path": f"mics.{mic}.clean.opens_on", "bars": bars, "value": "hits"}}


def _subjects(sheet: Sheet) -> list[str]:
    """Mics of drums whose gate opens by level and is the same throughout."""
    differs = {over.path.split(".")[1] for over in sheet.over if ".clean." in over.path}
    return [
        name
        for name, mic in sheet.mics.items()
        if sheet.sections
        and mic.clean.on
        and mic.clean.opens_on == "threshold"
        and not (mic.unused or mic.mute)
        and parse_mic_name(name).piece
        and name not in differs
    ]


def _reads(sheet: Sheet, mic: str) -> list[object]:
    return [sheet.mics, sheet.sections, sheet.over]


MODULE = Module(NAME, STATION, 1, _subjects, _reads, find)
