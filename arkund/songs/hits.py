"""Corrections of the hit list by ear: hits added, taken away, reclassed, nudged."""

import uuid
from collections.abc import Mapping, Sequence
from typing import Any

from arkund.core.advise.study import Study
from arkund.core.errors import ArkundError
from arkund.core.exchange.tables import HitRow
from arkund.core.graph.hits import played_hits
from arkund.core.graph.laying import laid_at
from arkund.core.hits.hear.arrival import first_arrival
from arkund.core.hits.hit import Hit, hit_id
from arkund.core.kit.roles import label, sort_pieces
from arkund.core.sheet.sheet import Sheet, Take
from arkund.songs import lately, revisions, storage
from arkund.songs.models import Revision, Song
from arkund.songs.studies import study_of

CHOOSE = "Choose hits, and what to change about them."

REACH_S = 0.012
"""How exactly a place must be pointed at for its first arrival to be found."""


def known_pieces(sheet: Sheet) -> list[str]:
    """Pieces that have a mic or a hit."""

    def known() -> list[str]:
        close = {m.name.piece for m in sheet.mics.values()}
        struck = {h.piece for h in played_hits(sheet, storage.load_hits)}
        return sort_pieces({p for p in close | struck if p})

    return lately.made("pieces", sheet, known)


def correct(song: Song, base: int, ids: list[str], change: dict[str, Any]) -> Revision:
    """Keep what was said of some hits. ``change`` has any of ``gone``, ``piece``, ``kind``,
    ``velocity`` and ``nudge_s`` (added to each one's time). Raises `ArkundError` where a hit is
    not in the list or nothing is said."""
    sheet = _sheet(song)
    played = {h.id: h for h in played_hits(sheet, storage.load_hits)}
    if missing := [i for i in ids if i not in played]:
        raise ArkundError(
            f"{len(missing)} of the hits are no longer in the hit list; the page "
            "shows the present ones after a reload."
        )
    said: dict[str, Any] = {
        k: change[k] for k in ("gone", "piece", "kind", "velocity") if k in change
    }
    nudge = float(change.get("nudge_s", 0.0))
    if not ids or not (said or nudge):
        raise ArkundError(CHOOSE)
    patch: dict[str, Any] = {}
    if nudge:
        said["nudge_s"] = nudge
    for name in ids:
        path, patch[path] = _entry(sheet, played[name], said)
    said.pop("nudge_s", None)
    what = _words(said, nudge)
    first = played[ids[0]]
    which = label(first.piece) if len({played[i].piece for i in ids}) == 1 else "hits"
    many = f"{len(ids)} × {which}" if len(ids) > 1 else which
    return revisions.keep(song.pk, base, patch, label=f"{many}: {what}", station="edit")


def _entry(sheet: Sheet, hit: Hit, said: Mapping[str, Any]) -> tuple[str, dict[str, Any] | None]:
    """Path and value of a hit's correction with what is ``said`` of it added."""
    number, take, in_file = _take_at(sheet, hit.time_s)
    name = hit.id.partition("-")[0]  # a copy is what it was copied from
    before = take.corrections.get(name)
    entry = before.model_dump(exclude_defaults=True) if before else {}
    entry |= {k: v for k, v in said.items() if k != "nudge_s"}
    if nudge := said.get("nudge_s"):
        entry["time_s"] = round(max(in_file + nudge, 0.0), 6)
    added = before is not None and not any(
        h.id == name for h in (storage.load_hits(take.hits) if take.hits else ())
    )
    # A hit that an ear added and an ear takes away leaves nothing behind.
    nothing = added and entry.get("gone")
    return f"takes.{number}.corrections.{name}", None if nothing else entry


def add(song: Song, base: int, piece: str, heard_s: float, kind: str = "plain") -> Revision:
    """Keep a hit that was missed, heard at a time of the song as it sounds now."""
    sheet = _sheet(song)
    at = _place_of(sheet, piece, heard_s)
    at = _first_arrival(sheet, piece, at)
    number, take, in_file = _take_at(sheet, at)
    in_file = round(in_file, 6)
    name = hit_id(piece, in_file)
    if any(h.id == name for h in played_hits(sheet, storage.load_hits)):
        raise ArkundError(f"There is a {label(piece)} hit at that very place already.")
    if take.hits and any(h.id == name for h in storage.load_hits(take.hits)):
        name = uuid.uuid4().hex[:10]
    entry = {"piece": piece, "time_s": in_file, "kind": kind}
    return revisions.keep(
        song.pk,
        base,
        {f"takes.{number}.corrections.{name}": entry},
        label=f"{label(piece)}: {kind} hit added at {heard_s:.3f} s",
        station="edit",
    )


def _place_of(sheet: Sheet, piece: str, heard_s: float) -> float:
    """Where what is heard at a time lies before moves. Raises `ArkundError` for a piece that the kit does
    not have, and outside the song."""
    if piece not in known_pieces(sheet):
        names = ", ".join(label(p) for p in known_pieces(sheet))
        raise ArkundError(f"The kit has no {label(piece)}. Pieces: {names}.")
    at = study_of(sheet).before_moves_s(heard_s)
    if not 0 <= at <= sheet.frames / sheet.rate:
        raise ArkundError(f"{heard_s:.3f} s lies outside the song.")
    return at


def call_bleed(song: Song, base: int, piece: str, heard_s: float) -> Revision:
    """Keep that a moment of the song as it sounds now, heard in a piece's mic, is no hit of it. Raises
    `ArkundError`."""
    sheet = _sheet(song)
    number, _, in_file = _take_at(sheet, _place_of(sheet, piece, heard_s))
    entry = {"gone": True, "piece": piece, "time_s": round(in_file, 6)}
    return revisions.keep(
        song.pk,
        base,
        {f"takes.{number}.corrections.{uuid.uuid4().hex[:10]}": entry},
        label=f"{label(piece)}: bleed, no hit, at {heard_s:.3f} s",
        station="edit",
    )


MOST_A_SECOND = 40
"""More hits a second, on average over the song, than any kit is played with."""

SAME_TIME_S = 2e-6
"""Times are written to the microsecond."""


def take_over(song: Song, rows: Sequence[HitRow], name: str, base: int | None = None) -> Revision:
    """Make the hit list what a table says: hits that it knows by their ids are changed where it
    says otherwise, those without an id in the list are added, and those that it lacks are taken out.
    Times are as heard. Raises `ArkundError`, also where nothing differs."""
    sheet = _sheet(song)
    study = study_of(sheet)
    played = {h.id: h for h in played_hits(sheet, storage.load_hits) if "-" not in h.id}
    heard = {h.id: h for h in study.hits}
    most = round(MOST_A_SECOND * sheet.frames / sheet.rate) + MOST_A_SECOND
    if len(rows) > most:
        raise ArkundError(
            f"The file lists {len(rows)} hits; a song of {sheet.frames / sheet.rate:.0f} s has "
            f"{most} at most, {MOST_A_SECOND} a second."
        )
    # A copied hit is what it was copied from, and is said there.
    rows = [row for row in rows if row.id in played or row.id not in heard]
    kit = known_pieces(sheet)
    patch: dict[str, Any] = {}
    counts = {"changed": 0, "added": 0, "removed": 0}
    for row in rows:
        if row.piece not in kit:
            names = ", ".join(label(p) for p in kit)
            raise ArkundError(f"The kit has no {label(row.piece)}. Pieces: {names}.")
        hit = heard.get(row.id) if row.id in played else None
        if hit is None:
            path, patch[path] = _added(sheet, study, row)
            counts["added"] += 1
        else:
            differs = _difference(row, hit)
            if not differs:
                continue
            path, patch[path] = _entry(sheet, played[row.id], differs)
            counts["changed"] += 1
    for gone in played.keys() - {row.id for row in rows}:
        path, patch[path] = _entry(sheet, played[gone], {"gone": True})
        counts["removed"] += 1
    if not patch:
        raise ArkundError("The file says of every hit what the list says; nothing was changed.")
    words = ", ".join(f"{count} {what}" for what, count in counts.items() if count)
    assert song.current is not None
    number = song.current.number if base is None else base
    return revisions.keep(
        song.pk, number, patch, label=f"Hits from {name[:80]}: {words}", station="edit"
    )


def _difference(row: HitRow, hit: Hit) -> dict[str, Any]:
    """What a row says otherwise than the list; a moved time as ``nudge_s``."""
    said: dict[str, Any] = {}
    if row.piece != hit.piece:
        said["piece"] = row.piece
    if row.kind and row.kind != hit.kind:
        said["kind"] = row.kind
    if row.velocity is not None and row.velocity != hit.velocity:
        said["velocity"] = row.velocity
    if abs(row.time_s - hit.time_s) > SAME_TIME_S:
        said["nudge_s"] = row.time_s - hit.time_s
    return said


def _added(sheet: Sheet, study: Study, row: HitRow) -> tuple[str, dict[str, Any]]:
    at = study.before_moves_s(row.time_s)
    if not 0 <= at <= sheet.frames / sheet.rate:
        raise ArkundError(f"A hit at {row.time_s:.3f} s lies outside the song.")
    number, _, in_file = _take_at(sheet, at)
    entry = {"piece": row.piece, "time_s": round(in_file, 6), "kind": row.kind or "plain"}
    if row.velocity is not None:
        entry["velocity"] = row.velocity
    return f"takes.{number}.corrections.{uuid.uuid4().hex[:10]}", entry


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
    # A hit at the very border of two stretches was rounded to the microsecond.
    sounding = laid_at(sheet, (seconds + 1e-6) * sheet.rate)
    number, take = next((n, t) for n, t in enumerate(sheet.takes) if t.number == sounding.take)
    return number, take, seconds + (take.offset - sounding.shift) / sheet.rate


def _words(said: dict[str, Any], nudge: float) -> str:
    parts = []
    if said.get("gone"):
        parts.append("removed from the hit list")
    if "piece" in said:
        parts.append(f"is a {label(said['piece'])}")
    if "kind" in said:
        parts.append(f"is {'an' if said['kind'] == 'accent' else 'a'} {said['kind']}")
    if "velocity" in said:
        parts.append(f"velocity {said['velocity']}")
    if nudge:
        parts.append(f"nudged by {nudge * 1000:+.1f} ms".replace("-", "−"))
    return ", ".join(parts)
