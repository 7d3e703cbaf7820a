"""What is found in a take's sound: strokes, delays between mics, levels. Kept by content hash, so
that every revision knows the analysis that it was made from."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import asdict, dataclass, field

import numpy as np
from numpy.typing import NDArray

from arkund.core.align.pairs import Pair, PairAlignment
from arkund.core.align.takes import align_take
from arkund.core.audio.overview import Overview
from arkund.core.hits.detect import Detected, detect
from arkund.core.hits.hit import Hit
from arkund.core.hits.unlisted import unlisted_strokes
from arkund.core.kit.roles import BESIDE, parse_mic_name
from arkund.core.measure.heard import heard_levels
from arkund.core.measure.levels import MicSound, measure_mic, measure_sound
from arkund.core.mix.sheet import Take
from arkund.songs import storage

Progress = Callable[[float, str], None]

SHORT_S = 0.05
"""A file that ends so much before the longest is said to."""

NOT_THERE = measure_mic(np.zeros(0, np.float32), 48000).as_dict()
"""Measures of a mic in a take that has no file for it."""


@dataclass(frozen=True)
class Analysis:
    """What was measured in one take: pairs of mics, and by mic its measures, the name its file
    came under, and how loud each piece is in it (dBFS); by piece the times in s at which its mic
    hears what may be a stroke that the list lacks (``unlisted``)."""

    pairs: tuple[Pair, ...] = ()
    measures: Mapping[str, Mapping[str, object]] = field(default_factory=dict)
    files: Mapping[str, str] = field(default_factory=dict)
    heard: Mapping[str, Mapping[str, float]] = field(default_factory=dict)
    unlisted: Mapping[str, Sequence[float]] = field(default_factory=dict)


@dataclass(frozen=True)
class Sound:
    """One mic's sound in a take and where it is stored; ``in_kit`` where strokes are to be found
    and delays measured in it; ``rate_was`` that of the file as it came (0: the song's)."""

    audio: NDArray[np.float32]
    sha256: str
    pick: str
    file_name: str
    in_kit: bool = True
    rate_was: int = 0


@dataclass(frozen=True)
class Known:
    """What needs no new analysis: the strokes, and what ``analysis`` says of the mics that are the
    ``same`` as then."""

    hits: Sequence[Hit]
    analysis: Analysis
    same: frozenset[str]


def analyse(
    sounds: Mapping[str, Sound], rate: int, progress: Progress, known: Known | None = None
) -> tuple[list[Hit], Analysis]:
    """The strokes of a take and its analysis, as far as they are not ``known``."""
    kit = {mic: s.audio for mic, s in sounds.items() if s.in_kit}
    same = known.same if known else frozenset()
    # What rests on no stroke is measured while strokes are found, which keeps one core busy and
    # the other now and then.
    with _beside() as pool:
        measured = {
            mic: pool.submit(_measured, sound, rate)
            for mic, sound in sounds.items()
            if mic not in same
        }
        progress(0.0, "finding the strokes")
        # What was not sure enough for the list is in what the list may lack.
        found, maybes = (
            detect(kit, rate)
            if known is None
            else Detected(list(known.hits), known.analysis.unlisted)
        )
        progress(0.55, "measuring delays")
        if known is not None and same >= set(kit):
            pairs = known.analysis.pairs
        else:
            pairs = tuple(_plain(p) for p in align_take(kit, found, rate))
        progress(0.65, "measuring levels")
        plain = {mic: future.result() for mic, future in measured.items()}

    longest = max((len(s.audio) for s in sounds.values() if s.in_kit), default=0)

    def measure(mic: str) -> tuple[dict[str, object], dict[str, float]]:
        sound = sounds[mic]
        if known is not None and mic in same:
            return dict(known.analysis.measures[mic]), dict(known.analysis.heard[mic])
        own = parse_mic_name(mic).piece
        onsets = [h.time_s for h in found if h.piece == own] if sound.in_kit else []
        heard = heard_levels(sound.audio, rate, found) if sound.in_kit else {}
        measures = measure_mic(sound.audio, rate, onsets, plain[mic]).as_dict()
        if parse_mic_name(mic).role in BESIDE:
            # A bass line is no hum, and a loud mix no fault of the recording.
            measures["flags"] = [f for f in measures["flags"] if f == "silent"]
        if sound.rate_was not in (0, rate):
            measures["resampled_from_hz"] = sound.rate_was
        if sound.in_kit and longest - len(sound.audio) > SHORT_S * rate:
            measures["ends_early_s"] = round((longest - len(sound.audio)) / rate, 2)
        return measures, heard

    with ThreadPoolExecutor(2) as both:
        done = dict(zip(sounds, both.map(measure, sounds), strict=True))
    analysis = Analysis(
        pairs,
        {mic: measures for mic, (measures, _) in done.items()},
        {mic: s.file_name for mic, s in sounds.items()},
        {mic: heard for mic, (_, heard) in done.items()},
        unlisted_strokes(kit, rate, found, maybes),
    )
    return found, analysis


@contextmanager
def _beside() -> Iterator[ThreadPoolExecutor]:
    """A thread for work on the side, of which what has not begun is dropped where the main work fails."""
    pool = ThreadPoolExecutor(1)
    try:
        yield pool
    finally:
        pool.shutdown(cancel_futures=True)


def _measured(sound: Sound, rate: int) -> MicSound | None:
    """What is measured of a mic without its strokes; its overview is stored."""
    storage.store_overview(sound.sha256, sound.pick, Overview.of(sound.audio))
    return measure_sound(sound.audio, rate)


def _plain(pair: PairAlignment) -> Pair:
    values = asdict(pair)
    del values["lags"], values["curve"]
    return Pair(**values)


def store(analysis: Analysis) -> str:
    """Keep an analysis; returns its content hash."""
    return storage.store_analysis(asdict(analysis))


def analysis_of(take: Take) -> Analysis:
    """The analysis that a take of a sheet names; an empty one where it names none."""
    if take.analysis is None:
        return Analysis()
    stored = storage.load_analysis(take.analysis)
    return Analysis(
        tuple(Pair(**p) for p in stored["pairs"]),
        stored["measures"],
        stored["files"],
        stored["heard"],
        stored.get("unlisted", {}),
    )
