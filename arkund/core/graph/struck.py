"""Nodes that rest on a list of hits: samples and tones laid under a drum, and gains hit by
hit. What each hit gets is decided once over the whole song."""

from bisect import bisect_left, bisect_right
from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial
from typing import NamedTuple
from weakref import WeakKeyDictionary

import numpy as np
from numpy.typing import NDArray

from arkund.core.graph.nodes import Node, Reader, key_of
from arkund.core.graph.peaks import AT_ONCE, levels_db, peaks_db, remembered
from arkund.core.graph.sampled import choked, faded, shifted
from arkund.core.once import once
from arkund.core.process.stage import Audio
from arkund.core.replace.choosing import at_the_drum_s_level, choose, gain_db
from arkund.core.replace.harvest import HEAD_S, PEAK_S
from arkund.core.replace.placing import SEARCH_S, SUM_S, heard, place

BEHIND_S = 0.1
"""So much of each hit is heard when something is laid under it."""


class Cut(NamedTuple):
    """Which of the layer's samples, counted from 0, and where it is cut: its first sample in the
    source, its length, and how long it fades in and out."""

    number: int
    at: int
    frames: int
    fade_in: int
    fade_out: int


class Whole(NamedTuple):
    """What is decided over the whole song, hit by hit: which sound, and its gain."""

    sounds: Sequence[int]
    gains: Sequence[float]


class Some(NamedTuple):
    """Neighbouring hits of a layer: the number of the first, their ``onsets``, and what names all that
    is heard about them."""

    first: int
    onsets: tuple[int, ...]
    name: str


class Row(NamedTuple):
    """What a hit gets: its onset and where the sound begins in samples of the song, which sound,
    its signed gain, where it is choked, how alike they are, and the sum's gain at the bottom in dB."""

    onset: float
    begins: float
    sound: int
    gain: float
    stops: float
    alike: float
    low_db: float


@dataclass(frozen=True)
class Laid(Node):
    """Sounds laid under hits of ``drum`` at ``onsets`` (samples of the song, ascending)."""

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

    @once
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
        """What each hit gets."""
        return self._rows(reader, 0, len(self.onsets))

    def _rows(self, reader: Reader, first: int, last: int) -> list[Row]:
        """What some hits get, by their numbers. Decided on exact sound: so it is the same for what is
        heard and for what is printed."""
        exact, out = reader.exact, []
        whole, stops = self._whole(exact), [*self.onsets[1:], reader.frames + (1 << 24)]
        head = self._head(reader.rate)
        for number in range(first // AT_ONCE, -(-last // AT_ONCE)):
            some = self._some(exact, number)
            places = remembered(
                self._name(exact, some, whole), partial(self._place, exact, some, whole)
            )
            for n, (shift, polarity, alike, low_db) in enumerate(places.tolist(), some.first):
                if first <= n < last:
                    onset, gain = self.onsets[n], polarity * whole.gains[n]
                    begins, stop = onset + shift - head, stops[n] - head
                    out.append(Row(onset, begins, whole.sounds[n], gain, stop, alike, low_db))
        return out

    def _whole(self, exact: Reader) -> Whole:
        """What is decided over the whole song; worked out once."""
        if exact.rate not in self._wholes:
            self._wholes[exact.rate] = self._decide(exact, self.peaks_db(exact))
        return self._wholes[exact.rate]

    @once
    def _wholes(self) -> dict[int, Whole]:
        return {}

    def _decide(self, exact: Reader, levels_db: list[float]) -> Whole:
        raise TypeError("a layer decides what its hits get")

    def _name(self, exact: Reader, some: Some, whole: Whole) -> str:
        """What the places of some hits' sounds rest on."""
        raise TypeError("a layer names what places rest on")

    def _place(self, exact: Reader, some: Some, whole: Whole) -> NDArray[np.float64]:
        """Of some hits ``(hits, 4)`` by how many samples the sound is moved later, its polarity (0
        where there is none), how alike they are, and the sum's gain at the bottom in dB."""
        raise TypeError("a layer finds where its sounds lie")

    def _head(self, rate: int) -> int:
        """How many samples before the onset a sound begins."""
        return 0

    def _sound(self, reader: Reader, row: Row) -> Audio:
        raise TypeError("a layer has its sounds")

    def _heard(self, reader: Reader, rows: Sequence[Row]) -> object:
        """What the sounds of these rows are made of."""
        return self._settings

    def _near(self, reader: Reader, start: int, stop: int) -> list[Row]:
        longest = self._longest(reader.rate) + 64
        moved = round((HEAD_S + SEARCH_S) * reader.rate) + 1
        first = bisect_left(self.onsets, start - longest - moved)
        last = bisect_right(self.onsets, stop + 64 + moved)
        return [
            row
            for row in self._rows(reader, first, last)
            if row.begins - 64 < stop and row.begins + longest > start
        ]

    def _longest(self, rate: int) -> int:
        raise TypeError("a layer knows how long its sounds are")

    def key_over(self, reader: Reader, start: int, stop: int) -> str:
        rows = self._near(reader, start, stop)
        return key_of(type(self).__name__, 2, rows, self._heard(reader, rows), self.choke)

    def render(self, reader: Reader, start: int, stop: int) -> Audio:
        out = np.zeros(stop - start, np.float32)
        for row in self._near(reader, start, stop):
            sound = self._sound(reader, row)
            whole = int(np.floor(row.begins))
            if self.choke:
                sound = choked(sound, round(row.stops) - whole, reader.rate)
            if row.begins != whole:
                sound, whole = shifted(sound, row.begins - whole), whole - 32
            first, last = max(whole, start), min(whole + len(sound), stop)
            if first < last:
                part = out[first - start : last - start]
                part += np.float32(row.gain) * sound[first - whole : last - whole]
        return out

    def peaks_db(self, reader: Reader) -> list[float]:
        """Each hit's peak in the drum, in dBFS; found once for all layers of its hits."""

        def find(whole: Reader) -> NDArray[np.float64]:
            first, length = lead_before(whole.rate), round(PEAK_S * whole.rate)

            def loudest(some: Some) -> NDArray[np.float64]:
                part = self._hits(whole, some)[:, first : first + length]
                return levels_db(np.abs(part).max(axis=1, initial=0.0))

            found = [
                remembered(key_of("peaks", some.name), partial(loudest, some))
                for some in self._every(whole)
            ]
            return np.concatenate([np.zeros(0), *found])

        found = reader.track(key_of("peaks", 2, self.drum.key, self.onsets), find)
        return [float(level) for level in found]

    def _some(self, exact: Reader, number: int) -> Some:
        """The drum's hits, `AT_ONCE` of them at a time, named by what is heard about them."""
        first = number * AT_ONCE
        onsets = self.onsets[first : first + AT_ONCE]
        before, behind = lead_before(exact.rate), round(BEHIND_S * exact.rate)
        heard = exact.over(self.drum, onsets[0] - before, onsets[-1] + behind)
        return Some(first, onsets, key_of("hits", exact.rate, heard, onsets))

    def _every(self, exact: Reader) -> list[Some]:
        return [self._some(exact, number) for number in range(-(-len(self.onsets) // AT_ONCE))]

    def _hits(self, reader: Reader, some: Some) -> Audio:
        """Some of the drum's hits, ``(hits, samples)``, from `lead` before each to `BEHIND_S`
        behind. All layers of a drum hear the same."""
        before, behind = lead_before(reader.rate), round(BEHIND_S * reader.rate)
        return remembered(
            some.name,
            lambda: np.stack([reader.read(self.drum, n - before, n + behind) for n in some.onsets]),
        )


@dataclass(frozen=True)
class Struck(Laid):
    """Samples cut out of ``source``, the drum itself or a kit file, laid ``under`` the drum's hits
    or played instead. Under a hit whose bottom no place makes fuller there is none."""

    source: Node
    samples: tuple[Cut, ...]
    under: bool = True

    @property
    def _settings(self) -> tuple[object, ...]:
        return self.source.key, self.samples, self.under

    def _longest(self, rate: int) -> int:
        return max(cut.frames for cut in self.samples)

    def _heard(self, reader: Reader, rows: Sequence[Row]) -> object:
        return self._heard_in(reader, sorted({row.sound for row in rows}))

    def _heard_in(self, reader: Reader, used: Sequence[int]) -> list[tuple[str, Cut]]:
        """What is heard in samples by their numbers, and how they are cut."""
        cuts = [self.samples[n] for n in used]
        return [(reader.over(self.source, cut.at, cut.at + cut.frames), cut) for cut in cuts]

    @once
    def _kept(self) -> "WeakKeyDictionary[Reader, dict[int, Audio]]":
        return WeakKeyDictionary()

    def _sound(self, reader: Reader, row: Row) -> Audio:
        kept = self._kept.setdefault(reader, {})
        if row.sound not in kept:
            cut = self.samples[row.sound]
            sound = reader.read(self.source, cut.at, cut.at + cut.frames)
            kept[row.sound] = faded(sound, cut.fade_in, cut.fade_out)
        return kept[row.sound]

    def _head(self, rate: int) -> int:
        return round(HEAD_S * rate)

    def _decide(self, exact: Reader, levels_db: list[float]) -> Whole:
        if not levels_db:
            return Whole((), ())
        head = self._head(exact.rate)
        own = remembered(
            key_of("samples", exact.rate, self._heard_in(exact, range(len(self.samples)))),
            lambda: np.array(peaks_db(exact, self.source, [c.at + head for c in self.samples])),
        )
        scale = own.tolist()
        if self.source != self.drum:
            scale = at_the_drum_s_level(levels_db, scale)
        chosen, levels = choose(levels_db, scale), np.array(levels_db)
        typical = float(np.median(levels))
        gains = 10 ** (gain_db(levels, own[chosen], typical, self.following) / 20)
        return Whole(chosen, gains.tolist())

    def _name(self, exact: Reader, some: Some, whole: Whole) -> str:
        heard_in = self._heard_in(exact, self._chosen(some, whole))
        return key_of("placed", 1, some.name, heard_in, self.under, self.source == self.drum)

    def _chosen(self, some: Some, whole: Whole) -> Sequence[int]:
        return whole.sounds[some.first : some.first + len(some.onsets)]

    def _place(self, exact: Reader, some: Some, whole: Whole) -> NDArray[np.float64]:
        rate, head, lead = exact.rate, self._head(exact.rate), lead_before(exact.rate)
        length = head + round((SUM_S + 0.01) * rate)
        chosen = self._chosen(some, whole)
        sounds = np.zeros((len(chosen), head + length), np.float32)
        for row, n in zip(sounds, chosen, strict=True):
            cut = self.samples[n]
            frames = min(cut.frames, length)
            row[head : head + frames] = exact.read(self.source, cut.at, cut.at + frames)
        hits = self._hits(exact, some)[:, : lead + length - head]
        found = [
            place(hit, own, lead, rate, same_mic=self.source == self.drum)
            for hit, own in zip(heard(list(hits), rate), heard(list(sounds), rate), strict=True)
        ]
        return np.array(
            [
                # Rather none than one that makes the drum thinner.
                (
                    p.shift,
                    0 if self.under and p.gain_low_db < 0 else p.polarity,
                    p.alike,
                    p.gain_low_db,
                )
                for p in found
            ]
        )


def lead_before(rate: int) -> int:
    """Samples before a hit that are heard when something is laid under it."""
    return 2 * round(HEAD_S * rate)
