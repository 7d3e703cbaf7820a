"""From files to a song: examine, agree on rate and length, store, measure, find hits, align.

Nothing is half-imported: until the last step only content-addressed files exist, which nobody
refers to; the rows are written in one transaction.
"""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from django.db import transaction
from django.utils.text import slugify

from arkund.core.advise.start import first_sheet
from arkund.core.audio.broadcast import time_reference
from arkund.core.audio.files import RATES, FileFacts, examine, read_mono
from arkund.core.errors import ArkundError, AudioRefused
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import BESIDE, OFF_KIT, parse_mic_name
from arkund.core.sheet.sheet import Section, Source, Take
from arkund.core.sheet.tempo import Tempo, tempo_of
from arkund.core.timing.beginning import first_grid
from arkund.core.timing.click import click_of
from arkund.core.timing.grid import parse_meter
from arkund.core.timing.lineup import REACH_S, lag_between
from arkund.songs import models, revisions, storage, sweeping
from arkund.songs.analysed import Analysis, store
from arkund.songs.analysing import Progress, Sound, analyse
from arkund.songs.incoming import Incoming, split_stereo, store_at_rate

LONGEST_NAME = 120
NOT_A_SONG = (
    "new",
    "restore",
    "demo",
    "staging",
    "jobs",
    "door",
    "static",
    "help",
    "ears",
    "listened",
)
"""First parts of addresses that lead elsewhere."""

TEMPO_BPM = (20, 400)


@dataclass(frozen=True)
class Wishes:
    """What the engineer said of the new song; empty means: find out."""

    name: str
    tempo_bpm: float | None = None
    meter: str = "4/4"
    first_downbeat_s: float | None = None
    sections: tuple[Section, ...] = ()
    resample_hz: int | None = None
    pad: bool = False
    stereo: str = ""

    def check(self) -> None:
        """Raises `ArkundError` that names the first wish that cannot be met."""
        if not self.name.strip():
            raise ArkundError("The song needs a name.")
        if len(self.name) > LONGEST_NAME or not self.name.isprintable():
            raise ArkundError(f"A song's name has at most {LONGEST_NAME} letters, on one line.")
        low, high = TEMPO_BPM
        if self.tempo_bpm is not None and not low <= self.tempo_bpm <= high:
            raise ArkundError(f"The tempo lies between {low} and {high} BPM.")
        try:
            parse_meter(self.meter)
        except ValueError as error:
            raise ArkundError(str(error)) from None
        low, high = RATES
        if self.resample_hz is not None and not low <= self.resample_hz <= high:
            raise ArkundError(f"Files can be resampled to {low} to {high} Hz, such as 48000.")


class ImportRefused(ArkundError):
    """Files that cannot be used, each with its reason."""

    def __init__(self, refused: list[dict[str, str]]) -> None:
        self.refused = refused
        super().__init__(" ".join(f"{r['file']}: {r['reason']}" for r in refused))


@dataclass
class _Lane:
    incoming: Incoming
    facts: FileFacts
    sha256: str = ""
    path: Path = Path()
    frames: int = 0

    @property
    def role(self) -> str:
        return parse_mic_name(self.incoming.mic).role


@dataclass(frozen=True)
class _Analysed:
    hits: list[Hit]
    analysis: Analysis
    lag_s: float = 0.0


def examine_all(
    incoming: Iterable[Incoming],
) -> tuple[list[tuple[Incoming, FileFacts]], list[dict[str, str]]]:
    """The files that can be used with their facts, and the refused ones with the reason."""
    good, refused = [], []
    for item in incoming:
        try:
            good.append((item, examine(item.path, item.name)))
        except AudioRefused as error:
            refused.append({"file": item.name, "reason": f"{error.reason} {error.remedy}"})
    return good, refused


def agree(
    files: Sequence[tuple[Incoming, FileFacts]], wishes: Wishes
) -> tuple[int, list[dict[str, str]]]:
    """The song's rate, and what stands against it: rates or lengths that differ unasked. A bed, a
    reference or a click may be of any length."""
    rates = sorted({f.rate for _, f in files})
    rate = wishes.resample_hz or max(rates, key=lambda r: sum(f.rate == r for _, f in files))
    problems = []
    if not wishes.resample_hz:
        problems += [
            {
                "file": i.name,
                "reason": f"is at {f.rate} Hz, the rest at {rate} Hz. Ask for it to be "
                f"resampled (--resample {rate}) or export it again.",
            }
            for i, f in files
            if f.rate != rate
        ]
    for take in sorted({i.take for i, _ in files}) if not wishes.pad else ():
        own = [
            (i, f) for i, f in files if i.take == take and parse_mic_name(i.mic).role not in BESIDE
        ]
        if not own:
            continue
        usual = float(np.median([f.seconds for _, f in own]))
        problems += [
            {
                "file": i.name,
                "reason": f"lasts {f.seconds:.2f} s, the rest {usual:.2f} s. Ask for "
                "shorter files to be padded with silence (--pad) if they start together.",
            }
            for i, f in own
            if abs(f.seconds - usual) > 0.05
        ]
    return rate, problems


def import_song(
    incoming: Sequence[Incoming],
    wishes: Wishes,
    *,
    skip_bad: bool = False,
    progress: Progress = lambda share, what: None,
) -> tuple[models.Song, list[dict[str, str]]]:
    """Make a song. Raises `ImportRefused` with every file that cannot be used, unless
    ``skip_bad``; returns the song and what was skipped."""
    wishes.check()
    if not incoming:
        raise ArkundError("No file came with it; drop the mics' files again.")
    with sweeping.storing() as stored:
        return _import(incoming, wishes, skip_bad, progress, stored)


def _import(
    incoming: Sequence[Incoming],
    wishes: Wishes,
    skip_bad: bool,
    progress: Progress,
    stored: list[str],
) -> tuple[models.Song, list[dict[str, str]]]:
    """`import_song` while nobody sweeps; what it stores is noted in ``stored`` as it goes."""
    progress(0.02, "reading the files")
    good, refused = examine_all(incoming)
    lanes_in: list[tuple[Incoming, FileFacts]] = []
    for item, facts in good:
        try:
            lanes_in += [(part, facts) for part in split_stereo(item, facts, wishes.stereo)]
        except AudioRefused as error:
            refused.append({"file": item.name, "reason": f"{error.reason} {error.remedy}"})
    if not lanes_in:
        raise ImportRefused(refused)
    rate, problems = agree(lanes_in, wishes)
    refused += problems
    bad = {r["file"] for r in refused}
    lanes_in = [(i, f) for i, f in lanes_in if i.name not in bad]
    refused += _doubles(lanes_in)
    if refused and not skip_bad:
        raise ImportRefused(refused)
    doubled = {r["file"] for r in refused}
    lanes = [_Lane(i, f) for i, f in lanes_in if i.name not in doubled]
    if not lanes:
        raise ImportRefused(refused or [{"file": "", "reason": "No file can be used."}])

    for number, lane in enumerate(lanes):
        progress(0.05 + 0.25 * number / len(lanes), f"storing {lane.incoming.name}")
        lane.sha256, lane.path = store_at_rate(lane.incoming, lane.facts, rate, stored)
    takes = sorted({lane.incoming.take for lane in lanes})
    analysed: dict[int, _Analysed] = {}
    for number, take in enumerate(takes):
        span = 0.65 / len(takes)
        base = 0.3 + span * number
        sounds = {lane.incoming.mic: _sound(lane) for lane in lanes if lane.incoming.take == take}
        hits, analysis = analyse(
            sounds,
            rate,
            lambda s, w, b=base, d=span: progress(b + d * s, w),  # type: ignore[misc]
        )
        analysed[take] = _Analysed(hits, analysis)
    progress(0.97, "writing the song")
    return _write(wishes, rate, lanes, _lined_up(analysed, lanes)), refused


def _sound(lane: _Lane) -> Sound:
    item = lane.incoming
    in_kit = lane.role not in OFF_KIT
    made = Sound(lane.path, lane.sha256, item.pick, item.name, in_kit, lane.facts.rate)
    lane.frames = made.frames
    return made


def _lined_up(analysed: Mapping[int, _Analysed], lanes: list[_Lane]) -> dict[int, _Analysed]:
    """Takes with their lag behind the first: as their files' time stamps say where these fit a
    song, else as their hits fall together."""
    first = min(analysed)
    stamps = {take: _stamp_s(take, lanes) for take in analysed}
    out = {}
    for take, found in analysed.items():
        here, there = stamps[take], stamps[first]
        if here is not None and there is not None and abs(here - there) < REACH_S:
            lag: float | None = there - here
        else:
            lag = lag_between(analysed[first].hits, found.hits)
        out[take] = _Analysed(found.hits, found.analysis, lag or 0.0)
    return out


def _stamp_s(take: int, lanes: list[_Lane]) -> float | None:
    """When a take's files were begun, where all say the same."""
    own = [lane for lane in lanes if lane.incoming.take == take and lane.role not in BESIDE]
    stamps = {time_reference(lane.incoming.path) for lane in own}
    stamp = stamps.pop() if len(stamps) == 1 else None
    return None if stamp is None else stamp / own[0].facts.rate


def _doubles(lanes: list[tuple[Incoming, FileFacts]]) -> list[dict[str, str]]:
    seen: dict[tuple[int, str], str] = {}
    out = []
    for item, _ in lanes:
        other = seen.setdefault((item.take, item.mic), item.name)
        if other != item.name:
            out.append(
                {
                    "file": item.name,
                    "reason": f"is taken for {item.mic}, as {other} is. Give "
                    "one of the two another role.",
                }
            )
    return out


def _write(
    wishes: Wishes, rate: int, lanes: list[_Lane], analysed: Mapping[int, _Analysed]
) -> models.Song:
    first = analysed[min(analysed)]
    files = {lane.incoming.mic: lane.incoming.name for lane in reversed(lanes)}
    order = sorted(files, key=lambda m: parse_mic_name(m).order)
    takes = tuple(
        Take(
            number=take,
            sources={
                lane.incoming.mic: Source(sha256=lane.sha256, pick=lane.incoming.pick)
                for lane in lanes
                if lane.incoming.take == take
            },
            hits=storage.store_hits(found.hits),
            analysis=store(found.analysis),
            offset=round(found.lag_s * rate),
        )
        for take, found in sorted(analysed.items())
    )
    measured: Mapping[str, Mapping[str, Any]] = first.analysis.measures
    typical = {m: float(v["typical_hit_dbfs"]) for m, v in measured.items()}
    drums = [lane for lane in lanes if lane.role not in BESIDE] or lanes
    sheet = first_sheet(
        rate=rate,
        frames=max(lane.frames for lane in drums),
        tempo=_tempo(wishes, rate, lanes, min(analysed), first.hits),
        sections=wishes.sections,
        takes=takes,
        files={mic: files[mic] for mic in order},
        typical_db=typical,
    )
    with transaction.atomic():
        song = models.Song.objects.create(name=wishes.name.strip(), slug=free_slug(wishes.name))
        label = f"Loaded in: {len(files)} mics, {len(first.hits)} hits found"
        revisions.first_revision(song, sheet, label, {"hits": len(first.hits)})
    return song


def _tempo(wishes: Wishes, rate: int, lanes: list[_Lane], take: int, hits: Sequence[Hit]) -> Tempo:
    """As wished; else of a click that was played to; else estimated from the hits."""
    beats, unit = parse_meter(wishes.meter)
    click = next((n for n in lanes if n.role == "click" and n.incoming.take == take), None)
    if click is not None and wishes.tempo_bpm is None and wishes.first_downbeat_s is None:
        audio = read_mono(click.path, click.incoming.pick, click.incoming.name)
        found = click_of(audio, rate, hits, beats, unit)
        if found is not None and found.played_to:
            return tempo_of(found.grid)
    return tempo_of(first_grid(hits, beats, unit, wishes.tempo_bpm, wishes.first_downbeat_s))


def free_slug(name: str) -> str:
    """A short name that no song has yet."""
    stem = slugify(name)[:60] or "song"
    slug, number = stem, 2
    if stem in NOT_A_SONG:
        slug = f"{stem}-song"
    while models.Song.objects.filter(slug=slug).exists():
        slug, number = f"{stem}-{number}", number + 1
    return slug
