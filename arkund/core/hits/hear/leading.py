"""Which mic hears a hit first.

A drum's own mic hears it a millisecond or more before the other close mics do, however loud it is
in them and whatever their gains. So the hits of which one mic hears the beginning before all
others are that mic's drum's, and say what this drum sounds like before anything is known of
levels; a mic that never hears anything first has a drum that is not played, or hardly.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.kernel import kernel

EARLIER_S, LATER_S = 0.010, 0.014
"""How far about a candidate each mic is searched for its onset."""

SHARE = 0.1
"""Of the steepest moment's energy: where an onset is taken to begin."""

SHARP = 8.0
"""By how much an onset's steepest moment exceeds what was before, as a ratio of energies, for it
to lead; from `STIRS` on it can be led by."""

STIRS = 4.0
SOFTEST_DB = -20.0
"""Level of an onset, against its mic's loudest, from which it can lead."""

AHEAD_S = 1e-4


SAME_WAY_S = 4e-4
NEARLY_SAME_S = 3.5e-4
SHORTEST_WAY_S, LONGEST_WAY_S = -8e-4, 7e-3
"""Between which one mic hears another's drum later than that mic does. (A slow attack is noticed
late in its own mic, so that the sound seems to have been faster.)"""

SHARE_OF_SAME = 0.2
"""Of all hits, how many must take the same way for them to be bleed; `SHARE_IF_SHORT` where
it is so short that hits that fall together may take it too."""

SHARE_IF_SHORT = 0.4
BY_CHANCE = 2.5
"""And so many more, since a few hits fall equally far apart by chance."""

SURELY_LATER_S = 4e-4


@dataclass(frozen=True)
class Onsets:
    """Of each mic (row) at each candidate: sample ``at`` of its onset, ``level`` (energy of its
    steepest moment) and ``sharp``, its ratio to what was before; all ``(mics, candidates)``. Some
    mics are ``far`` from their drum, so that others may hear it first."""

    at: NDArray[np.float64]
    level: NDArray[np.float64]
    sharp: NDArray[np.float64]
    rate: int
    far: tuple[int, ...] = ()

    def strong(self) -> NDArray[np.bool_]:
        """``(mics, candidates)``: where a mic hears a sharp onset, and no soft one."""
        if not self.level.shape[1]:
            return np.zeros(self.level.shape, bool)
        loudest = np.sort(self.level, axis=1)[:, -4:].mean(axis=1, keepdims=True)
        return (self.sharp > SHARP) & (self.level > loudest * 10 ** (SOFTEST_DB / 10))

    def leads(self) -> NDArray[np.bool_]:
        """``(mics, candidates)``: where a mic hears a sharp onset before every other does."""
        out = self.strong()
        for mic in range(len(self.at)):
            for other in range(len(self.at)):
                if other in self.far and mic not in self.far:
                    out[mic] &= ~self.strong()[other]
                elif other != mic:
                    before = self.at[other] <= self.at[mic] + AHEAD_S * self.rate
                    out[mic] &= ~(before & (self.sharp[other] > STIRS))
        return out

    def way_s(self, other: int, mic: int, mine: NDArray[np.int64]) -> float | None:
        """How much later than its own ``mic`` the ``other`` mic hears the hits ``mine``.

        What bleeds begins always as much later, within `SAME_WAY_S`; hands and feet differ by
        more, so hits that fall together scatter. None where no such delay stands out.
        """
        stirs = self.sharp[other, mine] > STIRS
        lag = (self.at[other, mine] - self.at[mic, mine])[stirs] / self.rate
        windows = np.arange(SHORTEST_WAY_S, LONGEST_WAY_S, SAME_WAY_S / 8)
        inside = (lag >= windows[:, None]) & (lag < windows[:, None] + SAME_WAY_S)
        counts = inside.sum(axis=1)
        needed = np.where(windows < SURELY_LATER_S, SHARE_IF_SHORT, SHARE_OF_SAME)
        counts = np.where(counts >= needed * len(lag) + BY_CHANCE, counts, 0)
        best = int(np.argmax(counts))
        return float(windows[best] + SAME_WAY_S / 2) if counts[best] else None

    def resting(
        self, other: int, mic: int, mine: NDArray[np.int64], soft: NDArray[np.bool_]
    ) -> NDArray[np.bool_]:
        """``(len(mine),)``: at which of the candidates ``mine``, hits at ``mic``, the drum of
        the ``other`` mic rests: there that mic hears nothing begin, and nothing loud (``soft``),
        or what it hears takes the way of bleed."""
        stirs = self.sharp[other, mine] > STIRS
        way_s = self.way_s(other, mic, mine)
        out = ~stirs & soft
        if way_s is not None:
            lag = (self.at[other, mine] - self.at[mic, mine]) / self.rate
            out |= stirs & (np.abs(lag - way_s) <= SAME_WAY_S / 2)
        return out

    def untimely(self, mic: int, ways_s: dict[int, float | None]) -> NDArray[np.bool_]:
        """``(candidates,)``: where a mic hears a strong onset that begins at a time at which the
        sound of no other drum reaches it.

        ``ways_s`` are those of the other mics whose drums are played; one that is not known may
        be any that a kit is large.
        """
        out = self.strong()[mic]
        for other, way_s in ways_s.items():
            lag = (self.at[mic] - self.at[other]) / self.rate
            on_time = (
                (lag > SURELY_LATER_S) & (lag < LONGEST_WAY_S)
                if way_s is None
                else np.abs(lag - way_s) <= NEARLY_SAME_S
            )
            out &= ~(on_time & (self.sharp[other] > STIRS))
        return out

    def timely(self, mic: int, other: int, way_s: float | None) -> NDArray[np.bool_]:
        """``(candidates,)``: where a ``mic`` hears an onset begin just when what the ``other`` one
        hears reaches it; nowhere, if the way is not known."""
        if way_s is None:
            return np.zeros(self.at.shape[1], bool)
        lag = (self.at[mic] - self.at[other]) / self.rate
        on_time: NDArray[np.bool_] = np.abs(lag - way_s) <= NEARLY_SAME_S
        return on_time & (self.sharp[other] > STIRS)


def onsets_of(
    mics: Sequence[NDArray[np.float32]],
    candidates: NDArray[np.int64],
    rate: int,
    far: tuple[int, ...] = (),
) -> Onsets:
    """Onsets of ``mics``, each ``(frames,)``, about each of ``candidates`` in samples; ``far`` are
    the positions of those that are not the first to hear their drum."""
    before, after = round(EARLIER_S * rate), round(LATER_S * rate)
    found = [_onsets(mic, candidates, before, after, SHARE) for mic in mics]
    at, level, sharp = (np.stack([f[i] for f in found]) for i in range(3))
    return Onsets(at, level, sharp, rate, far)


@kernel()
def _onsets(audio, candidates, before, after, share):  # type: ignore[no-untyped-def]
    count = len(candidates)
    at, level, sharp = np.full(count, np.inf), np.zeros(count), np.zeros(count)
    energy = np.zeros(before + after)
    for i in range(count):
        start = max(candidates[i] - before, 9)
        size = min(candidates[i] + after, len(audio)) - start
        if size < 64:
            continue
        total = 0.0
        for k in range(start - 8, start):
            step = audio[k] - audio[k - 1]
            total += step * step
        most = 0.0
        for k in range(size):
            new, old = (
                audio[start + k] - audio[start + k - 1],
                audio[start + k - 8] - audio[start + k - 9],
            )
            total = max(total + new * new - old * old, 0.0)
            energy[k] = total
            most = max(most, total)
        earlier = 0.0
        for k in range(size // 6):
            earlier = max(earlier, energy[k])
        k = 0
        while energy[k] < share * most:
            k += 1
        at[i], level[i], sharp[i] = start + k, most, most / (earlier + 1e-14)
    return at, level, sharp
