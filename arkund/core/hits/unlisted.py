"""Hits that the list may lack: what stands in a drum's own mic clear of all that bleed can
explain, though no hit of the drum is listed there.

The list decides what is edited and counted; a gate that it opens would cut whatever it lacks. So
this asks a coarser question than `detect` does, by levels in one mic alone, and shares none of its
assumptions: how loud is each other piece in this mic where it falls, and is this louder?
"""

from collections.abc import Mapping, Sequence
from types import MappingProxyType

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import close_mics, is_shell, sort_pieces

FEWEST = 4
"""Hits of a drum from which on it is known how loud they are."""

SOFTER_DB = 3.0
"""How much softer than the drum's soft hits (10th percentile, no ghosts) one may be."""

RISE_DB = 9.0
"""How far an onset stands above what sounded just before."""

SPREAD_DB, CLEAR_DB = 7.0, 4.0
"""How much louder than usual another's bleed may be, and by how much a hit exceeds that."""

CYMBAL_DB = -10.0
"""The most that a cymbal leaves in a drum's mic, against the drum's own hits."""

FEW_ALONE, FEWEST_ALONE = 2, 8
"""Hits of another drum, away from this one's, without which anything may be its bleed, and from
which on their usual level says enough."""

OWN_S = (0.025, 0.060)
"""How long before and after a listed hit nothing else is looked for."""

RING_MS, RING_DB = 400, 4.0
"""How long after a hit it must stand clear of the drum's own ring, which may beat by so much."""

NEAR_S = (0.012, 0.013)
"""What began so long before an onset, or so little after it, may be what is heard."""

ALONE_S = (0.045, 0.15)
PEAK_MS, OF_PEAK = 12, 0.3


def unlisted_hits(
    mics: Mapping[str, NDArray[np.float32]],
    rate: int,
    hits: Sequence[Hit],
    maybes: Mapping[str, Sequence[float]] = MappingProxyType({}),
) -> dict[str, list[float]]:
    """Times in s at which a drum with a close mic may be hit though ``hits`` do not say so, by
    piece; ``mics`` by name, ``(frames,)`` each; pieces without any are left out. ``maybes`` are what detection
    was not sure enough of."""
    out = {}
    for piece in sort_pieces({h.piece for h in hits if is_shell(h.piece)}):
        ears = close_mics(mics, piece)
        clear = _in_mic(mics[ears[0]], rate, piece, hits) if ears else []
        if found := _together(clear, maybes.get(piece, ())):
            out[piece] = found
    return out


def _together(clear: Sequence[float], maybes: Sequence[float]) -> list[float]:
    """Both in order, one of those that are the same."""
    known = np.sort(np.array(clear))
    new = [round(t, 6) for t in maybes if not _any_within(known, t, OWN_S[0], OWN_S[0])]
    return sorted([*clear, *new])


def _in_mic(audio: NDArray[np.float32], rate: int, piece: str, hits: Sequence[Hit]) -> list[float]:
    own = np.array([h.time_s for h in hits if h.piece == piece])
    loud = np.array([h.time_s for h in hits if h.piece == piece and h.kind != "ghost"])
    if len(loud) < FEWEST:
        return []
    hop = rate // 1000
    peaks = _frame_peaks(audio, hop)
    steep = _frame_peaks(np.diff(audio, prepend=np.float32(0)), hop)
    after = _most_after(peaks, PEAK_MS)
    own_peaks = after[_frames(loud, rate, hop, len(after))]
    soft = float(np.percentile(own_peaks, 10)) * 10 ** (-SOFTER_DB / 20)
    onsets = np.flatnonzero((after > soft) & (_rises(peaks) | _rises(steep)))
    if not len(onsets):
        return []
    starts = onsets[np.diff(onsets, prepend=-100) > 20]
    ring = _ring(own, peaks, rate, hop)
    bleed_at, bleed = _bleed(own, float(np.median(own_peaks)), after, rate, hop, hits, piece)
    out = []
    for first in starts:
        # What stirs a little before is another's.
        ahead = peaks[first : first + PEAK_MS]
        start = first + int(np.argmax(ahead > OF_PEAK * ahead.max()))
        at = start * hop / rate
        if _any_within(own, at, *OWN_S):
            continue
        since = int(start - np.round(own[np.searchsorted(own, at) - 1] * rate / hop))
        rings = ring[since] * 10 ** (RING_DB / 20) if 0 <= since < RING_MS else 0.0
        one, end = np.searchsorted(bleed_at, [at - NEAR_S[0], at + NEAR_S[1]])
        explained = (rings + bleed[one:end].sum()) * 10 ** (CLEAR_DB / 20)
        if after[start] > explained:
            out.append(round(float(at), 6))
    return out


def _bleed(
    own: NDArray[np.float64],
    own_peak: float,
    after: NDArray[np.float32],
    rate: int,
    hop: int,
    hits: Sequence[Hit],
    piece: str,
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Times in s of all other pieces' hits, ascending, and the most that each leaves in this
    mic.

    That is in proportion to its level, and by so much more than usual as hits differ. Where
    this drum's hits hide among another's the usual is theirs; what is known of kits bounds it.
    """
    times: list[float] = []
    levels: list[float] = []
    for other in {h.piece for h in hits} - {piece}:
        theirs = [h for h in hits if h.piece == other]
        size = np.array([10 ** (h.level_db / 20) for h in theirs])
        heard = after[_frames(np.array([h.time_s for h in theirs]), rate, hop, len(after))]
        alone = np.array([not _any_within(own, h.time_s, ALONE_S[1], ALONE_S[0]) for h in theirs])
        ratio = np.inf
        if alone.sum() >= FEW_ALONE:
            shares = heard[alone] / size[alone]
            ratio = float(np.median(shares)) * 10 ** (SPREAD_DB / 20)
            if alone.sum() < FEWEST_ALONE:
                ratio = max(ratio, float(shares.max()) * 10 ** (CLEAR_DB / 20))
        if not is_shell(other):
            ratio = min(ratio, own_peak * 10 ** (CYMBAL_DB / 20))
        times += [h.time_s for h in theirs]
        levels += list(ratio * size)
    order = np.argsort(times)
    return np.array(times)[order], np.array(levels)[order]


def _ring(
    own: NDArray[np.float64], peaks: NDArray[np.float32], rate: int, hop: int
) -> NDArray[np.float64]:
    """How loud the drum still is so many ms after its hits, ``(RING_MS,)``: of the hits that
    no other follows by then, the median."""
    padded = np.concatenate([peaks, np.zeros(RING_MS + 8, peaks.dtype)])
    at = _frames(own, rate, hop, len(peaks))
    rows = np.lib.stride_tricks.sliding_window_view(padded, RING_MS + 8)[at]
    until = np.diff(at, append=at[-1] + RING_MS)
    ring = np.full(RING_MS, np.inf)
    for lag in range(RING_MS):
        free = until > lag + 12
        if free.any():
            ring[lag] = np.median(rows[free, lag : lag + 8].max(axis=1))
    return ring


def _frames(times: NDArray[np.float64], rate: int, hop: int, count: int) -> NDArray[np.int64]:
    return np.clip(np.round(times * rate / hop).astype(np.int64) - 1, 0, count - 1)


def _frame_peaks(audio: NDArray[np.float32], hop: int) -> NDArray[np.float32]:
    """Largest magnitude of each millisecond."""
    count = len(audio) // hop
    out: NDArray[np.float32] = np.abs(audio[: count * hop]).reshape(count, hop).max(axis=1)
    return out


def _most_after(peaks: NDArray[np.float32], length: int) -> NDArray[np.float32]:
    """Largest of each frame and the ``length`` - 1 after it."""
    padded = np.concatenate([peaks, np.zeros(length - 1, peaks.dtype)])
    out: NDArray[np.float32] = np.lib.stride_tricks.sliding_window_view(padded, length).max(axis=1)
    return out


def _rises(peaks: NDArray[np.float32]) -> NDArray[np.bool_]:
    """Frames from which on it is within 4 ms far louder than in the 12 ms before."""
    before = np.concatenate([np.zeros(12, peaks.dtype), _most_after(peaks, 12)[:-12]])
    return _most_after(peaks, 4) > before * 10 ** (RISE_DB / 20) + 1e-6


def _any_within(times: NDArray[np.float64], at: float, before_s: float, after_s: float) -> bool:
    """Whether any of ``times`` (ascending) lies so little before ``at`` or after it."""
    first = np.searchsorted(times, at - before_s)
    return bool(first < len(times) and times[first] <= at + after_s)
