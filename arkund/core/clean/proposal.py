"""What a mic's gate stands on, what it would best be, and what a given gate does.

Two histograms: the peaks of this drum's hits, and the peaks of what leaks in between them. A
threshold is right where they part; how far they part is the margin.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.clean.gate import Envelope, Openings, apply_envelope
from arkund.core.hits.hit import Hit
from arkund.core.measure.hits import ring_time_s
from arkund.core.measure.levels import hit_peaks
from arkund.core.units import amplitudes_to_db, ms_to_samples, power_to_db

LEAST_SURE = 0.85
"""Median confidence of a drum's hits under which a gate that they open is doubtful."""


@dataclass(frozen=True)
class Separation:
    """Peaks in dBFS at the gate's input of own hits and of bleed, and where each hit fell."""

    hits_db: NDArray[np.float64]
    ghosts_db: NDArray[np.float64]
    bleed_db: NDArray[np.float64]

    @property
    def margin_db(self) -> float:
        """From the loudest bleed that counts (98th percentile) to the softest hit that counts
        (2nd percentile of all but ghosts); negative where they overlap."""
        if len(self.hits_db) == 0:
            return 0.0
        top = float(np.percentile(self.bleed_db, 98)) if len(self.bleed_db) else -80.0
        return float(np.percentile(self.hits_db, 2)) - top


@dataclass(frozen=True)
class GateReport:
    """What a gate does over the whole take. ``false_open`` counts openings that no hit of the
    drum accounts for, ``false_pieces`` whose hits they were, ``unlisted`` those that stand clear of
    bleed though the list lacks them; ``bleed_reduction_db`` how much
    quieter it is between hits."""

    hits: int
    passed: int
    missed: int
    late: int
    ghosts: int
    ghosts_kept: int
    false_open: int
    false_pieces: dict[str, int]
    unlisted: int
    bleed_reduction_db: float


@dataclass(frozen=True)
class GateProposal:
    """Settings with their reason, and whether they are doubtful."""

    opens_on: str
    threshold_db: float
    hold_ms: float
    release_ms: float
    range_db: float
    doubtful: bool
    reason: str


def separate(
    audio: NDArray[np.float32], rate: int, piece: str, hits: Sequence[Hit], delay: float = 0.0
) -> Separation:
    """Histograms' raw material for a mono mic ``(frames,)`` close to ``piece``; ``delay`` in samples.

    Bleed is the peak around every other piece's hit that has 60 ms to itself after the last
    own hit's loudest part (150 ms).
    """
    shift = delay / rate
    own = np.array([h.time_s for h in hits if h.piece == piece])
    soft = np.array([h.kind == "ghost" for h in hits if h.piece == piece], bool)
    peaks = amplitudes_to_db(hit_peaks(audio, rate, list(own + shift)))
    others = np.array([h.time_s for h in hits if h.piece != piece])
    if len(own) and len(others):
        since = others[:, None] - own[None, :]
        free = ~np.any((since > -0.045) & (since < 0.15), axis=1)
        others = others[free]
    bleed = amplitudes_to_db(hit_peaks(audio, rate, list(others + shift)))
    hits_db = peaks[~soft] if len(peaks) else peaks
    return Separation(hits_db, peaks[soft] if len(peaks) else peaks, bleed)


def threshold_db(found: Separation) -> float:
    """Where a threshold stands between hits and bleed, in dBFS from −80 to 0: a third of the
    margin above the bleed, so that ghosts keep most of the room."""
    low, top = _margin_ends_db(found)
    threshold = top + (low - top) / 3 if low > top else (low + top) / 2
    return round(float(np.clip(threshold, -80, 0)), 1)


def _margin_ends_db(found: Separation) -> tuple[float, float]:
    """The softest hit and the loudest bleed, but for a few."""
    low = float(np.percentile(found.hits_db, 2)) if len(found.hits_db) else -30.0
    if len(found.ghosts_db):
        low = min(low, float(np.percentile(found.ghosts_db, 10)))
    return low, float(np.percentile(found.bleed_db, 98)) if len(found.bleed_db) else low - 30.0


def propose_gate(
    audio: NDArray[np.float32], rate: int, piece: str, hits: Sequence[Hit], delay: float = 0.0
) -> GateProposal:
    """Gate for a mono mic ``(frames,)`` close to ``piece``: on hits where there are any; ``delay`` in samples.

    The threshold stands between the two histograms (`threshold_db`). Hold is the time the drum
    takes to fall by 12 dB, release its ring to 30 dB; where bleed hides its end, as if it went on
    falling as it does before.
    """
    found = separate(audio, rate, piece, hits, delay)
    own = [h.time_s for h in hits if h.piece == piece]
    if not own:
        return GateProposal(
            "hits",
            -30.0,
            80.0,
            150.0,
            -40.0,
            True,
            "No hit of this drum was found; nothing is proposed.",
        )
    low, top = _margin_ends_db(found)
    hold = float(np.clip(ring_time_s(audio, rate, own, HOLD_DB) * 1000, 40, 600))
    release = float(np.clip(_ring_s(audio, rate, own, found) * 1000 - hold, 60, 1200))
    confidence = float(np.median([h.confidence for h in hits if h.piece == piece]))
    doubtful = len(own) < 3 or confidence < LEAST_SURE
    margin = low - top
    reason = (
        f"{margin:+.1f} dB between the softest hit and the loudest bleed; "
        f"{len(own)} hits open it and it rings {hold + release:.0f} ms."
    )
    reason = reason.replace("-", "−")
    return GateProposal(
        opens_on="hits",
        threshold_db=threshold_db(found),
        hold_ms=round(hold),
        release_ms=round(release),
        range_db=-40.0,
        doubtful=doubtful,
        reason=reason,
    )


HOLD_DB, RING_DB, OVER_BLEED_DB = 12.0, 30.0, 6.0


def _ring_s(
    audio: NDArray[np.float32], rate: int, own: Sequence[float], found: Separation
) -> float:
    """How long the drum rings until it has fallen by `RING_DB`, by as much of its fall as stands
    `OVER_BLEED_DB` clear of what usually bleeds."""
    fall = RING_DB
    if len(found.hits_db) and len(found.bleed_db):
        clear = float(np.median(found.hits_db) - np.percentile(found.bleed_db, 75))
        fall = float(np.clip(clear - OVER_BLEED_DB, HOLD_DB, RING_DB))
    return ring_time_s(audio, rate, own, fall) * RING_DB / fall


def passed(
    shape: Envelope, own: Sequence[Hit], rate: int, delay: float = 0.0, ghosts_db: float = 0.0
) -> NDArray[np.bool_]:
    """Whether a gate's gain ``shape`` passes each of a drum's hits, ``(hits,)``: it is open 3 ms after the hit, to
    within 3 dB; ghosts pass if they come through at ``ghosts_db``. ``delay`` in samples is the mic's."""
    if not own:
        return np.zeros(0, bool)
    at = np.array([h.time_s * rate + delay for h in own])
    wanted = np.array([ghosts_db if h.kind == "ghost" else 0.0 for h in own])
    return np.asarray(shape.at(at + ms_to_samples(3, rate)) > wanted - 3.0)


def report_gate(
    audio: NDArray[np.float32],
    rate: int,
    piece: str,
    hits: Sequence[Hit],
    openings: Openings,
    shape: Envelope,
    delay: float = 0.0,
    unlisted: Sequence[float] = (),
    ghosts_db: float = 0.0,
    gated: NDArray[np.float32] | None = None,
) -> GateReport:
    """Count what a gate's ``openings`` and gain ``shape`` pass, miss and let in on ``audio``
    ``(frames,)``, its whole input; ``gated`` is what it makes of it where that is not the input by the gain.

    ``unlisted`` are times in s of what may be hits of the drum that ``hits`` lack; ghosts pass
    if they come through at ``ghosts_db``.
    """
    own = [h for h in hits if h.piece == piece]
    at = np.array([h.time_s * rate + delay for h in own])
    through = passed(shape, own, rate, delay, ghosts_db)
    onset_gain = shape.at(at + ms_to_samples(0.3, rate)) if len(at) else np.zeros(0)
    ghosts = np.array([h.kind == "ghost" for h in own], bool)
    wanted = np.where(ghosts, ghosts_db, 0.0) if len(own) else np.zeros(0)
    late = through & (onset_gain < wanted - 6.0)
    false_open = 0
    false_pieces: dict[str, int] = {}
    others = sorted((h for h in hits if h.piece != piece), key=lambda h: h.time_s)
    others_s = np.array([h.time_s for h in others])
    starts = openings[:, 0] if len(openings) else np.zeros(0)
    strays = np.array([t * rate + delay for t in unlisted])
    opened = np.zeros(len(strays), bool)
    for start in starts:
        if len(at) and np.min(np.abs(at - start)) < 0.03 * rate:
            continue
        near = np.abs(strays - start) < 0.03 * rate
        if near.any():
            opened |= near
            continue
        false_open += 1
        culprit = _nearest_piece(start / rate, others, others_s)
        false_pieces[culprit] = false_pieces.get(culprit, 0) + 1
    return GateReport(
        hits=len(own),
        passed=int(through.sum()),
        missed=int((~through).sum()),
        late=int(late.sum()),
        ghosts=int(ghosts.sum()),
        ghosts_kept=int((through & ghosts).sum()) if len(ghosts) else 0,
        false_open=false_open,
        false_pieces=false_pieces,
        unlisted=int(opened.sum()),
        bleed_reduction_db=round(
            _reduction(
                audio, apply_envelope(audio, 0, shape) if gated is None else gated, rate, at
            ),
            1,
        ),
    )


def _nearest_piece(time_s: float, others: Sequence[Hit], others_s: NDArray[np.float64]) -> str:
    """The piece of the hit nearest to a time, of ``others`` in order of time."""
    at = int(np.searchsorted(others_s, time_s))
    near = others[max(at - 1, 0) : at + 1]
    nearest = min(near, key=lambda h: abs(h.time_s - time_s), default=None)
    if nearest is None or abs(nearest.time_s - time_s) >= 0.05:
        return "nothing known"
    return nearest.piece


def _reduction(
    audio: NDArray[np.float32], gated: NDArray[np.float32], rate: int, at: NDArray[np.float64]
) -> float:
    """How much quieter it gets where no own hit was in the last 400 ms or is in the next 20."""
    between = np.ones(len(audio), bool)
    for onset in at:
        between[max(round(onset - 0.02 * rate), 0) : round(onset + 0.4 * rate)] = False
    if not between.any():
        return 0.0
    before = power_to_db(float(np.mean(np.square(audio[between]), dtype=np.float64)))
    after = power_to_db(float(np.mean(np.square(gated[between]), dtype=np.float64)))
    return before - max(after, -160.0)
