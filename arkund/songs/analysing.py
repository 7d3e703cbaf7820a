"""What is found in a take's sound: hits, delays between mics, levels. Kept by content hash, so
that every revision knows the analysis that it was made from."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import asdict, dataclass, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from arkund.core.align.pairs import Pair, PairAlignment
from arkund.core.align.takes import align_take
from arkund.core.audio.files import MonoFile, SoundFileReader, pick_channel
from arkund.core.audio.overview import Overview
from arkund.core.audio.samples import Samples
from arkund.core.hits.detect import Detected, detect
from arkund.core.hits.heard import heard_levels
from arkund.core.hits.hit import Hit, hit_id
from arkund.core.hits.unlisted import unlisted_hits
from arkund.core.kit.roles import BESIDE, parse_mic_name
from arkund.core.measure.levels import MicSound, measure_mic, measure_sound
from arkund.core.once import once
from arkund.songs import memory, storage
from arkund.songs.analysed import Analysis

Progress = Callable[[float, str], None]

SHORT_S = 0.05
"""A file that ends so much before the longest is said to."""


@dataclass(frozen=True)
class Sound:
    """One mic's sound in a take and where it is stored; ``in_kit`` where hits are to be found
    and delays measured in it; ``rate_was`` that of the file as it came (0: the song's)."""

    path: Path
    sha256: str
    pick: str
    file_name: str
    in_kit: bool = True
    rate_was: int = 0

    @once
    def frames(self) -> int:
        """How many samples there are."""
        with SoundFileReader(self.path, self.file_name) as reader:
            return reader.frames

    def open(self) -> MonoFile:
        """Open the file; each slice is read when it is asked for. Raises `SoundLost`."""
        return MonoFile(self.path, self.pick, self.file_name)

    def read(self, start: int = 0, stop: int | None = None) -> NDArray[np.float32]:
        """Some samples as ``(frames,)``, silent outside the file. Raises `SoundLost`."""
        with SoundFileReader(self.path, self.file_name) as reader:
            stop = reader.frames if stop is None else stop
            return pick_channel(reader.read(start, stop), self.pick)


@dataclass(frozen=True)
class Known:
    """What needs no new analysis: the hits, and what ``analysis`` says of the mics that are the
    ``same`` as then."""

    hits: Sequence[Hit]
    analysis: Analysis
    same: frozenset[str]


AT_ONCE_SAMPLES = 120_000_000
"""Of all mics of a kit together: what is analysed in one go, within some 1.3 GB. (13 mics of three
minutes are 110 million.)"""

OVERLAP_S = 2.0
"""Parts of a long take are heard so much beyond their borders, where hits still ring."""


@dataclass(frozen=True)
class _Found:
    """What rests on the kit as a whole."""

    hits: list[Hit]
    maybes: Mapping[str, Sequence[float]]
    pairs: tuple[Pair, ...]
    unlisted: Mapping[str, Sequence[float]]


def analyse(
    sounds: Mapping[str, Sound], rate: int, progress: Progress, known: Known | None = None
) -> tuple[list[Hit], Analysis]:
    """The hits of a take and its analysis, as far as they are not ``known``. A long take is heard
    part by part, so that memory stays within some 1.3 GB."""
    same = known.same if known else frozenset()
    kit = {mic: sound for mic, sound in sounds.items() if sound.in_kit}
    spans = _spans(kit, rate)
    if len(spans) > 1:
        found = _heard_in_parts(kit, rate, spans, progress, known)
        files = {mic: sound.open() for mic, sound in sounds.items()}
        plain = {m: _measured(s, files[m], rate) for m, s in sounds.items() if m not in same}
        audio: Mapping[str, Samples] = files
    else:
        whole = {mic: sound.read() for mic, sound in sounds.items()}
        # What rests on no hit is measured while hits are found, which keeps one core busy and
        # the other now and then.
        with _beside() as pool:
            measured = {
                mic: pool.submit(_measured, sound, whole[mic], rate)
                for mic, sound in sounds.items()
                if mic not in same
            }
            found = _heard({mic: whole[mic] for mic in kit}, rate, progress, known)
            progress(0.65, "measuring levels")
            plain = {mic: future.result() for mic, future in measured.items()}
        audio = whole

    longest = max((s.frames for s in kit.values()), default=0)

    def measure(mic: str) -> tuple[dict[str, object], dict[str, float]]:
        if known is not None and mic in same:
            return dict(known.analysis.measures[mic]), dict(known.analysis.heard[mic])
        sound, heard_audio = sounds[mic], audio[mic]
        own = parse_mic_name(mic).piece
        onsets = [h.time_s for h in found.hits if h.piece == own] if sound.in_kit else []
        heard = heard_levels(heard_audio, rate, found.hits) if sound.in_kit else {}
        measures = measure_mic(heard_audio, rate, onsets, plain[mic]).as_dict()
        if parse_mic_name(mic).role in BESIDE:
            # A bass line is no hum, and a loud mix no fault of the recording.
            measures["flags"] = [f for f in measures["flags"] if f == "silent"]
        if sound.rate_was not in (0, rate):
            measures["resampled_from_hz"] = sound.rate_was
        if sound.in_kit and longest - sound.frames > SHORT_S * rate:
            measures["ends_early_s"] = round((longest - sound.frames) / rate, 2)
        return measures, heard

    with ThreadPoolExecutor(2 if len(spans) == 1 else 1) as both:
        done = dict(zip(sounds, both.map(measure, sounds), strict=True))
    analysis = Analysis(
        found.pairs,
        {mic: measures for mic, (measures, _) in done.items()},
        {mic: s.file_name for mic, s in sounds.items()},
        {mic: heard for mic, (_, heard) in done.items()},
        found.unlisted,
    )
    return found.hits, analysis


def _heard(
    kit: Mapping[str, NDArray[np.float32]], rate: int, progress: Progress, known: Known | None
) -> _Found:
    """What is heard in a kit's mics ``(frames,)``, or is known of them."""
    progress(0.0, "finding the hits")
    # What was not sure enough for the list is in what the list may lack.
    hits, maybes = (
        detect(kit, rate) if known is None else Detected(list(known.hits), known.analysis.unlisted)
    )
    progress(0.55, "measuring delays")
    if known is not None and known.same >= set(kit):
        pairs = known.analysis.pairs
    else:
        pairs = tuple(_plain(p) for p in align_take(kit, hits, rate))
    return _Found(hits, maybes, pairs, unlisted_hits(kit, rate, hits, maybes))


def _spans(kit: Mapping[str, Sound], rate: int) -> list[tuple[int, int]]:
    """The parts in which a take is heard, in samples; one where it is short enough for that."""
    longest = max((s.frames for s in kit.values()), default=0)
    parts = -(-len(kit) * longest // AT_ONCE_SAMPLES)
    if parts <= 1:
        return [(0, longest)]
    size = max(-(-longest // parts), round(10 * OVERLAP_S * rate))
    return [(start, min(start + size, longest)) for start in range(0, longest, size)]


def _heard_in_parts(
    kit: Mapping[str, Sound],
    rate: int,
    spans: Sequence[tuple[int, int]],
    progress: Progress,
    known: Known | None,
) -> _Found:
    """`_heard` of a long take. Delays are those of the part with the most hits; a hit counts in the part
    in which it begins."""
    hits: list[Hit] = []
    maybes: dict[str, list[float]] = {}
    unlisted: dict[str, list[float]] = {}
    pairs: tuple[Pair, ...] = ()
    most = -1
    for number, (start, stop) in enumerate(spans):
        progress(0.6 * number / len(spans), f"finding the hits, part {number + 1} of {len(spans)}")
        begin_s = max(start - round(OVERLAP_S * rate), 0) / rate
        from_s, to_s = start / rate, stop / rate
        found = _heard_part(kit, rate, (start, stop), known)
        memory.give_back()
        inside = [
            h if known is not None else replace(h, id=hit_id(h.piece, h.time_s + begin_s))
            for h in found.hits
            if from_s <= h.time_s + begin_s < to_s
        ]
        hits += [replace(h, time_s=round(h.time_s + begin_s, 6)) for h in inside]
        for into, times in ((maybes, found.maybes), (unlisted, found.unlisted)):
            for piece, places in times.items():
                kept = [t + begin_s for t in places if from_s <= t + begin_s < to_s]
                into.setdefault(piece, []).extend(kept)
        if len(found.hits) > most:
            most, pairs = len(found.hits), found.pairs
    return _Found(hits, maybes, pairs, {piece: times for piece, times in unlisted.items() if times})


def _heard_part(
    kit: Mapping[str, Sound], rate: int, span: tuple[int, int], known: Known | None
) -> _Found:
    """`_heard` of a part and `OVERLAP_S` beyond, in its own time. Its sound is gone before the next one's is read."""
    overlap = round(OVERLAP_S * rate)
    first = max(span[0] - overlap, 0)
    mine = None
    if known is not None:
        begin_s, end_s = first / rate, span[1] / rate + OVERLAP_S
        own = [
            replace(h, time_s=h.time_s - begin_s) for h in known.hits if begin_s <= h.time_s < end_s
        ]
        mine = replace(known, hits=own)
    part = {mic: sound.read(first, span[1] + overlap) for mic, sound in kit.items()}
    return _heard(part, rate, lambda share, what: None, mine)


@contextmanager
def _beside() -> Iterator[ThreadPoolExecutor]:
    """A thread for work on the side, of which what has not begun is dropped where the main work fails."""
    pool = ThreadPoolExecutor(1)
    try:
        yield pool
    finally:
        pool.shutdown(cancel_futures=True)


def _measured(sound: Sound, audio: Samples, rate: int) -> MicSound | None:
    """What is measured of a mic without its hits; its overview is stored."""
    storage.store_overview(sound.sha256, sound.pick, Overview.of(audio))
    return measure_sound(audio, rate)


def _plain(pair: PairAlignment) -> Pair:
    values = asdict(pair)
    del values["lags"], values["curve"]
    return Pair(**values)
