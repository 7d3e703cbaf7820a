"""The punch card: what makes drums hit, in figures that louder alone does not change.

Levels of hits are of the whole mix around a piece's own hits, medians over them, and stand
against the mix's loudness (*at equal loudness*) or its true peak (*at equal peak*), so that a fader
moves none of them.
"""

from collections.abc import Hashable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import Literal

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.kernel import kernel
from arkund.core.kit.roles import piece_family
from arkund.core.measure.clear import (
    JUST_BEFORE_S,
    NO_CYMBALS,
    NO_GHOSTS,
    PUMPED_S,
    PUMPING,
    Cymbals,
    Ghosts,
)
from arkund.core.measure.hits import mean_envelope_db
from arkund.core.measure.loudness import loudness_lufs, true_peak_dbtp
from arkund.core.shape import biquad
from arkund.core.shape.sides import louder_side
from arkund.core.units import SILENCE_DB, power_to_db

ATTACK_S, EARLY_S = (-0.001, 0.010), (-0.0035, 0.0075)
"""Where an attack lies around a hit; and where it does if the hit is listed late, as soft kicks are by up to 3 ms."""

BODY_S = (0.030, 0.120)
LOW_S = (0.0, 0.050)
LOW_HZ, TOM_LOW_HZ = (35.0, 120.0), (35.0, 250.0)
"""The low end of kick and snare, and of toms, the smallest of which have their pitch at 200 Hz: under it their mics
hear the other drums."""

BODY_HZ = (150.0, 1500.0)
"""Ghosts are measured in this band: a hat hit at the same moment adds little to it."""

BRIGHT_HZ = 6000.0
"""Cymbals are measured above this, where shells hardly ring."""

DRAWN_S, DRAWN = 0.16, 96
BETWEEN_S = 0.25
"""Ring is measured this long after a hit where none follows sooner."""

AWAY_S = (0.030, 0.060)
"""A cymbal's hit counts where no shell is hit so long before it, or so little after."""

QUIET_S, QUIET = 0.05, 5
"""Noise is the level that this percentage of blocks of this length stay under."""


@dataclass(frozen=True)
class Hits:
    """Onsets in s of each shell's hits without ghosts, of the snare's ghosts, of all, and of the hits
    of hat and cymbals."""

    shells: Mapping[str, Sequence[float]]
    ghosts: Sequence[float] = ()
    every: Sequence[float] = ()
    cymbals: Sequence[float] = ()

    @property
    def as_key(self) -> Hashable:
        """Equal for equal hits."""
        shells = tuple((piece, tuple(times)) for piece, times in self.shells.items())
        return shells, tuple(self.ghosts), tuple(self.every), tuple(self.cymbals)


@dataclass(frozen=True)
class Shell:
    """A shell's hits in the mix, in dB: RMS of −1 to 10 ms (attack) and of 30 to 120 ms (body) in dBFS, the first over
    the second, the level of the low end (`LOW_HZ`, toms `TOM_LOW_HZ`) in the first 50 ms in dBFS, what is left 150 to
    250 ms after, under the attack; and the attack 2.5 ms earlier (`EARLY_S`) in dBFS."""

    attack_dbfs: float
    body_dbfs: float
    attack_to_body_db: float
    low_dbfs: float
    ring_db: float
    early_dbfs: float = SILENCE_DB


@dataclass(frozen=True)
class Card:
    """The mix's loudness in LUFS, true peak in dBTP, crest (true peak over RMS) in dB, its shells'
    hits, the snare's ghosts, its cymbals, its noise in dBFS,
    and what folding it to mono takes off its power in dB."""

    loudness_lufs: float
    true_peak_dbtp: float
    crest_db: float
    shells: Mapping[str, Shell] = field(default_factory=dict)
    ghosts: Ghosts = NO_GHOSTS
    cymbals: Cymbals = NO_CYMBALS
    noise_dbfs: float = SILENCE_DB
    mono_loss_db: float = 0.0

    @property
    def loudness_at_peak_lu(self) -> float:
        """Loudness where the true peak is 0 dBTP."""
        return self.loudness_lufs - self.true_peak_dbtp

    def attack_db(self, piece: str) -> float:
        """A shell's attack at equal loudness: over the mix's loudness."""
        return self.shells[piece].attack_dbfs - self.loudness_lufs

    def attacks_db(self, piece: str) -> tuple[float, float]:
        """`attack_db`, and the same as it is if the hits are listed late."""
        shell = self.shells[piece]
        return shell.attack_dbfs - self.loudness_lufs, shell.early_dbfs - self.loudness_lufs

    def low_at_peak_db(self, piece: str) -> float:
        """A shell's low end at equal true peak."""
        return self.shells[piece].low_dbfs - self.true_peak_dbtp

    def low_at_loudness_db(self, piece: str) -> float:
        """A shell's low end at equal loudness."""
        return self.shells[piece].low_dbfs - self.loudness_lufs

    @property
    def noise_under_db(self) -> float:
        """How far the mix's noise lies under its loudness."""
        return self.loudness_lufs - self.noise_dbfs

    @property
    def cymbals_over_snare_db(self) -> float | None:
        """The median hit of hat and cymbals, what is bright of it, over the snare's attack; None without
        either."""
        if "snare" not in self.shells or not len(self.cymbals.levels_dbfs):
            return None
        return float(np.median(self.cymbals.levels_dbfs)) - self.shells["snare"].attack_dbfs

    def as_dict(self) -> dict[str, object]:
        """All figures, those of levels at equal loudness or peak."""
        shells = {
            piece: {
                "attack_db": round(self.attack_db(piece), 2),
                "attack_to_body_db": round(s.attack_to_body_db, 2),
                "low_at_peak_db": round(self.low_at_peak_db(piece), 2),
                "low_at_loudness_db": round(self.low_at_loudness_db(piece), 2),
                "ring_db": round(s.ring_db, 2),
            }
            for piece, s in self.shells.items()
        }
        whole = {k: round(v, 2) for k, v in vars(self).items() if isinstance(v, float)}
        return {
            **whole,
            "loudness_at_peak_lu": round(self.loudness_at_peak_lu, 2),
            "shells": shells,
        }


def punch_card(mix: NDArray[np.float32], rate: int, hits: Hits) -> Card:
    """The card of a mix ``(frames,)`` or ``(frames, 2)`` with its hits (onsets in s)."""
    with ThreadPoolExecutor(2) as pool:
        low = pool.map(lambda side: _band(side, rate, "bandpass", LOW_HZ), _sides(mix))
        of_toms = [p for p in hits.shells if piece_family(p) == "tom"]
        tom_low = pool.map(
            lambda side: _band(side, rate, "bandpass", TOM_LOW_HZ), _sides(mix) if of_toms else []
        )
        bright = pool.map(lambda side: _band(side, rate, "highpass", BRIGHT_HZ), _sides(mix))
        has_ghosts = len(hits.ghosts) > 0 and len(hits.shells.get("snare", ())) > 0
        body = pool.map(
            lambda side: _band(side, rate, "bandpass", BODY_HZ), _sides(mix) if has_ghosts else []
        )
        loud, tallest = pool.submit(loudness_lufs, mix, rate), pool.submit(true_peak_dbtp, mix)
        whole = _summed(_sides(mix))
        lows, brights = _summed(list(low)), _summed(list(bright))
        tom_lows = _summed(list(tom_low)) if of_toms else lows
        bodies = _summed(list(body)) if has_ghosts else lows
    loudness, peak = loud.result(), tallest.result()
    every = np.sort(np.asarray(hits.every, np.float64))
    shells = {
        piece: _shell(whole, tom_lows if piece in of_toms else lows, rate, times, every)
        for piece, times in hits.shells.items()
        if len(times)
    }
    mean = power_to_db(float(whole[-1]) / len(mix)) if len(mix) else SILENCE_DB
    return Card(
        loudness,
        peak,
        peak - mean,
        shells,
        _ghosts(bodies, rate, hits) if has_ghosts else NO_GHOSTS,
        _cymbals(brights, rate, hits),
        _noise_dbfs(whole, rate),
        _mono_loss_db(mix, mean),
    )


def average_hits(mix: NDArray[np.float32], rate: int, hits: Hits) -> dict[str, NDArray[np.float64]]:
    """Each shell's average hit in a mix ``(frames, 2)``: `DRAWN` amplitudes over `DRAWN_S` from
    its onset, the louder side's, where the mix's loudness is 0 LUFS."""
    level = louder_side(mix)
    loudness = loudness_lufs(mix, rate)
    return {
        piece: 10 ** ((mean_envelope_db(level, rate, times, DRAWN_S, DRAWN) - loudness) / 20)
        for piece, times in hits.shells.items()
        if len(times)
    }


def _shell(
    whole: NDArray[np.float64],
    lows: NDArray[np.float64],
    rate: int,
    times: Sequence[float],
    every: NDArray[np.float64],
) -> Shell:
    attack, body, early = (
        _levels(whole, rate, times, span) for span in (ATTACK_S, BODY_S, EARLY_S)
    )
    at = np.asarray(times, np.float64)
    following = np.searchsorted(every, at + 0.02)
    gaps = np.append(every, np.inf)[following] - at
    free = at[gaps > BETWEEN_S]
    ring = _levels(whole, rate, free, (0.15, BETWEEN_S)) - _levels(whole, rate, free, ATTACK_S)
    return Shell(
        float(np.median(attack)),
        float(np.median(body)),
        float(np.median(attack - body)),
        float(np.median(_levels(lows, rate, times, LOW_S))),
        float(np.median(ring)) if len(free) else 0.0,
        float(np.median(early)),
    )


def _ghosts(bodies: NDArray[np.float64], rate: int, hits: Hits) -> Ghosts:
    """The ghosts with no shell's hit near them, and the accents; both filtered to `BODY_HZ`."""
    at, struck = np.asarray(hits.ghosts, np.float64), _struck(hits)
    at = at[(_since(at, struck) > AWAY_S[0]) & (_since(-at, -struck[::-1]) > AWAY_S[1])]
    levels = _levels(bodies, rate, at, ATTACK_S)
    accents = _levels(bodies, rate, hits.shells["snare"], ATTACK_S)
    rises = levels - _levels(bodies, rate, at, JUST_BEFORE_S)
    return Ghosts(levels, rises, float(np.median(accents)))


def _struck(hits: Hits) -> NDArray[np.float64]:
    """Onsets in s of all shells' hits without ghosts, sorted."""
    return np.sort(np.concatenate([np.zeros(0), *map(np.asarray, hits.shells.values())]))


def _cymbals(bright: NDArray[np.float64], rate: int, hits: Hits) -> Cymbals:
    """The cymbals' hits that no shell's are near."""
    struck = np.sort(np.concatenate([_struck(hits), np.asarray(hits.ghosts, np.float64)]))
    at = np.asarray(hits.cymbals, np.float64)
    since = _since(at, struck)
    at = at[(since > AWAY_S[0]) & (_since(-at, -struck[::-1]) > AWAY_S[1])]
    loud = [np.asarray(hits.shells[p]) for p in PUMPING if p in hits.shells]
    pressing = np.sort(np.concatenate(loud)) if loud else np.zeros(0)
    levels = _levels(bright, rate, at, ATTACK_S)
    rises = levels - _levels(bright, rate, at, JUST_BEFORE_S)
    return Cymbals(levels, _since(at, pressing) < PUMPED_S, rises)


def _since(at: NDArray[np.float64], others: NDArray[np.float64]) -> NDArray[np.float64]:
    """How long before each time the last of ``others`` (in order) was; infinite where none was."""
    known = np.append(-np.inf, others)
    out: NDArray[np.float64] = at - known[np.searchsorted(others, at, side="right")]
    return out


def _noise_dbfs(whole: NDArray[np.float64], rate: int) -> float:
    edges = whole[:: max(round(QUIET_S * rate), 1)]
    if len(edges) < 2:
        return SILENCE_DB
    return power_to_db(float(np.percentile(np.diff(edges), QUIET)) / max(round(QUIET_S * rate), 1))


def _mono_loss_db(mix: NDArray[np.float32], mean_db: float) -> float:
    """How far the power of both sides' mean lies under the mean of their powers (``mean_db``)."""
    if mix.ndim == 1 or not len(mix) or mean_db <= SILENCE_DB:
        return 0.0
    folded = float(_folded_power(mix[:, 0], mix[:, 1])) / len(mix)
    return mean_db - power_to_db(folded)


@kernel()
def _folded_power(left, right):  # type: ignore[no-untyped-def]
    total = 0.0
    for n in range(len(left)):
        middle = 0.5 * (np.float64(left[n]) + np.float64(right[n]))
        total += middle * middle
    return total


def _levels(
    sums: NDArray[np.float64],
    rate: int,
    times: Sequence[float] | NDArray[np.float64],
    span: tuple[float, float],
) -> NDArray[np.float64]:
    """Mean power in a span around each hit, in dB."""
    at = np.rint(np.asarray(times, np.float64) * rate)
    first, last = (np.clip(at + round(s * rate), 0, len(sums) - 1).astype(int) for s in span)
    mean = (sums[last] - sums[first]) / np.maximum(last - first, 1)
    return 10 * np.log10(np.maximum(mean, 1e-18))


def _band(
    side: NDArray[np.float32],
    rate: int,
    kind: Literal["bandpass", "highpass"],
    hz: float | tuple[float, ...],
) -> NDArray[np.float32]:
    """A band of ``(frames,)``: Butterworth of the second order forth and back."""
    rows = scipy.signal.butter(2, hz, kind, fs=rate, output="sos")
    sections = [tuple(row[[0, 1, 2, 4, 5]]) for row in rows]
    for _ in range(2):
        side = biquad.run(side, sections, biquad.new_state(sections))[::-1]
    return side


def _sides(mix: NDArray[np.float32]) -> list[NDArray[np.float32]]:
    """Left and right of ``(frames, 2)``, or the one side of ``(frames,)``."""
    return [mix] if mix.ndim == 1 else [mix[:, 0], mix[:, 1]]


def _summed(sides: Sequence[NDArray[np.float32]]) -> NDArray[np.float64]:
    """Power summed up to each sample, ``(frames + 1,)``, of both sides the mean: a window's mean is
    one subtraction."""
    sums = np.zeros(len(sides[0]) + 1)
    _add_up(sides[0], sides[-1], sums)
    return sums


@kernel()
def _add_up(left, right, sums):  # type: ignore[no-untyped-def]
    total = 0.0
    for n in range(len(left)):
        a, b = np.float64(left[n]), np.float64(right[n])
        total += 0.5 * (a * a + b * b)
        sums[n + 1] = total
