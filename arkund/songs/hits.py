"""Corrections of the hit list by ear: strokes added, taken away, reclassed, nudged."""

import uuid
from typing import Any

from arkund.core.errors import ArkundError
from arkund.core.hits.arrival import first_arrival
from arkund.core.hits.detect import hit_id
from arkund.core.kit.roles import label, sort_pieces
from arkund.core.mix.laying import laid_at
from arkund.core.mix.sheet import Sheet, Take
from arkund.core.mix.strokes import played_hits
from arkund.songs import revisions, storage
from arkund.songs.models import Revision, Song
from arkund.songs.studies import study_of

REACH_S = 0.012
"""How exactly a place must be pointed at for its first arrival to be found."""

KINDS = ("accent", "plain", "ghost", "flam", "roll")


def known_pieces(sheet: Sheet) -> list[str]:
    """Pieces that have a mic or a stroke."""
    close = {m.name.piece for m in sheet.mics.values()}
    struck = {h.piece for h in played_hits(sheet, storage.load_hits)}
    return sort_pieces({p for p in close | struck if p})


def correct(song: Song, base: int, ids: list[str], change: dict[str, Any]) -> Revision:
    """Keep what was said of some strokes. ``change`` has any of ``gone``, ``piece``, ``kind``,
    ``velocity`` and ``nudge_s`` (added to each one's time). Raises `ArkundError` where a stroke is
    not in the list or nothing is said."""
    sheet = _sheet(song)
    played = {h.id: h for h in played_hits(sheet, storage.load_hits)}
    if missing := [i for i in ids if i not in played]:
        raise ArkundError(f"{len(missing)} of the strokes are no longer in the hit list; the page "
                          "shows the present ones after a reload.")  # fmt: skip
    said = {k: change[k] for k in ("gone", "piece", "kind", "velocity") if k in change}
    nudge = float(change.get("nudge_s", 0.0))
    if not ids or not (said or nudge):
        raise ArkundError("Choose strokes and say what is to be changed about them.")
    patch: dict[str, Any] = {}
    for name in ids:
        hit = played[name]
        number, take, in_file = _take_at(sheet, hit.time_s)
        name = name.partition("-")[0]  # a copy is what it was copied from
        before = take.corrections.get(name)
        entry = before.model_dump(exclude_defaults=True) if before else {}
        entry |= said
        if nudge:
            entry["time_s"] = round(max(in_file + nudge, 0.0), 6)
        added = before is not None and not any(
            h.id == name for h in (storage.load_hits(take.hits) if take.hits else ())
        )
        # A stroke that an ear added and an ear takes away leaves nothing behind.
        patch[f"takes.{number}.corrections.{name}"] = None if added and entry.get("gone") else entry
    what = _words(said, nudge)
    first = played[ids[0]]
    which = label(first.piece) if len({played[i].piece for i in ids}) == 1 else "strokes"
    many = f"{len(ids)} × {which}" if len(ids) > 1 else which
    return revisions.keep(song.pk, base, patch, label=f"{many}: {what}", station="edit")


def add(song: Song, base: int, piece: str, heard_s: float, kind: str = "plain") -> Revision:
    """Keep a stroke that was missed, heard at a time of the song as it sounds now."""
    sheet = _sheet(song)
    if piece not in known_pieces(sheet):
        names = ", ".join(label(p) for p in known_pieces(sheet))
        raise ArkundError(f"The kit has no {label(piece)}. Pieces: {names}.")
    at = study_of(sheet).before_moves_s(heard_s)
    if not 0 <= at <= sheet.frames / sheet.rate:
        raise ArkundError("A stroke can only be added within the song.")
    at = _first_arrival(sheet, piece, at)
    number, take, in_file = _take_at(sheet, at)
    in_file = round(in_file, 6)
    name = hit_id(piece, in_file)
    if any(h.id == name for h in played_hits(sheet, storage.load_hits)):
        raise ArkundError(f"There is a {label(piece)} stroke at that very place already.")
    if take.hits and any(h.id == name for h in storage.load_hits(take.hits)):
        name = uuid.uuid4().hex[:10]
    entry = {"piece": piece, "time_s": in_file, "kind": kind}
    return revisions.keep(
        song.pk, base, {f"takes.{number}.corrections.{name}": entry},
        label=f"{label(piece)}: {kind} stroke added at {heard_s:.3f} s", station="edit",
    )  # fmt: skip


def _first_arrival(sheet: Sheet, piece: str, near_s: float) -> float:
    """The foot of the rise near a time in the piece's close mic; the time itself without one."""
    study = study_of(sheet)
    if not study.close(piece):
        return near_s
    before, after = round(REACH_S * sheet.rate), round(2 * REACH_S * sheet.rate)
    at = round(near_s * sheet.rate)
    sound = study.engine.read(study.joined(study.close(piece)[0]), at - before, at + after)
    found = first_arrival(sound, 0, len(sound), round(0.0014 * sheet.rate))
    return near_s + (found - before) / sheet.rate


def _sheet(song: Song) -> Sheet:
    if song.current is None:
        raise ArkundError("The song is still being made.")
    return song.current.sheet


def _take_at(sheet: Sheet, seconds: float) -> tuple[int, Take, float]:
    """Place in the sheet and the take that sounds at a time before moves, and that time in the
    take's file."""
    # A stroke at the very border of two stretches was rounded to the microsecond.
    sounding = laid_at(sheet, (seconds + 1e-6) * sheet.rate)
    number, take = next((n, t) for n, t in enumerate(sheet.takes) if t.number == sounding.take)
    return number, take, seconds + (take.offset - sounding.shift) / sheet.rate


def _words(said: dict[str, Any], nudge: float) -> str:
    parts = []
    if said.get("gone"):
        parts.append("taken out of the hit list")
    if "piece" in said:
        parts.append(f"is a {label(said['piece'])}")
    if "kind" in said:
        parts.append(f"is {'an' if said['kind'] == 'accent' else 'a'} {said['kind']}")
    if "velocity" in said:
        parts.append(f"velocity {said['velocity']}")
    if nudge:
        parts.append(f"nudged by {nudge * 1000:+.1f} ms".replace("-", "−"))
    return ", ".join(parts)
