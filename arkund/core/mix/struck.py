"""Nodes that rest on a list of strokes: samples and tones laid under a drum, and gains stroke by
stroke. What each stroke gets is decided once over the whole song."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple
from weakref import WeakKeyDictionary

import numpy as np
from numpy.typing import NDArray

from arkund.core.mix.adding import filter_valid, taps_late
from arkund.core.mix.cache import Memory
from arkund.core.mix.nodes import Enveloped, Node, Reader, key_of
from arkund.core.process.stage import Audio
from arkund.core.replace.choosing import choose, gain_db
from arkund.core.replace.even import even_gains_db, ridden, windows
from arkund.core.replace.harvest import HEAD_S, PEAK_S
from arkund.core.replace.placing import SUM_S, Heard, heard, place
from arkund.core.replace.tone import CHOKE_S, tone
from arkund.core.units import amplitudes_to_db

SILENT_DB = -80.0
AT_ONCE = 256
"""Strokes that are filtered together."""

BEHIND_S = 0.1
"""So much of each stroke is heard when something is laid under it."""

TYPICAL_FLOOR_DB = -120.0

_lately = Memory(64 << 20)


class Cut(NamedTuple):
    """Which of the layer's samples, counted from 0, and where it is cut: its first sample in the
    source, its length, and how long it fades in and out."""

    number: int
    at: int
    frames: int
    fade_in: int
    fade_out: int


class Place(NamedTuple):
    """Where a stroke's sound lies: its onset and where the sound begins in samples of the song, which
    sound, its polarity (0 where there is none), the stroke's and the sound's level in dB, where it
    is choked, how alike they are, and the sum's gain at the bottom in dB."""

    onset: float
    begins: float
    sound: float
    polarity: float
    level_db: float
    own_db: float
    stops: float
    alike: float
    low_db: float


class Row(NamedTuple):
    """What a stroke gets: its onset and where the sound begins in samples of the song, which sound,
    its signed gain, where it is choked, how alike they are, and the sum's gain at the bottom in dB."""

    onset: float
    begins: float
    sound: float
    gain: float
    stops: float
    alike: float
    low_db: float


@dataclass(frozen=True)
class _Laid(Node):
    """Sounds laid under strokes of ``drum`` at ``onsets`` (samples of the song, ascending)."""

    drum: Node
    onsets: tuple[int, ...]
    following: float
    choke: bool

    @property
    def kept_s(self) -> float:
        return 0.5

    @property
    def _settings(self) -> tuple[object, ...]:
        raise TypeError("a layer names its settings")

    @cached_property
    def key(self) -> str:
        return key_of(
            type(self).__name__,
            1,
            self.drum.key,
            self.onsets,
            self.following,
            self.choke,
            self._settings,
        )

    def plan(self, reader: Reader) -> list[Row]:
        """What each stroke gets."""
        return [Row(*row) for row in self._table(reader)]

    def _table(self, reader: Reader) -> NDArray[np.float64]:
        """The plan, a row a stroke."""
        width = len(Place._fields)
        key = key_of(type(self).__name__, 2, self.drum.key, self.onsets, self._placed)
        # How far levels are followed says nothing about places: these are decided once and cached.
        table = reader.track(key, lambda whole: np.array(self._decide(whole)).reshape(-1, width))
        onset, begins, sound, polarity, levels, own, *rest = table.T
        typical = float(np.median(levels)) if len(levels) else 0.0
        gains = polarity * 10 ** (gain_db(levels, own, typical, self.following) / 20)
        return np.column_stack([onset, begins, sound, gains, *rest])

    def _decide(self, reader: Reader) -> list[Place]:
        raise TypeError("a layer decides where each stroke's sound lies")

    @property
    def _placed(self) -> tuple[object, ...]:
        """What places rest on."""
        return self._settings

    def _sound(self, reader: Reader, row: Row) -> Audio:
        raise TypeError("a layer has its sounds")

    def _heard(self, reader: Reader, rows: Sequence[Row]) -> object:
        """What the sounds of these rows are made of."""
        return None

    def _near(self, reader: Reader, start: int, stop: int) -> list[Row]:
        table = self._table(reader)
        begins = table[:, Row._fields.index("begins")]
        near = (begins - 64 < stop) & (begins + self._longest(reader.rate) + 64 > start)
        return [Row(*row) for row in table[near].tolist()]

    def _longest(self, rate: int) -> int:
        raise TypeError("a layer knows how long its sounds are")

    def key_over(self, reader: Reader, start: int, stop: int) -> str:
        rows = self._near(reader, start, stop)
        return key_of(type(self).__name__, 1, rows, self._heard(reader, rows), self._settings)

    def render(self, reader: Reader, start: int, stop: int) -> Audio:
        out = np.zeros(stop - start, np.float32)
        for row in self._near(reader, start, stop):
            sound = self._sound(reader, row)
            whole = int(np.floor(row.begins))
            if self.choke:
                sound = _choked(sound, round(row.stops) - whole, reader.rate)
            if row.begins != whole:
                sound, whole = _shifted(sound, row.begins - whole), whole - 32
            first, last = max(whole, start), min(whole + len(sound), stop)
            if first < last:
                part = out[first - start : last - start]
                part += np.float32(row.gain) * sound[first - whole : last - whole]
        return out

    def peaks_db(self, reader: Reader) -> list[float]:
        """Each stroke's peak in the drum, in dBFS; found once for all layers of its strokes."""

        def find(whole: Reader) -> NDArray[np.float64]:
            first, length = _lead(whole.rate), round(PEAK_S * whole.rate)
            parts = [sound[:, first : first + length] for sound in self._strokes(whole)]
            return _levels_db(
                [float(np.abs(row).max(initial=0.0)) for part in parts for row in part]
            )

        found = reader.track(key_of("peaks", 1, self.drum.key, self.onsets), find)
        return [float(level) for level in found]

    def _strokes(self, reader: Reader) -> Iterator[Audio]:
        """The drum's strokes, `AT_ONCE` of them at a time, ``(strokes, samples)``, from `_lead` before
        each to `BEHIND_S` behind. All layers of a drum hear the same, which is kept for a while."""
        for first in range(0, len(self.onsets), AT_ONCE):
            some = self.onsets[first : first + AT_ONCE]
            key = key_of("strokes", reader.rate, self.drum.key, some)
            found = _lately.get(key)
            if found is None:
                before, behind = _lead(reader.rate), round(BEHIND_S * reader.rate)
                found = np.stack([reader.read(self.drum, at - before, at + behind) for at in some])
                _lately.put(key, found)
            yield found

    def _stops(self, frames: int) -> list[int]:
        return [*self.onsets[1:], frames + (1 << 24)]


@dataclass(frozen=True)
class Struck(_Laid):
    """Samples cut out of ``source``, the drum itself or a kit file, laid ``under`` the drum's strokes
    or played instead. Under a stroke whose bottom no place makes fuller there is none."""

    source: Node
    samples: tuple[Cut, ...]
    under: bool = True

    @property
    def _settings(self) -> tuple[object, ...]:
        return self.source.key, self.samples, self.under

    def _longest(self, rate: int) -> int:
        return max(cut.frames for cut in self.samples)

    def _heard(self, reader: Reader, rows: Sequence[Row]) -> object:
        used = sorted({int(row.sound) for row in rows})
        return [
            reader.over(self.drum, at, at + frames)
            for _, at, frames, *_ in (self.samples[n] for n in used)
        ]

    @cached_property
    def _kept(self) -> "WeakKeyDictionary[Reader, dict[int, Audio]]":
        return WeakKeyDictionary()

    def _sound(self, reader: Reader, row: Row) -> Audio:
        number = int(row.sound)
        kept = self._kept.setdefault(reader, {})
        if number not in kept:
            cut = self.samples[number]
            sound = reader.read(self.source, cut.at, cut.at + cut.frames)
            kept[number] = _faded(sound, cut.fade_in, cut.fade_out)
        return kept[number]

    def _decide(self, reader: Reader) -> list[Place]:
        rate, head = reader.rate, round(HEAD_S * reader.rate)
        strokes = self.peaks_db(reader)
        if not strokes:
            return []
        samples = _peaks_db(reader, self.source, [cut.at + head for cut in self.samples])
        chosen = choose(strokes, samples)
        length = head + round((SUM_S + 0.01) * rate)
        lead, stops = _lead(rate), self._stops(reader.frames)
        sounds = np.zeros((len(self.samples), head + length), np.float32)
        for row, cut in zip(sounds, self.samples, strict=True):
            frames = min(cut.frames, length)
            row[head : head + frames] = reader.read(self.source, cut.at, cut.at + frames)
        own = heard(list(sounds), rate)
        out = []
        for onset, level, n, stop, stroke in zip(
            self.onsets,
            strokes,
            chosen,
            stops,
            self._heard_strokes(reader, lead + length - head),
            strict=True,
        ):
            found = place(stroke, own[n], lead, rate, same_mic=self.source == self.drum)
            # Rather none than one that makes the drum thinner.
            thinner = self.under and found.gain_low_db < 0
            out.append(
                Place(
                    onset,
                    onset + found.shift - head,
                    n,
                    0.0 if thinner else found.polarity,
                    level,
                    samples[n],
                    stop - head,
                    found.alike,
                    found.gain_low_db,
                )
            )
        return out

    def _heard_strokes(self, reader: Reader, length: int) -> Iterator[Heard]:
        """The drum's strokes as they are placed by, ``length`` samples from `_lead` before each on."""
        for sounds in self._strokes(reader):
            yield from heard(list(sounds[:, :length]), reader.rate)


@dataclass(frozen=True)
class Toned(_Laid):
    """A tone under the drum's strokes, in the polarity in which the bottom of the sum is fuller."""

    note_hz: float
    attack_ms: float
    decay_ms: float
    fall: float
    drive_db: float

    @property
    def _settings(self) -> tuple[object, ...]:
        return self.note_hz, self.attack_ms, self.decay_ms, self.fall, self.drive_db

    def _longest(self, rate: int) -> int:
        return round(self.decay_ms * rate / 1000)

    def _one(self, rate: int) -> Audio:
        return tone(rate, self.note_hz, self.attack_ms, self.decay_ms, self.fall, self.drive_db)

    def _sound(self, reader: Reader, row: Row) -> Audio:
        return self._one(reader.rate)

    def _decide(self, reader: Reader) -> list[Place]:
        strokes, one = self.peaks_db(reader), self._one(reader.rate)
        if not strokes:
            return []
        first, length = _lead(reader.rate), min(len(one), round(BEHIND_S * reader.rate))
        part = one[:length].astype(np.float64)
        sums: list[float] = []
        for sounds in self._strokes(reader):
            drums = sounds[:, first : first + length].astype(np.float64)
            sizes = np.sqrt(np.sum(drums**2, axis=1) * np.sum(part**2)) + 1e-20
            sums += (drums @ part / sizes).tolist()
        polarity = 1.0 if sum(sums) >= 0 else -1.0
        return [
            Place(
                onset,
                onset,
                0,
                polarity,
                level,
                0.0,
                stops,
                abs(alike),
                float(10 * np.log10(max(1 + polarity * alike, 1e-3))),
            )
            for onset, level, stops, alike in zip(
                self.onsets, strokes, self._stops(reader.frames), sums, strict=True
            )
        ]


@dataclass(frozen=True)
class Evened(Enveloped):
    """A gain a stroke, within its own window, toward where strokes of its kind peak."""

    onsets: tuple[int, ...]
    kinds: tuple[str, ...]
    amount: float

    @cached_property
    def key(self) -> str:
        return key_of("evened", 1, self.source.key, self.onsets, self.kinds, self.amount)

    def gains_db(self, reader: Reader) -> NDArray[np.float64]:
        """The gain of each stroke."""
        return even_gains_db(_peaks_db(reader, self.source, self.onsets), self.kinds, self.amount)

    def _decide(self, reader: Reader) -> NDArray[np.float64]:
        spans = windows(self.onsets, reader.rate, reader.frames)
        shape = ridden(spans, self.gains_db(reader).tolist(), reader.rate)
        return np.stack([shape.positions, shape.gains_db])


@dataclass(frozen=True)
class Silenced(Enveloped):
    """Some of a drum's strokes taken out, each within its own window: a layer plays instead."""

    onsets: tuple[int, ...]
    out: tuple[bool, ...]

    @cached_property
    def key(self) -> str:
        return key_of("silenced", 1, self.source.key, self.onsets, self.out)

    def _decide(self, reader: Reader) -> NDArray[np.float64]:
        spans = windows(self.onsets, reader.rate, reader.frames)
        gains = [SILENT_DB if gone else 0.0 for gone in self.out]
        shape = ridden(spans, gains, reader.rate)
        return np.stack([shape.positions, shape.gains_db])


def _peaks_db(reader: Reader, node: Node, onsets: Sequence[int]) -> list[float]:
    """Peak of the 30 ms from each onset on, in dBFS."""
    length = round(PEAK_S * reader.rate)
    peaks = [float(np.abs(reader.read(node, at, at + length)).max(initial=0.0)) for at in onsets]
    return [float(level) for level in _levels_db(peaks)]


def _levels_db(peaks: Sequence[float]) -> NDArray[np.float64]:
    return np.maximum(amplitudes_to_db(np.array(peaks)), TYPICAL_FLOOR_DB)


def _lead(rate: int) -> int:
    """Samples before a stroke that are heard when something is laid under it."""
    return 2 * round(HEAD_S * rate)


def _shifted(sound: Audio, fraction: float) -> Audio:
    """A sound ``fraction`` of a sample later, 32 samples of it before its beginning and after its end
    (64-tap windowed sinc, flat within 0.1 dB to 16 kHz at 44.1 kHz)."""
    room = np.zeros(64, np.float32)
    return filter_valid(np.concatenate([room, sound, room[:63]]), taps_late(fraction))


def _faded(sound: Audio, fade_in: int, fade_out: int) -> Audio:
    """A copy that begins and ends over so many samples, a quarter and a half of it at most."""
    out = np.array(sound)
    rise = min(fade_in, len(out) // 4)
    fall = min(fade_out, len(out) // 2)
    out[:rise] *= (0.5 - 0.5 * np.cos(np.pi * np.arange(rise) / rise)).astype(np.float32)
    out[len(out) - fall :] *= (0.5 + 0.5 * np.cos(np.pi * np.arange(1, fall + 1) / fall)).astype(
        np.float32
    )
    return out


def _choked(sound: Audio, length: int, rate: int) -> Audio:
    """What is left of a sound that must be over after ``length`` samples."""
    if length >= len(sound):
        return sound
    out = np.array(sound[: max(length, 0)])
    fall = min(round(CHOKE_S * rate), len(out))
    if fall:
        out[-fall:] *= (0.5 + 0.5 * np.cos(np.pi * np.arange(1, fall + 1) / fall)).astype(
            np.float32
        )
    return out
