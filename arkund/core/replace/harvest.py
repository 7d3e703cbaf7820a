"""Harvest: single hits of a drum that stand alone in its mic, ranked by how well they do.

A hit's sample reaches until the drum's next hit or until the drum has rung out. What may lie
in it besides the drum is measured two ways: the level just before the hit, and how loud other
pieces' hits that fall inside usually are in this mic.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.hit import Hit
from arkund.core.units import SILENCE_DB, amplitude_to_db, power_to_db

HEAD_S = 0.003
"""A sample begins so long before its hit."""

BEFORE_S = (-0.03, -0.004)
PEAK_S = 0.03
SHORTEST_S = 0.06
EARLIEST_S = 0.01
"""Another piece's hit that falls within so long belongs to the same moment and cannot be cut off."""


@dataclass(frozen=True)
class Candidate:
    """A hit as a sample: from sample ``at`` of the mic for ``frames``; its peak in dBFS, by how
    much it exceeds what else is heard in it (``isolation_db``), and what that is."""

    hit: Hit
    at: int
    frames: int
    peak_dbfs: float
    before_db: float
    isolation_db: float
    heard_with: str


def candidates(
    sound: NDArray[np.float32],
    rate: int,
    piece: str,
    hits: Sequence[Hit],
    ring_s: float,
    delay_s: float = 0.0,
) -> list[Candidate]:
    """The hits of ``piece`` in its mic ``sound`` ``(frames,)``, the best isolated first.

    ``hits`` are all hits of the song in s; they fall ``delay_s`` later in the mic. A sample is
    ``ring_s`` long at most. Flams and rolls, and hits with less than 60 ms to themselves, are no
    samples.
    """
    usual = usual_peaks_db(sound, rate, piece, hits, delay_s)
    every = sorted(hits, key=lambda h: h.time_s)
    own = np.array([h.time_s for h in every if h.piece == piece])
    out = []
    for hit in every:
        if hit.piece != piece or hit.kind in ("flam", "roll"):
            continue
        following = own[own > hit.time_s + 1e-4]
        gap = float(following[0] - hit.time_s) - 0.005 if len(following) else np.inf
        others = [h for h in every if h.piece != piece and -0.002 < h.time_s - hit.time_s < ring_s]
        together = [h for h in others if h.time_s - hit.time_s < EARLIEST_S]
        loud = [h for h in others if h not in together and usual.get(h.piece, SILENCE_DB) > -50]
        # Before the first loud hit of another piece, where that leaves enough.
        until = min((h.time_s - hit.time_s - 0.002 for h in loud), default=np.inf)
        length = min(gap, ring_s, until if until >= 0.6 * ring_s else np.inf)
        if length < SHORTEST_S:
            continue
        found = _candidate(sound, rate, hit, length, delay_s, usual, others)
        if found is not None:
            out.append(found)
    return sorted(out, key=lambda c: -c.isolation_db)


def _candidate(
    sound: NDArray[np.float32],
    rate: int,
    hit: Hit,
    length: float,
    delay_s: float,
    usual: Mapping[str, float],
    others: Sequence[Hit],
) -> Candidate | None:
    onset = round((hit.time_s + delay_s) * rate)
    at, frames = onset - round(HEAD_S * rate), round((HEAD_S + length) * rate)
    if at < 0 or at + frames > len(sound):
        return None
    peak = amplitude_to_db(float(np.abs(sound[onset : onset + round(PEAK_S * rate)]).max()))
    first, last = (onset + round(s * rate) for s in BEFORE_S)
    quiet = sound[max(first, 0) : max(last, 1)].astype(np.float64)
    before = power_to_db(float(np.mean(quiet**2))) if len(quiet) else SILENCE_DB
    inside = [
        (usual.get(h.piece, SILENCE_DB), h.piece) for h in others if h.time_s - hit.time_s < length
    ]
    loudest, heard = max(inside, default=(SILENCE_DB, ""))
    most = max(before + 12.0, loudest)  # a peak stands some 12 dB over its mean
    return Candidate(
        hit, at, frames, peak, before, peak - most, heard if loudest > before + 12 else ""
    )


def usual_peaks_db(
    sound: NDArray[np.float32], rate: int, piece: str, hits: Sequence[Hit], delay_s: float
) -> dict[str, float]:
    """How loud each other piece's hits are in the mic's ``sound`` ``(frames,)`` where none of ``piece`` falls near:
    median peak of 30 ms in dBFS."""
    own = np.array([h.time_s for h in hits if h.piece == piece])
    peaks: dict[str, list[float]] = {}
    for h in hits:
        if h.piece == piece or (len(own) and np.min(np.abs(own - h.time_s)) < 0.12):
            continue
        onset = round((h.time_s + delay_s) * rate)
        part = sound[max(onset, 0) : onset + round(PEAK_S * rate)]
        if len(part):
            peaks.setdefault(h.piece, []).append(amplitude_to_db(float(np.abs(part).max())))
    return {p: float(np.median(levels)) for p, levels in peaks.items()}


def bands(found: Sequence[Candidate], most_bands: int = 4, most_each: int = 4) -> list[Candidate]:
    """A set of samples from soft to loud: hits split by level into bands of equal numbers, of
    each the best isolated; at least three hits make a band."""
    if not found:
        return []
    by_level = sorted(found, key=lambda c: c.peak_dbfs)
    count = max(1, min(most_bands, len(by_level) // 3))
    out: list[Candidate] = []
    for band in np.array_split(np.arange(len(by_level)), count):
        inside = sorted((by_level[int(n)] for n in band), key=lambda c: -c.isolation_db)
        out += inside[:most_each]
    return sorted(out, key=lambda c: c.peak_dbfs)
