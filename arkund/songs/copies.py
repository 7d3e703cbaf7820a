"""Bars and single hits copied over the song, in all mics at once."""

from collections.abc import Sequence
from itertools import pairwise
from typing import Any

from arkund.core.errors import ArkundError
from arkund.core.graph.hits import copy_of, played_hits, take_hits
from arkund.core.kit.roles import label
from arkund.core.sheet.sheet import Sheet, Take
from arkund.core.sheet.tempo import grid_of
from arkund.core.timing.copying import cut_before
from arkund.core.timing.grid import LAST_BAR
from arkund.songs import revisions, storage
from arkund.songs.models import Revision, Song
from arkund.songs.studies import study_of

LONGEST_SONG_S = 3600
MOST_TIMES = 400


def copy_bars(
    song: Song, base: int, take: int, first: int, last: int, to_bar: int, times: int = 1
) -> Revision:
    """Keep bars ``first`` to ``last`` of a take laid over the song from ``to_bar`` on, so many
    times in a row; the song grows where they go beyond its end.

    Cuts fall before the hits on the bar lines, of the copy and of what it covers. Raises
    `ArkundError` where the bars are not in the song or the copy would be another length there.
    """
    sheet = _sheet(song)
    source = _take(sheet, take)
    grid = grid_of(sheet)
    bars = last - first + 1
    if first < 1 or bars < 1 or not 1 <= to_bar <= LAST_BAR or not 1 <= times <= MOST_TIMES:
        raise ArkundError("Copying needs bars from 1 on, in order, and 1 to 400 times.")
    has = grid.bars_in(sheet.frames / sheet.rate)
    if last > has:
        raise ArkundError(f"The song has {has} bars; bar {last} cannot be copied.")
    own = take_hits(sheet, source, storage.load_hits)
    there = played_hits(sheet, storage.load_hits)
    start_s = grid.bar_start_s(first)
    lines = [grid.bar_start_s(to_bar + bars * n) for n in range(times + 1)]
    length_s = grid.bar_start_s(last + 1) - start_s
    for begin, end in pairwise(lines):
        if abs(end - begin - length_s) > 0.02 * length_s:
            raise ArkundError(
                "Those bars have another tempo or meter than where they are to go; "
                "copy to bars of the same length."
            )
    lead = max(
        cut_before([own, own], [start_s, start_s + length_s]),
        cut_before([there] * len(lines), lines),
    )
    words = f"bars {first}–{last}" if bars > 1 else f"bar {first}"
    rate = sheet.rate
    made = _laid([t - lead for t in lines], start_s - lead, rate, take, f"{words} of take {take}")
    over = f"bar {to_bar}" if bars * times == 1 else f"bars {to_bar}–{to_bar + bars * times - 1}"
    patch = _patch(sheet, made)
    end = made[-1]["at"] + made[-1]["frames"]
    if end > sheet.frames:
        if end > LONGEST_SONG_S * rate:
            raise ArkundError("The song would become longer than an hour; copy fewer times.")
        patch["frames"] = end + round(lead * rate)
    return revisions.keep(
        song.pk,
        base,
        patch,
        station="edit",
        internal=True,
        label=f"{words} of take {take} copied over {over}",
    )


def _laid(
    cuts_s: Sequence[float], source_s: float, rate: int, take: int, words: str
) -> list[dict[str, Any]]:
    """A copy from each cut to the next, of what a take holds from ``source_s`` on; what would fall
    before the song begins is left out."""
    made = []
    for begin, end in pairwise(cuts_s):
        at = max(round(begin * rate), 0)
        made.append(
            {
                "take": take,
                "source": round(source_s * rate) + at - round(begin * rate),
                "at": at,
                "frames": round(end * rate) - at,
                "label": words,
            }
        )
    return made


def copy_hit(song: Song, base: int, hit_id: str, to: float | str) -> Revision:
    """Keep one hit, with what falls together with it, copied in all mics: in place of another
    hit (its id) or at a time as heard (s)."""
    sheet = _sheet(song)
    played = {h.id: h for h in played_hits(sheet, storage.load_hits)}
    hit = played.get(hit_id)
    target = played.get(to) if isinstance(to, str) else None
    if hit is None or (isinstance(to, str) and target is None):
        raise ArkundError("That hit is not in the hit list; it may have been changed elsewhere.")
    study = study_of(sheet)
    to_s = target.time_s if target else study.before_moves_s(float(to))
    if not 0 <= to_s <= sheet.frames / sheet.rate:
        raise ArkundError("A hit can only be copied to a place within the song.")
    made = copy_of(hit, to_s, sheet, storage.load_hits).model_dump(mode="json")
    place = grid_of(sheet).place(to_s)
    return revisions.keep(
        song.pk,
        base,
        _patch(sheet, [made]),
        station="edit",
        label=f"{label(hit.piece)} hit of {grid_of(sheet).place(hit.time_s)} copied to {place}",
    )


def _patch(sheet: Sheet, made: list[dict[str, Any]]) -> dict[str, Any]:
    return {"copies": [*(c.model_dump(mode="json") for c in sheet.copies), *made]}


def _sheet(song: Song) -> Sheet:
    assert song.current is not None
    return song.current.sheet


def _take(sheet: Sheet, number: int) -> Take:
    found = next((t for t in sheet.takes if t.number == number), None)
    if found is None:
        have = ", ".join(str(t.number) for t in sheet.takes)
        raise ArkundError(f"There is no take {number}. Takes: {have}.")
    return found
