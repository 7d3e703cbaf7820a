"""The gate: decisions about a whole song first, then an envelope that is exact to a sample.

Deciding and applying are two things. A key that lingers between the thresholds remembers without
bound, so the decision is made once over the whole song (`threshold_openings`, `hit_openings`)
and cached as a short list. The envelope (`envelope`) is a list of breakpoints, linear in dB
between them, so any stretch of the song can be rendered alone and equals the whole.
"""

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.kernel import kernel


@dataclass(frozen=True)
class Timing:
    """Times in whole samples. Attack and release are the full travel between range and 0 dB;
    ``lookahead`` is how much before the key crosses the threshold the attack begins."""

    attack: int
    hold: int
    release: int
    lookahead: int = 0


Openings = NDArray[np.int64]
"""``(n, 2)``: first sample at which the key asks for open, and the sample at which hold starts."""


class ThresholdKey:
    """Follows a key block by block. Opens where \\|key\\| exceeds ``open_db``; hold starts at the
    first sample from which the key stays below ``close_db`` for the hold's whole length.

    Thresholds in dBFS, peak. Memory is unbounded, hence the state.
    """

    def __init__(self, open_db: float, close_db: float, hold: int) -> None:
        self._open = 10.0 ** (open_db / 20.0)
        self._close = min(10.0 ** (close_db / 20.0), self._open)
        self._hold = hold
        self._state = np.array([0, -1, -1], np.int64)  # is open, opened at, last sample above
        self._found: list[Openings] = []

    def feed(self, key: NDArray[np.float32], at: int) -> None:
        """The next block of the key ``(frames,)``, whose first sample is sample ``at`` of the song."""
        out = np.empty((len(key) // 2 + 2, 2), np.int64)
        count = _follow(key, at, self._open, self._close, self._hold, self._state, out)
        self._found.append(out[:count].copy())

    def finish(self, end: int) -> Openings:
        """All openings up to the song's ``end``."""
        if self._state[0]:
            self._found.append(np.array([[self._state[1], min(self._state[2] + 1, end)]], np.int64))
            self._state[0] = 0
        return np.concatenate(self._found) if self._found else np.zeros((0, 2), np.int64)


@kernel(fastmath=True, inline="always")
def _largest(key, start, stop):  # type: ignore[no-untyped-def]
    most = np.float32(0.0)
    for n in range(start, stop):
        most = max(most, abs(key[n]))
    return most


@kernel()
def _follow(key, at, open_level, close_level, hold, state, out):  # type: ignore[no-untyped-def]
    """Looks at 64 samples at once and only where they matter at each."""
    is_open, opened, last = state[0], state[1], state[2]
    count = 0
    n = 0
    size = len(key)
    while n < size:
        stop = min(n + 64, size)
        most = _largest(key, n, stop)
        if is_open == 0:
            if most <= open_level:
                n = stop
                continue
            while abs(key[n]) <= open_level:
                n += 1
            is_open = 1
            opened = at + n
            last = at + n
            n += 1
        elif most < close_level:
            if at + stop - 1 - last > hold:
                # The hold ends within these samples: go on from there, shut.
                n = max(last + hold + 1 - at, n)
                out[count, 0] = opened
                out[count, 1] = last + 1
                count += 1
                is_open = 0
            else:
                n = stop
        elif hold >= 64:
            # No gap within these samples can outlast the hold; only the one before them can.
            first = n
            while abs(key[first]) < close_level:
                first += 1
            if at + first - last > hold + 1:
                n = max(last + hold + 1 - at, n)
                out[count, 0] = opened
                out[count, 1] = last + 1
                count += 1
                is_open = 0
                continue
            final = stop - 1
            while abs(key[final]) < close_level:
                final -= 1
            last = at + final
            n = stop
        else:
            while n < stop:
                if abs(key[n]) >= close_level:
                    last = at + n
                elif at + n - last > hold:
                    out[count, 0] = opened
                    out[count, 1] = last + 1
                    count += 1
                    is_open = 0
                    break
                n += 1
    state[0], state[1], state[2] = is_open, opened, last
    return count


def threshold_openings(
    key: NDArray[np.float32], open_db: float, hysteresis_db: float, hold: int
) -> Openings:
    """Openings of a whole key ``(frames,)`` at once; see `ThresholdKey`."""
    follower = ThresholdKey(open_db, open_db - hysteresis_db, hold)
    follower.feed(key, 0)
    return follower.finish(len(key))


def hit_openings(
    onsets: NDArray[np.int64], lead: int | NDArray[np.int64], ring: int, frames: int
) -> Openings:
    """Openings by the hit list: from ``lead`` samples (one for all, or one each) before each onset until
    ``ring`` after it.

    Hits whose openings touch become one.
    """
    out: list[list[int]] = []
    for first, onset in sorted(zip((onsets - lead).tolist(), onsets.tolist(), strict=True)):
        start, stop = max(first, 0), min(onset + ring, frames)
        if out and start <= out[-1][1]:
            out[-1][1] = max(out[-1][1], stop)
        elif start < stop:
            out.append([start, stop])
    return np.array(out, np.int64).reshape(-1, 2)


@dataclass(frozen=True)
class Envelope:
    """Gain in dB over time: ``positions`` in samples, ascending, and ``gains_db`` there; linear
    in dB between, constant outside."""

    positions: NDArray[np.float64]
    gains_db: NDArray[np.float64]

    def at(self, samples: NDArray[np.float64]) -> NDArray[np.float64]:
        """Gain in dB ``(n,)`` at each of ``samples`` ``(n,)``."""
        return np.interp(samples, self.positions, self.gains_db)


def envelope(openings: Iterable[tuple[int, int]], range_db: float, timing: Timing) -> Envelope:
    """Gain that a gate of ``range_db`` (0 or negative) gives for its openings.

    From the opening, moved ahead by the lookahead, the gain rises to 0 dB at the attack's slope;
    after the hold it falls at the release's. A gate that opens again while closing rises from
    where it is.
    """
    if range_db >= 0.0:
        return Envelope(np.zeros(1), np.zeros(1))
    up = -range_db / max(timing.attack, 1e-9)
    down = -range_db / max(timing.release, 1e-9)
    positions, gains = [0.0], [range_db]

    def put(position: float, gain: float) -> None:
        if position <= positions[-1]:
            gains[-1] = gain if position == positions[-1] else gains[-1]
            return
        positions.append(position)
        gains.append(gain)

    for opened, closed in openings:
        start = float(max(opened - timing.lookahead, 0))
        # Where the last release stands when this opening begins.
        gain = range_db
        if len(positions) > 1:
            fallen_at, fallen = positions[-1], gains[-1]
            if start <= fallen_at:
                # Opened again during hold or release: cut the release off at this point.
                while len(positions) > 1 and positions[-1] >= start:
                    last_position, last_gain = positions.pop(), gains.pop()
                span = last_position - positions[-1]
                share = (start - positions[-1]) / span if span else 0.0
                gain = gains[-1] + share * (last_gain - gains[-1])
            else:
                gain = fallen
        put(start, gain)
        full = start - gain / up
        put(full, 0.0)
        release = max(float(closed + timing.hold), full)
        put(release, 0.0)
        put(release - range_db / down, range_db)
    return Envelope(np.array(positions), np.array(gains))


def lifted(shape: Envelope, gain_db: float) -> Envelope:
    """The envelope with ``gain_db`` added throughout."""
    return Envelope(shape.positions, shape.gains_db + gain_db)


def higher(a: Envelope, b: Envelope) -> Envelope:
    """The higher of two envelopes at every moment."""
    at = np.union1d(a.positions, b.positions)
    apart = a.at(at) - b.at(at)
    swaps = np.flatnonzero(apart[:-1] * apart[1:] < 0)
    crossing = at[swaps] + np.diff(at)[swaps] * apart[swaps] / (apart[swaps] - apart[swaps + 1])
    at = np.union1d(at, crossing)
    return Envelope(at, np.maximum(a.at(at), b.at(at)))


def apply_envelope(audio: NDArray[np.float32], start: int, shape: Envelope) -> NDArray[np.float32]:
    """``audio`` ``(frames,)``, whose first sample is sample ``start`` of the song, times the gain.

    Where the gain is 0 dB the samples pass untouched.
    """
    out = np.empty_like(audio)
    _apply(audio, start, shape.positions, shape.gains_db, out)
    return out


@kernel()
def _apply(audio, start, positions, gains, out):  # type: ignore[no-untyped-def]
    size = len(audio)
    count = len(positions)
    segment = np.searchsorted(positions, float(start), side="right")
    n = 0
    while n < size:
        now = start + n
        while segment < count and positions[segment] <= now:
            segment += 1
        stop = size
        if segment < count:
            stop = min(size, int(np.ceil(positions[segment])) - start)
        if segment == 0 or segment == count:
            gain = gains[0] if segment == 0 else gains[count - 1]
            slope = 0.0
        else:
            left = positions[segment - 1]
            slope = (gains[segment] - gains[segment - 1]) / (positions[segment] - left)
            gain = gains[segment - 1] + slope * (now - left)
        if slope == 0.0:
            if gain == 0.0:
                for i in range(n, stop):
                    out[i] = audio[i]
            else:
                factor = np.float32(10.0 ** (gain / 20.0))
                for i in range(n, stop):
                    out[i] = audio[i] * factor
        else:
            factor64 = 10.0 ** (gain / 20.0)
            step = 10.0 ** (slope / 20.0)
            for i in range(n, stop):
                out[i] = np.float32(audio[i] * factor64)
                factor64 *= step
        n = max(stop, n + 1)


def gate(
    audio: NDArray[np.float32],
    key: NDArray[np.float32],
    open_db: float,
    hysteresis_db: float,
    range_db: float,
    timing: Timing,
) -> NDArray[np.float32]:
    """A whole signal ``(frames,)`` gated by a whole key ``(frames,)`` on threshold: decision, envelope, gain.
    ``open_db`` in dBFS; ``range_db`` 0 or negative."""
    openings = threshold_openings(key, open_db, hysteresis_db, timing.hold)
    return apply_envelope(audio, 0, envelope(map(tuple, openings), range_db, timing))
