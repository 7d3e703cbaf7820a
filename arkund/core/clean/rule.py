"""When a gate is open: on hits, on threshold, or by hand."""

from collections.abc import Iterable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from arkund.core.clean.gate import (
    Envelope,
    Openings,
    ThresholdKey,
    Timing,
    envelope,
    higher,
    hit_openings,
    lifted,
)
from arkund.core.clean.regions import Fade, Span, region_envelope, region_openings

LOUD_KINDS = ("accent", "flam")
"""Hits that begin at once; all others are soft."""

SOFT_MS = 12.0
"""A soft hit swells, and the list may have it so much late: a proposed gate opens that much before."""

Blocks = Iterable[tuple[int, NDArray[np.float32]]]
"""A key's sound in order, each block with its first sample's place in the song."""


@dataclass(frozen=True)
class GateRule:
    """How a gate decides (``opens_on`` *hits*, *threshold* or *hand*): the onsets in samples that
    open it, thresholds in dBFS on what it hears, or regions; and how it moves. Of the onsets the
    ``soft`` ones open it ``early`` samples before, and the ``ghosts`` as far as ``ghosts_db``."""

    opens_on: str
    threshold_db: float
    hysteresis_db: float
    range_db: float
    timing: Timing
    onsets: tuple[int, ...] = ()
    regions: tuple[Span, ...] = ()
    fade: Fade = field(default="decibels")
    ghosts: tuple[int, ...] = ()
    ghosts_db: float = 0.0
    soft: tuple[int, ...] = ()
    early: int = 0

    def openings(self, key: Blocks, frames: int) -> Openings:
        """Where it opens, ``(n, 2)``. ``key`` is read only where a threshold decides."""
        if self.opens_on == "hand":
            return region_openings(self.regions)
        if self.opens_on == "hits":
            onsets = np.array(self.onsets, np.int64)
            return hit_openings(onsets, self.early * np.isin(onsets, self.soft), 1, frames)
        close_db = self.threshold_db - self.hysteresis_db
        follower = ThresholdKey(self.threshold_db, close_db, self.timing.hold)
        for at, block in key:
            follower.feed(np.ascontiguousarray(block), at)
        return follower.finish(frames)

    def shape(self, openings: Openings) -> Envelope:
        """Its gain over the song for these openings."""
        if self.opens_on == "hand":
            return region_envelope(self.regions, self.range_db, self.fade)
        if self.opens_on == "hits" and self.ghosts and self.ghosts_db < 0:
            return self._two_heights(openings)
        return self._opened(openings, 0.0)

    def _opened(self, openings: Openings, top_db: float) -> Envelope:
        """From the range up to ``top_db`` and back."""
        pairs = ((int(a), int(b)) for a, b in openings)
        return lifted(envelope(pairs, min(self.range_db - top_db, 0.0), self.timing), top_db)

    def _two_heights(self, openings: Openings) -> Envelope:
        """Hits open it fully, ghosts as far as `ghosts_db`, or not at all where that is no
        higher than the range."""
        ghosts = np.array(self.ghosts, np.int64)
        soft = np.isin(openings[:, 0], np.concatenate([ghosts, np.maximum(ghosts - self.early, 0)]))
        full = self._opened(openings[~soft], 0.0)
        if self.ghosts_db <= self.range_db:
            return full
        return higher(full, self._opened(openings[soft], self.ghosts_db))
