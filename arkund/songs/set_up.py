"""Correcting the set-up: which mic is what, what is left out, which file lies under it.

Such a change is analysed anew: hits and delays depend on what each mic is close to. It becomes
a revision like any other, which names its own hit lists and analyses.
"""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from pydantic import BaseModel

from arkund.core.audio.files import examine
from arkund.core.errors import ArkundError
from arkund.core.hits.carry import carried
from arkund.core.kit.roles import BESIDE, label, parse_mic_name
from arkund.core.sheet.channels import Mic, groups_for, new_mic
from arkund.core.sheet.lanes import kit_mics
from arkund.core.sheet.sheet import Sheet, Source, Take
from arkund.songs import revisions, soundness, storage, sweeping
from arkund.songs.analysed import analysis_of, store
from arkund.songs.analysing import Known, Progress, Sound, analyse
from arkund.songs.incoming import Incoming, split_stereo, store_at_rate
from arkund.songs.models import Revision, Song


@dataclass(frozen=True)
class Wanted:
    """What is to be different, by mic: its new name, why it is left out (empty: in use again),
    whether it is an overdub; and files that take the place of others or add a mic."""

    names: Mapping[str, str] = field(default_factory=dict)
    unused: Mapping[str, str] = field(default_factory=dict)
    overdubs: Mapping[str, bool] = field(default_factory=dict)
    files: tuple[Incoming, ...] = ()


def correct(
    song: Song, base: int, wanted: Wanted, progress: Progress = lambda share, what: None
) -> Revision:
    """Analyse the song with the set-up as wanted and keep that as a revision.

    Raises `ArkundError` where names collide or a file does not fit, `Conflict` where the song was
    changed meanwhile.
    """
    with sweeping.storing() as stored:
        return _correct(song, base, wanted, progress, stored)


def _correct(
    song: Song, base: int, wanted: Wanted, progress: Progress, stored: list[str]
) -> Revision:
    """`correct` while nobody sweeps; what it stores is noted in ``stored`` as it goes."""
    assert song.current is not None
    before = song.current.sheet
    progress(0.02, "reading the set-up")
    lost = len(soundness.checked(before)) if wanted.files else 0
    after, names = _renamed(before, wanted)
    after = _with_files(after, wanted.files, stored)
    if after == before and len(soundness.checked(before)) < lost:
        return song.current  # the file that had been lost has come back
    if after == before:
        raise ArkundError("The set-up is like that already.")
    after = _analysed(before, after, names, wanted, progress)
    progress(0.97, "keeping the change")
    return revisions.keep(
        song.pk,
        base,
        _difference(before, after),
        label=_words(before, wanted),
        station="load-in",
        reason="; ".join(r for r in wanted.unused.values() if r),
        internal=True,
    )


def _renamed(sheet: Sheet, wanted: Wanted) -> tuple[Sheet, dict[str, str]]:
    """The sheet with mics under their new names, in or out of use; and all names, old to new."""
    for mic in [*wanted.names, *wanted.unused, *wanted.overdubs]:
        if mic not in sheet.mics:
            raise ArkundError(f"The song has no mic {label(mic)}.")
    try:
        names = {m: str(parse_mic_name(wanted.names.get(m, m))) for m in sheet.mics}
    except ValueError as error:
        raise ArkundError(str(error)) from None
    taken: dict[str, str] = {}
    for old, new in names.items():
        if new in taken:
            raise ArkundError(
                f"{label(taken[new])} and {label(old)} cannot both be {label(new)}. "
                "Give one of them another role, or leave it out."
            )
        taken[new] = old
    mics = {
        names[m]: _as(mic, names[m], wanted.unused.get(m), wanted.overdubs.get(m))
        for m, mic in sheet.mics.items()
    }
    takes = tuple(
        t.model_copy(update={"sources": {names[m]: s for m, s in t.sources.items()}})
        for t in sheet.takes
    )
    buses = {
        name: bus.model_copy(update={"sends": {names.get(m, m): s for m, s in bus.sends.items()}})
        for name, bus in sheet.buses.items()
    }
    groups = {
        **sheet.groups,
        **{n: g for n, g in groups_for(mics).items() if n not in sheet.groups},
    }
    over = tuple(o.model_copy(update={"path": _path_of(o.path, names)}) for o in sheet.over)
    change = {"over": over, "mics": mics, "takes": takes, "buses": buses, "groups": groups}
    return sheet.model_copy(update=change), names


def _path_of(path: str, names: Mapping[str, str]) -> str:
    """A path with its mic under the new name."""
    table, _, rest = path.partition(".")
    mic, _, rest = rest.partition(".")
    return f"mics.{names.get(mic, mic)}.{rest}" if table == "mics" else path


def _as(mic: Mic, name: str, unused: str | None, overdub: bool | None) -> Mic:
    parsed = parse_mic_name(name)
    change: dict[str, Any] = {"role": parsed.role, "index": parsed.index, "side": parsed.side}
    # Who was panned to its side goes to its new one; a pan that was chosen stays.
    if parsed.side != mic.side and mic.pan == new_mic(str(mic.name)).pan:
        change["pan"] = new_mic(name).pan
    # So does who ran into its own group.
    if mic.to == new_mic(str(mic.name)).to:
        change["to"] = new_mic(name).to
    if unused is not None:
        change["unused"] = unused
    if overdub is not None:
        change["overdub"] = overdub
    return mic.model_copy(update=change)


def _with_files(sheet: Sheet, files: tuple[Incoming, ...], stored: list[str]) -> Sheet:
    """The sheet with new files under their mics. A file must be as long as the take's others, if
    it is no bed or reference."""
    for new in files:
        facts = examine(new.path, new.name)
        wish = "" if new.pick == "mono" else new.pick
        for part in split_stereo(new, facts, wish):
            mic = parse_mic_name(part.mic)
            if mic.role not in BESIDE:
                _refuse_length(sheet, new, facts.seconds)
            digest, _ = store_at_rate(part, facts, sheet.rate, stored)
            takes = [t.number for t in sheet.takes]
            if new.take not in takes:
                raise ArkundError(f"There is no take {new.take}. Takes: {takes}.")
            at = takes.index(new.take)
            take = sheet.takes[at]
            source = Source(sha256=digest, pick=part.pick)
            changed = take.model_copy(update={"sources": {**take.sources, str(mic): source}})
            own = sheet.mics.get(str(mic)) or new_mic(str(mic), new.name)
            sheet = sheet.model_copy(
                update={
                    "takes": (*sheet.takes[:at], changed, *sheet.takes[at + 1 :]),
                    "mics": {**sheet.mics, str(mic): own.model_copy(update={"file": new.name})},
                    "groups": {**groups_for({str(mic): own}), **sheet.groups},
                }
            )
    return sheet


LENGTH_SLACK_S = 0.05


def _refuse_length(sheet: Sheet, new: Incoming, seconds: float) -> None:
    song_s = sheet.frames / sheet.rate
    if seconds > song_s + LENGTH_SLACK_S:
        raise ArkundError(
            f"{new.name} lasts {seconds:.2f} s, the song {song_s:.2f} s. Cut it to the take's "
            "length, with the same beginning, and bring it again."
        )


def _analysed(
    before: Sheet, after: Sheet, names: Mapping[str, str], wanted: Wanted, progress: Progress
) -> Sheet:
    """The sheet with every take analysed anew; hits are found anew where the mics in which
    they are looked for have changed, not where only sound was swapped."""
    kept = {names[m] for m in kit_mics(before)} == set(kit_mics(after)) and all(
        old == new for old, new in names.items()
    )
    pieces = _pieces(names)
    takes, to_s, lines = [], dict(after.timing.to_s), dict(after.timing.lines)
    for number, take in enumerate(after.takes):
        base, span = 0.05 + 0.9 * number / len(after.takes), 0.9 / len(after.takes)
        old_take = before.takes[number]
        if kept and take.sources == old_take.sources:
            takes.append(take)
            continue
        old = storage.load_hits(old_take.hits) if old_take.hits else ()
        files = {
            **{names[m]: f for m, f in analysis_of(old_take).files.items() if m in names},
            **{f.mic: f.name for f in wanted.files if f.take == take.number},
        }
        same = frozenset(m for m, s in take.sources.items() if s == old_take.sources.get(m))
        found, analysis = analyse(
            _sounds(after, take, files),
            after.rate,
            lambda s, w, b=base, d=span: progress(b + d * s, w),  # type: ignore[misc]
            Known(old, analysis_of(old_take), same) if kept else None,
        )
        update: dict[str, Any] = {"analysis": store(analysis)}
        if not kept:
            ids = carried(take.corrections, old, found, pieces)
            update["hits"] = storage.store_hits(found)
            update["corrections"] = {
                ids[i]: c.model_copy(update={"piece": pieces.get(c.piece or "", c.piece)})
                for i, c in take.corrections.items()
                if i in ids
            }
            single = carried({*to_s, *lines}, old, found, pieces)
            to_s = {single[i]: v for i, v in to_s.items() if i in single}
            lines = {single[i]: v for i, v in lines.items() if i in single}
        takes.append(take.model_copy(update=update))
    timing = after.timing.model_copy(update={"to_s": to_s, "lines": lines})
    return after.model_copy(update={"takes": tuple(takes), "timing": timing})


def _pieces(names: Mapping[str, str]) -> dict[str, str]:
    """Pieces that are called otherwise now: those whose mic went from one to another."""
    out = {}
    for old, new in names.items():
        was, now = parse_mic_name(old).piece, parse_mic_name(new).piece
        if was and now and was != now:
            out[was] = now
    return out


def _sounds(sheet: Sheet, take: Take, files: Mapping[str, str]) -> dict[str, Sound]:
    kit = set(kit_mics(sheet))
    return {
        mic: Sound(
            storage.sound_path(source.sha256),
            source.sha256,
            source.pick,
            files.get(mic, sheet.mics[mic].file),
            mic in kit,
        )
        for mic, source in take.sources.items()
    }


def _difference(before: Sheet, after: Sheet) -> dict[str, Any]:
    """The patch between two sheets that differ in mics, files, hits and sends: as fine as the
    tables are, so that it can be taken back beside later changes."""
    patch: dict[str, Any] = {}

    def table(path: str, old: Mapping[str, Any], new: Mapping[str, Any]) -> None:
        for name in sorted({*old, *new}):
            if old.get(name) != new.get(name):
                value = new.get(name)
                plain = value.model_dump(mode="json") if isinstance(value, BaseModel) else value
                patch[f"{path}.{name}"] = plain

    table("groups", before.groups, after.groups)
    table("mics", before.mics, after.mics)
    if after.over != before.over:
        patch["over"] = [o.model_dump(mode="json") for o in after.over]
    for number, (old, new) in enumerate(zip(before.takes, after.takes, strict=True)):
        table(f"takes.{number}.sources", old.sources, new.sources)
        table(f"takes.{number}.corrections", old.corrections, new.corrections)
        for key in ("hits", "analysis"):
            if getattr(old, key) != getattr(new, key):
                patch[f"takes.{number}.{key}"] = getattr(new, key)
    for name, bus in after.buses.items():
        table(f"buses.{name}.sends", before.buses[name].sends, bus.sends)
    table("timing.to_s", before.timing.to_s, after.timing.to_s)
    table("timing.lines", before.timing.lines, after.timing.lines)
    return patch


def _words(sheet: Sheet, wanted: Wanted) -> str:
    parts = [f"{label(m)} is {label(n)}" for m, n in wanted.names.items() if n != m]
    parts += [
        f"{label(m)} left out: {why}" if why else f"{label(m)} in use again"
        for m, why in wanted.unused.items()
    ]
    parts += [
        f"{label(m)} is {'an overdub' if is_one else 'part of the kit'}"
        for m, is_one in wanted.overdubs.items()
    ]
    parts += [
        f"{label(f.mic)} {'swapped for' if f.mic in sheet.mics else 'added from'} {f.name}"
        for f in wanted.files
    ]
    return f"Set-up: {'; '.join(parts)}"
