"""From files to a song: examine, agree on rate and length, store, measure, find hits, align.

Nothing is half-imported: until the last step only content-addressed files exist, which nobody
refers to; the rows are written in one transaction.
"""

import csv
import re
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import asdict, dataclass, field
from pathlib import Path

import numpy as np
from django.db import transaction
from django.utils.text import slugify
from numpy.typing import NDArray

from arkund.core.advise.start import first_sheet
from arkund.core.align.pairs import PairAlignment
from arkund.core.align.takes import align_take
from arkund.core.audio.files import SUFFIXES, FileFacts, examine, read_mono
from arkund.core.audio.overview import Overview
from arkund.core.audio.resampling import resample_file
from arkund.core.errors import ArkundError, AudioRefused
from arkund.core.hits.detect import Hit, detect_hits
from arkund.core.kit.naming import guess_roles
from arkund.core.kit.roles import MicName, parse_mic_name
from arkund.core.measure.levels import measure_mic
from arkund.core.mix.sheet import Section, Source, Take, Tempo
from arkund.core.timing.grid import Grid, estimate_tempo, parse_meter, tempo_by_backbeat
from arkund.songs import models, revisions, storage

Progress = Callable[[float, str], None]


@dataclass(frozen=True)
class Incoming:
    """One file that is to become a mic: where it is, what it is called, what it is taken for."""

    path: Path
    name: str
    mic: str
    take: int = 1
    pick: str = "mono"


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
    audio: NDArray[np.float32] = field(default_factory=lambda: np.zeros(0, np.float32))


def take_number(relative: str) -> int:
    """Take of a file by its folder (``take 2/…``) or name (``Kick_T2.wav``); 1 otherwise."""
    parts = relative.replace("\\", "/").split("/")
    for folder in parts[:-1]:
        match = re.search(r"(?:take|tk|t)[ _-]?(\d{1,2})$", folder, re.I)
        if match:
            return int(match[1])
    match = re.search(r"[ _-](?:take|tk|t)[ _-]?(\d{1,2})$", Path(parts[-1]).stem, re.I)
    return int(match[1]) if match else 1


def files_of(folder: Path) -> list[tuple[Path, str]]:
    """Files of a folder and its subfolders, with names relative to it; hidden ones and those that
    plainly are no sound (truth.json, notes) left out."""
    if not folder.is_dir():
        raise ArkundError(f"{folder} is not a folder. Name the folder that holds the mics' files.")
    found = [p for p in sorted(folder.rglob("*")) if p.is_file() and not p.name.startswith(".")]
    named = [(p, str(p.relative_to(folder))) for p in found]
    sounds = [(p, n) for p, n in named if not n.startswith("stems/")
              and p.suffix.lower() not in (".json", ".txt", ".md", ".csv", ".pdf", ".png")]  # fmt: skip
    if not any(p.suffix.lower() in SUFFIXES for p, _ in sounds):
        raise ArkundError(f"{folder} holds no WAV, FLAC or AIFF file.")
    return sounds


def guess_incoming(
    files: Sequence[tuple[Path, str]], roles: dict[str, str] | None = None, stereo: str = ""
) -> list[Incoming]:
    """Takes and roles guessed from names; ``roles`` (file name → mic) overrides."""
    roles = roles or {}
    out: list[Incoming] = []
    by_take: dict[int, list[tuple[Path, str]]] = {}
    for path, name in files:
        by_take.setdefault(take_number(name), []).append((path, name))
    for take, members in sorted(by_take.items()):
        guesses = guess_roles([name for _, name in members])
        for (path, name), guess in zip(members, guesses, strict=True):
            mic = roles.get(name, roles.get(Path(name).name, str(guess.mic)))
            out.append(Incoming(path, name, mic, take, stereo or "mono"))
    return out


def read_roles(path: Path) -> dict[str, str]:
    """``file,mic`` rows of a CSV."""
    out = {}
    with path.open(newline="", encoding="utf-8-sig") as stream:
        for row in csv.DictReader(stream):
            if "file" not in row or "mic" not in row:
                raise ArkundError(f"{path.name} needs the columns file and mic.")
            out[row["file"].strip()] = str(parse_mic_name(row["mic"]))
    return out


def read_sections(path: Path) -> tuple[Section, ...]:
    """``name,start_bar,bars`` rows of a CSV."""
    out = []
    with path.open(newline="", encoding="utf-8-sig") as stream:
        for row in csv.DictReader(stream):
            try:
                out.append(
                    Section(
                        name=row["name"], start_bar=int(row["start_bar"]), bars=int(row["bars"])
                    )
                )
            except (KeyError, TypeError, ValueError):
                raise ArkundError(
                    f"{path.name} needs the columns name, start_bar and bars, whole numbers from 1."
                ) from None
    return tuple(out)


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


def split_stereo(item: Incoming, facts: FileFacts, wish: str) -> list[Incoming]:
    """A stereo file as mics: an overhead or room pair becomes left and right; in a mono role what
    ``wish`` says (left, right or sum). Raises `AudioRefused` where it says nothing."""
    if facts.channels == 1:
        return [Incoming(item.path, item.name, item.mic, item.take, "mono")]
    name = parse_mic_name(item.mic)
    if name.role in ("overhead", "room", "kit") and name.side is None:
        return [
            Incoming(
                item.path, item.name, str(MicName(name.role, name.index, side)), item.take, pick
            )
            for side, pick in (("l", "left"), ("r", "right"))  # type: ignore[arg-type]
        ]
    pick = wish or (item.pick if item.pick != "mono" else "")
    if not pick:
        raise AudioRefused(
            item.name,
            f"is stereo, but {item.mic} is a mono mic.",
            "Choose its left side, its right side or the sum of both.",
        )
    return [Incoming(item.path, item.name, item.mic, item.take, pick)]


def agree(
    files: Sequence[tuple[Incoming, FileFacts]], wishes: Wishes
) -> tuple[int, list[dict[str, str]]]:
    """The song's rate, and what stands against it: rates or lengths that differ unasked."""
    rates = sorted({f.rate for _, f in files})
    rate = wishes.resample_hz or max(rates, key=lambda r: sum(f.rate == r for _, f in files))
    problems = []
    if not wishes.resample_hz:
        problems += [
            {"file": i.name, "reason": f"is at {f.rate} Hz, the rest at {rate} Hz. Ask for it to be "
             f"resampled (--resample {rate}) or export it again."}
            for i, f in files if f.rate != rate
        ]  # fmt: skip
    for take in sorted({i.take for i, _ in files}) if not wishes.pad else ():
        own = [(i, f) for i, f in files if i.take == take]
        usual = float(np.median([f.seconds for _, f in own]))
        problems += [
            {"file": i.name, "reason": f"lasts {f.seconds:.2f} s, the rest {usual:.2f} s. Ask for "
             "shorter files to be padded with silence (--pad) if they start together."}
            for i, f in own if abs(f.seconds - usual) > 0.05
        ]  # fmt: skip
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
    if not wishes.name.strip():
        raise ArkundError("The song needs a name.")
    if not incoming:
        raise ArkundError("No file came with it; drop the mics' files again.")
    progress(0.02, "reading the files")
    good, refused = examine_all(incoming)
    lanes_in: list[tuple[Incoming, FileFacts]] = []
    for item, facts in good:
        try:
            lanes_in += [(part, facts) for part in split_stereo(item, facts, wishes.stereo)]
        except AudioRefused as error:
            refused.append({"file": item.name, "reason": f"{error.reason} {error.remedy}"})
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
        _store(lane, rate)
    takes = sorted({lane.incoming.take for lane in lanes})
    analysed = {}
    for number, take in enumerate(takes):
        own = [lane for lane in lanes if lane.incoming.take == take]
        span = 0.65 / len(takes)
        base = 0.3 + span * number
        analysed[take] = _analyse(own, rate, lambda s, w, b=base, d=span: progress(b + d * s, w))
    progress(0.97, "writing the song")
    return _write(wishes, rate, lanes, analysed), refused


def _doubles(lanes: list[tuple[Incoming, FileFacts]]) -> list[dict[str, str]]:
    seen: dict[tuple[int, str], str] = {}
    out = []
    for item, _ in lanes:
        other = seen.setdefault((item.take, item.mic), item.name)
        if other != item.name:
            out.append({"file": item.name, "reason": f"is taken for {item.mic}, as {other} is. Give "
                        "one of the two another role."})  # fmt: skip
    return out


def _store(lane: _Lane, rate: int) -> None:
    stored = storage.store_sound(lane.incoming.path, lane.facts.sha256)
    lane.sha256 = lane.facts.sha256
    if lane.facts.rate != rate:
        moved = storage.data_folder() / "media" / f"{lane.sha256}-{rate}.wav.part"
        resample_file(stored, moved, rate)
        lane.sha256 = examine(moved, f"{lane.incoming.name}.wav").sha256
        target = storage.sound_path(lane.sha256, ".wav")
        target.parent.mkdir(parents=True, exist_ok=True)
        moved.replace(target)
        stored = target
    lane.audio = read_mono(stored, lane.incoming.pick)


@dataclass(frozen=True)
class _Analysed:
    hits: list[Hit]
    pairs: list[PairAlignment]
    measures: dict[str, dict[str, object]]


def _analyse(lanes: Sequence[_Lane], rate: int, progress: Progress) -> _Analysed:
    mics = {lane.incoming.mic: lane.audio for lane in lanes}
    progress(0.0, "finding the strokes")
    hits = detect_hits(mics, rate)
    progress(0.55, "measuring delays")
    pairs = align_take(mics, hits, rate)
    progress(0.6, "measuring levels")

    def measure(lane: _Lane) -> dict[str, object]:
        piece = parse_mic_name(lane.incoming.mic).piece
        onsets = [h.time_s for h in hits if h.piece == piece]
        storage.store_overview(lane.sha256, lane.incoming.pick, Overview.of(lane.audio))
        return measure_mic(lane.audio, rate, onsets).as_dict()

    with ThreadPoolExecutor(2) as pool:
        measured = list(pool.map(measure, lanes))
    measures = {lane.incoming.mic: found for lane, found in zip(lanes, measured, strict=True)}
    return _Analysed(hits, pairs, measures)


def _write(
    wishes: Wishes, rate: int, lanes: list[_Lane], analysed: dict[int, _Analysed]
) -> models.Song:
    number = min(analysed)
    first = analysed[number]
    files = {lane.incoming.mic: lane.incoming.name for lane in lanes}
    order = sorted(files, key=lambda m: parse_mic_name(m).order)
    takes = tuple(
        Take(
            number=take,
            sources={
                lane.incoming.mic: Source(sha256=lane.sha256, pick=lane.incoming.pick)  # type: ignore[arg-type]
                for lane in lanes if lane.incoming.take == take
            },
            hits=storage.store_hits(found.hits),
        )
        for take, found in sorted(analysed.items())
    )  # fmt: skip
    typical = {m: float(v["typical_hit_dbfs"]) for m, v in first.measures.items()}  # type: ignore[arg-type]
    sheet = first_sheet(
        rate=rate,
        frames=max(len(lane.audio) for lane in lanes),
        tempo=_tempo(wishes, first.hits),
        sections=wishes.sections,
        takes=takes,
        files={mic: files[mic] for mic in order},
        typical_db=typical,
    )
    with transaction.atomic():
        song = models.Song.objects.create(name=wishes.name.strip(), slug=_free_slug(wishes.name))
        for take, found in analysed.items():
            row = models.Take.objects.create(
                song=song, number=take, hits=next(t.hits for t in takes if t.number == take) or "",
                pairs=[_plain(pair) for pair in found.pairs],
            )  # fmt: skip
            models.MicFile.objects.bulk_create(
                models.MicFile(
                    take=row, mic=lane.incoming.mic, file_name=lane.incoming.name,
                    sha256=lane.sha256, pick=lane.incoming.pick,
                    measures=found.measures[lane.incoming.mic],
                )
                for lane in lanes if lane.incoming.take == take
            )  # fmt: skip
        label = f"Loaded in: {len(files)} mics, {len(first.hits)} strokes found"
        revisions.first_revision(song, sheet, label, {"hits": len(first.hits)})
    return song


def _plain(pair: PairAlignment) -> dict[str, object]:
    values = asdict(pair)
    del values["lags"], values["curve"]
    return values


def _tempo(wishes: Wishes, hits: Sequence[Hit]) -> Tempo:
    beats, unit = parse_meter(wishes.meter)
    times = np.array([h.time_s for h in hits])
    weights = np.array([3.0 if h.piece == "kick" else 1.0 for h in hits])
    found = estimate_tempo(times, weights)
    backbeats = np.array([h.time_s for h in hits if h.piece == "snare" and h.level_db > -6])
    bpm = wishes.tempo_bpm or (round(tempo_by_backbeat(found[0], backbeats), 3) if found else 120.0)
    start = wishes.first_downbeat_s
    if start is None:
        start = _first_downbeat(hits, Grid(bpm, beats, unit))
    return Tempo(bpm=bpm, beats=beats, unit=unit, first_downbeat_s=round(start, 5))  # type: ignore[arg-type]


def _first_downbeat(hits: Sequence[Hit], grid: Grid) -> float:
    """The beat line nearest the first kick: songs begin on one far more often than not."""
    if not hits:
        return 0.0
    times = np.array([h.time_s for h in hits])
    phase = np.angle(np.sum(np.exp(2j * np.pi * times / grid.beat_s * 2))) / (4 * np.pi)
    anchor = next((h.time_s for h in hits if h.piece == "kick"), hits[0].time_s)
    lines = (np.round((anchor / grid.beat_s - phase) * 2) / 2 + phase) * grid.beat_s
    return max(float(lines), 0.0)


def _free_slug(name: str) -> str:
    stem = slugify(name)[:60] or "song"
    slug, number = stem, 2
    while models.Song.objects.filter(slug=slug).exists():
        slug, number = f"{stem}-{number}", number + 1
    return slug
