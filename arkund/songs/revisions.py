"""Keeping changes: a tree of revisions and a pointer that undo and redo move along it."""

import zlib
from typing import Any

from django.db import transaction

from arkund.core.errors import ArkundError, SheetError, UnreadableSheet
from arkund.core.sheet.pairs import completed
from arkund.core.sheet.patches import apply_patch, inverse_patch
from arkund.core.sheet.paths import Patch, RefusedValue, touch_alike
from arkund.core.sheet.renaming import KINDS, as_name, renamed
from arkund.core.sheet.settable import refuse_internal
from arkund.core.sheet.sheet import Sheet, dump
from arkund.songs import storage
from arkund.songs.models import Revision, Song
from arkund.songs.timing import refuse_unknown_hits, retimed
from arkund.songs.wording import label_of, refusal_words


class Conflict(ArkundError):
    """The change was made from a revision that is no longer the current one."""

    def __init__(self, changed_since: list[Revision]) -> None:
        self.changed_since = changed_since
        what = "; ".join(r.label for r in changed_since[-5:]) or "an undo or redo"
        super().__init__(f"The song was changed elsewhere in the meantime: {what}.")


class Overlap(ArkundError):
    """Taking a revision back would also undo later changes to the same values."""

    def __init__(self, later: list[Revision]) -> None:
        self.later = later
        what = "; ".join(r.label for r in later)
        super().__init__(f"Later changes touch the same values: {what}. Take it back all the same?")


LONGEST_REASON = 500


def first_revision(song: Song, sheet: Sheet, label: str, measures: dict[str, Any]) -> Revision:
    """Revision 1 of a new song, made current."""
    return _store(song, None, sheet, {}, {}, label, "", "load-in", measures)


def keep(
    song_id: int,
    base: int,
    patch: Patch,
    *,
    label: str = "",
    reason: str = "",
    station: str = "",
    measures: dict[str, Any] | None = None,
    finding: str = "",
    internal: bool = False,
) -> Revision:
    """Store a change made from revision number ``base`` and make it current.

    Raises `Conflict` where ``base`` is no longer current and `SheetError` where the sheet refuses
    the change. A change that changes nothing returns the current revision. Moves that follow from
    the change are reckoned before the database is held. Only a change that this program reckons
    itself (``internal``) may write what a hand may not set.
    """
    if not internal:
        refuse_internal(patch)
    song = _locked(song_id)
    current = _current(song)
    if current.number != base:
        raise Conflict(_path_between(song, base, current))
    before = current.sheet
    patch = completed(before, patch)
    try:
        after = apply_patch(before, patch)
    except RefusedValue as error:
        raise SheetError(refusal_words(error.path, error.said, before)) from None
    if after == before:
        return current
    refuse_unknown_hits(after, patch)
    _refuse_beyond_the_end(before, after)
    after = retimed(before, after)
    inverse = inverse_patch(before, patch)
    words = label or label_of(patch, inverse, after if any(patch.values()) else before)
    with transaction.atomic():
        song = _locked(song_id)
        now = _current(song)
        if now.number != base:
            raise Conflict(_path_between(song, base, now))
        return _store(
            song, now, after, dict(patch), inverse, words, reason, station, measures or {}, finding
        )


def _refuse_beyond_the_end(before: Sheet, after: Sheet) -> None:
    """Raises `SheetError` for a region that a change puts behind the song's last sample."""
    for name, mic in after.mics.items():
        old = before.mics[name].clean.regions if name in before.mics else {}
        for region_id, region in mic.clean.regions.items():
            if region.at >= after.frames and region != old.get(region_id):
                raise SheetError(
                    f"The region would begin at {region.at / after.rate:.1f} s; the song ends at "
                    f"{after.frames / after.rate:.1f} s."
                )


def rename(song_id: int, base: int, channel: str, name: str) -> Revision:
    """Call a bus or group (``buses.strike``) otherwise; as `keep`."""
    wish = as_name(name)
    patch = renamed(_current(_locked(song_id)).sheet, channel, wish)
    kind, _, old = channel.partition(".")
    label = f"{KINDS[kind]} {old} renamed to {wish}"
    return keep(song_id, base, patch, label=label, station="bus")


_TABLES = ("mics", "layers", "groups", "buses")
"""Parts of a sheet that hold channels by name."""


def patch_between(before: Sheet, after: Sheet) -> dict[str, Any]:
    """What makes one sheet of another: channels' values by their paths, other parts whole."""
    a, b = before.model_dump(mode="json"), after.model_dump(mode="json")
    patch: dict[str, Any] = {}
    for name in b:
        if a[name] == b[name]:
            continue
        if name not in _TABLES:
            patch[name] = b[name]
            continue
        for channel in {**a[name], **b[name]}:
            was, now = a[name].get(channel), b[name].get(channel)
            if was is None or now is None:
                patch[f"{name}.{channel}"] = now
            else:
                patch |= {
                    f"{name}.{channel}.{key}": now[key] for key in now if was.get(key) != now[key]
                }
    return patch


def values_before(sheet: Sheet, patch: Patch) -> dict[str, Any]:
    """What stands in a sheet where a patch would change it."""
    return inverse_patch(sheet, patch)


@transaction.atomic
def undo(song_id: int) -> Revision:
    """Move to the parent of the current revision; raises `ArkundError` at the first."""
    song = _locked(song_id)
    current = _current(song)
    if current.parent is None:
        raise ArkundError("This is the first revision; there is nothing to undo.")
    song.current = current.parent
    song.save(update_fields=["current"])
    return current.parent


def way_back_words(revision: Revision) -> str:
    """What taking a revision back did, as the values that went back; of one with a label of its own, that."""
    try:
        after = revision.sheet
    except UnreadableSheet:
        return revision.label
    if revision.label != label_of(revision.change, revision.way_back, after):
        return revision.label
    return label_of(revision.way_back, revision.change, after)


@transaction.atomic
def redo(song_id: int) -> Revision:
    """Move to the latest child of the current revision; raises `ArkundError` without one."""
    song = _locked(song_id)
    child = _current(song).children.order_by("-number").first()
    if child is None:
        raise ArkundError("There is nothing to redo.")
    song.current = child
    song.save(update_fields=["current"])
    return child


@transaction.atomic
def take_back(song_id: int, number: int, *, all_the_same: bool = False) -> Revision:
    """Apply the inverse of one revision as a new one.

    Raises `Overlap` where later revisions touch the same values, unless told all the same.
    """
    song = _locked(song_id)
    current = _current(song)
    target = _on_the_way(current, number)
    later = [
        r for r in _lineage(current) if r.number > number and touch_alike(r.change, target.change)
    ]
    if later and not all_the_same:
        raise Overlap(later)
    after = retimed(current.sheet, apply_patch(current.sheet, target.way_back))
    inverse = inverse_patch(current.sheet, target.way_back)
    label = f"Taken back: {target.label}"[:300]
    return _store(song, current, after, target.way_back, inverse, label, "", target.station, {})


@transaction.atomic
def go_back(song_id: int, number: int, label: str) -> Revision:
    """Make the sheet of an earlier revision, or of one on another branch, the present one again, as a new one.
    Raises `ArkundError` where it cannot be read or is what stands."""
    song = _locked(song_id)
    current = _current(song)
    wanted = song.revisions.get(number=number).sheet
    patch = patch_between(current.sheet, wanted)
    if not patch:
        raise ArkundError(f"Revision {number} is the present one already.")
    inverse = patch_between(wanted, current.sheet)
    return _store(song, current, wanted, patch, inverse, label, "", "log", {})


def explain(song: Song, number: int, why: str) -> Revision:
    """Give the reason of a change that a hand made. Raises `ArkundError` where a finding gave it already."""
    found = song.revisions.filter(number=number).first()
    if found is None or found.finding:
        raise ArkundError("Only what you have changed yourself takes a reason of yours.")
    found.reason = " ".join(why.split())[:LONGEST_REASON]
    found.save(update_fields=["reason"])
    return found


def log(song: Song) -> list[Revision]:
    """Revisions from the first to the current one."""
    return _lineage(_current(song))


def between(a: Revision, b: Revision) -> list[Revision]:
    """The revisions by which two differ, on whichever branch they lie, the earliest first."""
    lines = [{r.pk: r for r in _lineage(one)} for one in (a, b)]
    apart = lines[0].keys() ^ lines[1].keys()
    return sorted(
        (r for line in lines for pk, r in line.items() if pk in apart), key=lambda r: r.number
    )


def _locked(song_id: int) -> Song:
    # SQLite transactions begin IMMEDIATE: whoever is here is alone.
    return Song.objects.select_related("current").get(pk=song_id)


def _current(song: Song) -> Revision:
    if song.current is None:
        raise ArkundError("The song has no revision yet; it is still being made.")
    return song.current


def _store(
    song: Song,
    parent: Revision | None,
    sheet: Sheet,
    patch: dict[str, Any],
    inverse: dict[str, Any],
    label: str,
    reason: str,
    station: str,
    measures: dict[str, Any],
    finding: str = "",
) -> Revision:
    if sheet.moves is not None:
        storage.keep_edits(sheet.moves)
    last = song.revisions.order_by("-number").values_list("number", flat=True).first() or 0
    revision = Revision.objects.create(
        song=song,
        parent=parent,
        number=last + 1,
        patch=patch,
        inverse=inverse,
        document=zlib.compress(dump(sheet).encode()),
        label=label[:300],
        reason=reason,
        station=station,
        measures=measures,
        finding=finding,
    )
    song.current = revision
    song.save(update_fields=["current"])
    return revision


def _lineage(revision: Revision) -> list[Revision]:
    by_id = {r.pk: r for r in revision.song.revisions.defer("document")}
    out = []
    at: Revision | None = by_id[revision.pk]
    while at is not None:
        out.append(at)
        at = by_id.get(at.parent_id) if at.parent_id else None
    return out[::-1]


def _path_between(song: Song, base: int, current: Revision) -> list[Revision]:
    return [r for r in _lineage(current) if r.number > base]


def _on_the_way(current: Revision, number: int) -> Revision:
    found = next((r for r in _lineage(current) if r.number == number), None)
    if found is None or not found.patch:
        raise ArkundError(f"Revision {number} is not a change that leads to the present sheet.")
    return found
