"""Nodes that rest on a list of strokes: samples and tones laid under a drum, and gains stroke by
stroke. What each stroke gets is decided once over the whole song."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cache, cached_property, partial
from typing import Any, NamedTuple
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
AT_ONCE = 8
"""Strokes that are decided together, and remembered by what is heard about them: as many as leave
most of a song alone where some bars of it are moved."""

BEHIND_S = 0.1
"""So much of each stroke is heard when something is laid under it."""

TYPICAL_FLOOR_DB = -120.0

_lately = Memory(64 << 20)


def _once(key: str, compute: Callable[[], NDArray[Any]]) -> NDArray[Any]:
    """What a few strokes sound like or get: most changes of a song leave most of them alone."""
    found = _lately.get(key)
    if found is None:
        found = compute()
        _lately.put(key, found)
    return found


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


class Some(NamedTuple):
    """Neighbouring strokes of a layer: the number of the first, their ``onsets``, and what names all that
    is heard about them."""

    first: int
    onsets: tuple[int, ...]
    name: str


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
        """The plan, a row a stroke; worked out once, since every span asks for it."""
        if reader.rate not in self._tables:
            self._tables[reader.rate] = self._planned(reader)
        return self._tables[reader.rate]

    @cached_property
    def _tables(self) -> dict[int, NDArray[np.float64]]:
        return {}

    def _planned(self, reader: Reader) -> NDArray[np.float64]:
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

            def loudest(some: Some) -> NDArray[np.float64]:
                part = self._strokes(whole, some)[:, first : first + length]
                return _levels_db(np.abs(part).max(axis=1, initial=0.0))

            blocks = self._blocks(whole)
            return np.concatenate(
                [np.zeros(0)]
                + [_once(key_of("peaks", some.name), partial(loudest, some)) for some in blocks]
            )

        found = reader.track(key_of("peaks", 2, self.drum.key, self.onsets), find)
        return [float(level) for level in found]

    def _blocks(self, reader: Reader) -> list[Some]:
        """The drum's strokes, `AT_ONCE` of them at a time, named by what is heard about them."""
        before, behind = _lead(reader.rate), round(BEHIND_S * reader.rate)
        out = []
        for first in range(0, len(self.onsets), AT_ONCE):
            onsets = self.onsets[first : first + AT_ONCE]
            heard = reader.over(self.drum, onsets[0] - before, onsets[-1] + behind)
            out.append(Some(first, onsets, key_of("strokes", reader.rate, heard, onsets)))
        return out

    def _strokes(self, reader: Reader, some: Some) -> Audio:
        """Some of the drum's strokes, ``(strokes, samples)``, from `_lead` before each to `BEHIND_S`
        behind. All layers of a drum hear the same."""
        before, behind = _lead(reader.rate), round(BEHIND_S * reader.rate)
        return _once(
            some.name,
            lambda: np.stack([reader.read(self.drum, n - before, n + behind) for n in some.onsets]),
        )

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
        return self._heard_in(reader, sorted({int(row.sound) for row in rows}))

    def _heard_in(self, reader: Reader, used: Sequence[int]) -> list[tuple[str, Cut]]:
        """What is heard in samples by their numbers, and how they are cut."""
        cuts = [self.samples[n] for n in used]
        return [(reader.over(self.source, cut.at, cut.at + cut.frames), cut) for cut in cuts]

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
        heard_in = self._heard_in(reader, range(len(self.samples)))
        samples = _once(
            key_of("samples", rate, heard_in),
            lambda: np.array(
                _peaks_db(reader, self.source, [cut.at + head for cut in self.samples])
            ),
        ).tolist()
        chosen = choose(strokes, samples)
        length = head + round((SUM_S + 0.01) * rate)
        lead, stops = _lead(rate), self._stops(reader.frames)
        same_mic = self.source == self.drum

        @cache
        def own() -> list[Heard]:
            sounds = np.zeros((len(self.samples), head + length), np.float32)
            for row, cut in zip(sounds, self.samples, strict=True):
                frames = min(cut.frames, length)
                row[head : head + frames] = reader.read(self.source, cut.at, cut.at + frames)
            return heard(list(sounds), rate)

        def placed(some: Some, picked: Sequence[int]) -> NDArray[np.float64]:
            sounds = self._strokes(reader, some)[:, : lead + length - head]
            found = [
                place(stroke, own()[n], lead, rate, same_mic=same_mic)
                for stroke, n in zip(heard(list(sounds), rate), picked, strict=True)
            ]
            return np.array([(p.shift, p.polarity, p.alike, p.gain_low_db) for p in found])

        out = []
        for some in self._blocks(reader):
            picked = chosen[some.first : some.first + len(some.onsets)]
            key = key_of("placed", 1, some.name, [heard_in[n] for n in picked], same_mic)
            rows = _once(key, partial(placed, some, picked))
            for n, (shift, polarity, alike, low_db) in enumerate(rows.tolist(), some.first):
                # Rather none than one that makes the drum thinner.
                thinner = self.under and low_db < 0
                out.append(
                    Place(
                        self.onsets[n],
                        self.onsets[n] + shift - head,
                        chosen[n],
                        0.0 if thinner else polarity,
                        strokes[n],
                        samples[chosen[n]],
                        stops[n] - head,
                        alike,
                        low_db,
                    )
                )
        return out


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

        def alike(some: Some) -> NDArray[np.float64]:
            drums = self._strokes(reader, some)[:, first : first + length].astype(np.float64)
            sizes = np.sqrt(np.sum(drums**2, axis=1) * np.sum(part**2)) + 1e-20
            return np.asarray(drums @ part / sizes)

        sums: list[float] = []
        for some in self._blocks(reader):
            key = key_of("tone", 1, some.name, self._settings)
            sums += _once(key, partial(alike, some)).tolist()
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
