"""What is known of a song, as plain data: the command line prints it, pages show it."""

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import Any

from arkund.core.errors import ArkundError
from arkund.core.graph.hits import sounding_hits
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import is_shell, parse_mic_name
from arkund.core.sheet.lanes import mic_order
from arkund.core.sheet.sheet import Sheet
from arkund.songs import lately, revisions, storage
from arkund.songs.analysed import NOT_THERE, analysis_of
from arkund.songs.models import Song
from arkund.songs.timing import sheet_of


def show(song: Song) -> dict[str, Any]:
    sheet = sheet_of(song)
    return {
        "song": song.slug,
        "tempo_bpm": sheet.tempo.bpm,
        "rate": sheet.rate,
        "mics": [
            {
                "mic": m,
                "file": sheet.mics[m].file,
                "role": sheet.mics[m].role,
                "piece": parse_mic_name(m).piece,
            }
            for m in mic_order(sheet)
        ],
        "takes": [t.number for t in sheet.takes],
        "sections": [s.model_dump() for s in sheet.sections],
        "revision": song.current.number if song.current else None,
    }


@dataclass(frozen=True)
class MicFacts:
    """What was measured of a mic in the take that sounds: the name its file came under, its
    measures, and how loud each piece is in it (dBFS)."""

    mic: str
    file_name: str
    measures: Mapping[str, Any]
    heard: Mapping[str, float]


def mic_files(sheet: Sheet) -> list[MicFacts]:
    """Facts of all mics in mic order, of the take that sounds."""
    found = analysis_of(sheet.take)
    return [
        MicFacts(
            m,
            found.files.get(m, sheet.mics[m].file),
            found.measures.get(m, NOT_THERE),
            found.heard.get(m, {}),
        )
        for m in mic_order(sheet)
    ]


def measures(song: Song) -> dict[str, Any]:
    sheet = sheet_of(song)
    return {
        "mics": [
            {"mic": f.mic, "role": sheet.mics[f.mic].role, **f.measures} for f in mic_files(sheet)
        ]
    }


def hits_of(sheet: Sheet) -> Sequence[Hit]:
    """The hits that are heard, in the song's time."""
    return lately.made("hits", sheet, lambda: sounding_hits(sheet, storage.library()))


def hits_for(sheet: Sheet, name: str) -> list[Hit]:
    """The hits by which a channel is judged: of a close mic its drum's, of another the snare's; of a group those
    of its mics' drums, of a bus all shells'; all where there are none of these."""
    listed = list(hits_of(sheet))
    if name in sheet.mics:
        piece = parse_mic_name(name).piece
        own = [h for h in listed if h.piece == piece]
        return own or [h for h in listed if h.piece == "snare"] or listed
    inside = {m.name.piece for m in sheet.mics.values() if m.to == name} - {None}
    own = [h for h in listed if h.piece in inside]
    return own or [h for h in listed if is_shell(h.piece)] or listed


def hits(song: Song, take: int) -> dict[str, Any]:
    sheet = sheet_of(song)
    found = next((t for t in sheet.takes if t.number == take), None)
    if found is None:
        have = ", ".join(str(t.number) for t in sheet.takes)
        raise ArkundError(f"There is no take {take}. Takes: {have}.")
    listed = storage.load_hits(found.hits) if found.hits else ()
    return {
        "take": take,
        "hits": [
            {
                "id": h.id,
                "piece": h.piece,
                "time_s": h.time_s,
                "velocity": h.velocity,
                "kind": h.kind,
                "confidence": h.confidence,
            }
            for h in listed
        ],
    }


def pairs(song: Song) -> dict[str, Any]:
    sheet = sheet_of(song)
    return {"pairs": [asdict(p) for p in analysis_of(sheet.take).pairs]}


def log(song: Song) -> dict[str, Any]:
    return {
        "revisions": [
            {
                "id": r.number,
                "parent": r.parent.number if r.parent else None,
                "label": r.label,
                "reason": r.reason,
                "station": r.station,
                "measures": r.measures,
            }
            for r in revisions.log(song)
        ],
        "current": song.current.number if song.current else None,
    }
