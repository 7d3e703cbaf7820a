"""Samples from files: a folder of them, a one-shot recording or an SFZ kit becomes one kit file in
the media folder; and a song's own hits become an SFZ kit."""

import io
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
import soundfile as sf
import soxr
from numpy.typing import NDArray

from arkund.core.advise.replace import layers as advice
from arkund.core.advise.study import Study
from arkund.core.audio.files import SoundFileReader, examine, pick_channel, read_mono
from arkund.core.errors import ArkundError
from arkund.core.exchange.midi import note_of
from arkund.core.exchange.sfz import Region, read_sfz_file, sample_path, write_sfz
from arkund.core.hits.detect import detect_hits
from arkund.core.replace.harvest import Candidate, bands, candidates
from arkund.core.replace.kit import Kit, kit_of
from arkund.core.sheet.layers import MOST_SAMPLES
from arkund.core.units import db_to_amplitude
from arkund.songs import locks, storage

SOUNDS = (".wav", ".flac", ".aif", ".aiff", ".ogg")
HEAD_BYTES = 4096
LONGEST_RECORDING_S = 600.0
LONGEST_SAMPLE_S = 30.0
"""So much of a sample is read: silence before the hit, and the few seconds that a layer plays."""

LOUDEST_DB = 24.0
MOST_FILES = 256
ONE_SHOT_RING_S = 1.0
FEWEST = 2
"""A one-shot recording has so many hits at least; one hit is a folder with one file."""

Audio = NDArray[np.float32]


def kit_from(path: Path, piece: str, study: Study, called: str = "") -> tuple[Kit, list[str]]:
    """The samples at a path for a piece, at the song's rate, and what was not read of a kit file.

    A folder: each sound in it is one hit. An SFZ file: its regions on the piece's note, or all
    where it has none there. A sound: single hits one after the other, cut and sorted by
    themselves. ``called`` is what errors call the path. Raises `ArkundError`.
    """
    called = called or path.name
    unknown: list[str] = []
    if not path.is_dir() and not path.is_file():
        raise ArkundError(f"There is no file or folder {called}.")
    if path.is_dir():
        files = sorted(p for p in path.iterdir() if p.suffix.lower() in SOUNDS and p.is_file())
        if not files:
            raise ArkundError(
                f"There is no sound in {called}; samples are {', '.join(SOUNDS)} files."
            )
        hits = [_sample(p, study.rate) for p in files[:MOST_FILES]]
    elif path.suffix.lower() == ".sfz":
        hits, unknown = _of_sfz(path, piece, study.rate)
    else:
        hits = _one_shots(path, piece, study)
    if len(hits) > MOST_SAMPLES:
        hits = _spread(hits)
    try:
        return kit_of(hits, study.rate), unknown
    except ValueError:
        raise ArkundError(f"Nothing is heard in the samples of {called}.") from None


def store(kit: Kit, rate: int) -> str:
    """Keep a kit file among the media; its content hash."""
    with TemporaryDirectory() as scratch, locks.storing():
        path = Path(scratch) / "kit.wav"
        sf.write(str(path), kit.sound, rate, subtype="FLOAT", format="WAV")
        _take_off_the_time(path)
        digest = storage.hash_of(path)
        storage.store_sound(path, digest)
    return digest


def _take_off_the_time(path: Path) -> None:
    """libsndfile stamps a float WAV with the second in which it was written (in its PEAK chunk: name,
    size, version, time, four bytes each), so that one kit would have two hashes."""
    with path.open("r+b") as file:
        at = file.read(HEAD_BYTES).find(b"PEAK")
        if at >= 0:
            file.seek(at + 12)
            file.write(bytes(4))


def _recording(path: Path, rate: int) -> Audio:
    """A recording of several hits as one side at a rate."""
    facts = examine(path)
    if facts.seconds > LONGEST_RECORDING_S:
        raise ArkundError(
            f"{path.name} is longer than {LONGEST_RECORDING_S / 60:g} minutes; cut out the part with "
            "the single hits."
        )
    sound = read_mono(path, "sum" if facts.channels == 2 else "mono")
    if facts.rate == rate:
        return sound
    return np.asarray(soxr.resample(sound, facts.rate, rate, "VHQ"), np.float32)


def _sample(
    path: Path,
    rate: int,
    first: int = 0,
    last: int | None = None,
    tune_cents: float = 0.0,
    volume_db: float = 0.0,
) -> Audio:
    """The frames ``first`` to before ``last`` of a file as one side, tuned, at a rate; cut to
    `LONGEST_SAMPLE_S` while it is read. Raises `ArkundError` where it is too loud."""
    facts = examine(path)
    longest = first + round(LONGEST_SAMPLE_S * facts.rate)
    with SoundFileReader(path) as reader:
        stop = min(longest, facts.frames, facts.frames if last is None else last)
        sound = pick_channel(reader.read(first, stop), "sum" if facts.channels == 2 else "mono")
    bent = facts.rate * 2 ** (tune_cents / 1200)
    if len(sound) and abs(bent - rate) > 0.01:
        sound = np.asarray(soxr.resample(sound, bent, rate, "VHQ"), np.float32)
    sound = sound * np.float32(db_to_amplitude(volume_db))
    # Not less also where it is not a number.
    if not float(np.abs(sound).max(initial=0.0)) <= db_to_amplitude(LOUDEST_DB):
        raise ArkundError(
            f"{path.name} is louder than +{LOUDEST_DB:g} dBFS; turn it down, or its volume."
        )
    return sound


def _of_sfz(path: Path, piece: str, rate: int) -> tuple[list[Audio], list[str]]:
    regions, unknown = read_sfz_file(path)
    note = note_of(piece)
    own = [r for r in regions if r.low_key <= note <= r.high_key] or regions
    hits = []
    for region in own[: 4 * MOST_SAMPLES]:
        last = None if region.end is None else region.end + 1
        try:
            hits.append(
                _sample(
                    sample_path(path, region),
                    rate,
                    region.offset,
                    last,
                    region.tune_cents,
                    region.volume_db,
                )
            )
        except ArkundError as error:
            raise ArkundError(f"{path.name}, line {region.line}: {error}") from None
    return hits, unknown


def _one_shots(path: Path, piece: str, study: Study) -> list[Audio]:
    """The single hits of a recording, each until the next or until it has rung out."""
    sound = _recording(path, study.rate)
    mic = advice.followed(study, piece)
    hits = [replace(h, piece=piece) for h in detect_hits({mic: sound}, study.rate)]
    found = candidates(sound, study.rate, piece, hits, ONE_SHOT_RING_S)
    if len(found) < FEWEST:
        raise ArkundError(
            f"{len(found) or 'No'} hit{'' if len(found) == 1 else 's'} found in {path.name}; a one-shot "
            "recording has several at rising strength. Put single samples into a folder."
        )
    return [sound[c.at : c.at + c.frames] for c in bands(found)]


def _spread(hits: Sequence[Audio]) -> list[Audio]:
    """As many as a layer takes, evenly from soft to loud."""
    by_level = sorted(hits, key=lambda s: float(np.abs(s).max(initial=0.0)))
    return [by_level[int(n)] for n in np.linspace(0, len(by_level) - 1, MOST_SAMPLES)]


def write_kit(study: Study, folder: Path) -> list[Path]:
    """The song's own hits as ``kit.sfz`` with a WAV a sample, every piece that has a close mic.

    Velocity layers from soft to loud with round robin in each. Raises `ArkundError` where nothing
    stands alone.
    """
    regions: list[Region] = []
    files: list[Path] = []
    folder.mkdir(parents=True, exist_ok=True)
    for piece in study.pieces:
        mic, note = advice.followed(study, piece), note_of(piece)
        sound = study.sound(mic, "clean")
        chosen = bands([c for c in advice.harvest(study, piece) if c.hit.kind != "ghost"])
        for layer, (low, high), own in _layers(chosen):
            for turn, one in enumerate(own, 1):
                name = f"{piece}_{layer}_{turn}.wav"
                content = io.BytesIO()
                sf.write(
                    content,
                    np.array(sound[one.at : one.at + one.frames]),
                    study.rate,
                    subtype="FLOAT",
                    format="WAV",
                )
                storage.write_atomically(folder / name, content.getvalue())
                files.append(folder / name)
                regions.append(Region(name, note, note, low, high, turn, len(own)))
    if not regions:
        raise ArkundError("No hit of this song is isolated long enough to be a sample.")
    target = folder / "kit.sfz"
    storage.write_atomically(target, write_sfz(regions).encode())
    return [target, *files]


def _layers(
    chosen: Sequence[Candidate], each: int = 4
) -> list[tuple[int, tuple[int, int], Sequence[Candidate]]]:
    """Samples from soft to loud in layers: number, velocities that each answers, its samples."""
    groups = [chosen[n : n + each] for n in range(0, len(chosen), each)]
    tops = [max(c.hit.velocity for c in g) for g in groups]
    out, low = [], 1
    for number, (group, top) in enumerate(zip(groups, tops, strict=True), 1):
        high = 127 if number == len(groups) else min(max(top, low), 126)
        out.append((number, (low, high), group))
        low = min(high + 1, 127)
    return out


def described(unknown: Sequence[str]) -> str:
    """What was not read of a kit file, in a sentence; empty where all was."""
    return f"Not read: {', '.join(unknown[:12])}." if unknown else ""
