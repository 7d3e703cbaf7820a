"""Putting the planted faults into hits and signals."""

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from arkund.core.simulate.drummer import PlayedHit
from arkund.core.simulate.preset import Preset, TakePlan

WILD_DB = 8.0
NOISE_DBFS = -80.0
CLIP_OVER_DB = 0.4
"""A clipped mic's loudest moment lies so far over full scale: a few samples are lost."""


@dataclass(frozen=True)
class Score:
    """The hits as they will sound, and which faults are among them."""

    hits: list[PlayedHit]
    wild: PlayedHit | None
    dropped: PlayedHit | None
    apart: list[tuple[int, float]]
    """Bar and how far kick and snare lie apart there, in ms (positive: the kick is late)."""


def plant_hits(
    hits: list[PlayedHit], preset: Preset, plan: TakePlan, bar_s: float, rng: np.random.Generator
) -> Score:
    """Put the plan's faults into the hits."""

    def bar_of(s: PlayedHit) -> int:
        return int((s.time_s + 0.02 - preset.lead_in_s) / bar_s) + 1

    dropped = None
    if plan.dropped:
        bar, piece = plan.dropped
        own = [s for s in hits if s.piece == piece and bar_of(s) == bar]
        if own:
            dropped = own[-1]
            hits = [s for s in hits if s is not dropped]
    hits, wild = _plant_wild(hits, preset.plants.wild)
    apart: list[tuple[int, float]] = []
    for bar in preset.plants.apart:
        away = float(rng.uniform(9, 19)) * float(rng.choice([-1, 1]))
        snares = [s for s in hits if s.piece == "snare" and bar_of(s) == bar]
        moved: list[PlayedHit] = []
        for s in hits:
            # Meant together is what the chart puts on one place; a drummer's own spread is less.
            partner = next((n for n in snares if abs(n.time_s - s.time_s) < 0.015), None)
            if s.piece == "kick" and partner is not None:
                s = replace(s, time_s=partner.time_s + away / 1000)
                if (bar, round(away, 2)) not in apart:
                    apart.append((bar, round(away, 2)))
            moved.append(s)
        hits = sorted(moved, key=lambda s: s.time_s)
    return Score(hits, wild, dropped, apart)


def _plant_wild(
    hits: list[PlayedHit], piece: str | None
) -> tuple[list[PlayedHit], PlayedHit | None]:
    own = [s for s in hits if s.piece == piece]
    if len(own) < 2:
        return hits, None
    chosen = max(own[:-1], key=lambda s: s.velocity)
    wild = replace(chosen, gain_db=WILD_DB)
    return [wild if s is chosen else s for s in hits], wild


def overload_gain(sound: NDArray[np.float64]) -> float:
    """Gain that drives a mic's ``(frames,)`` loudest moment over full scale."""
    return float(10 ** (CLIP_OVER_DB / 20) / (np.abs(sound).max() or 1.0))


def plant_on_mic(
    sound: NDArray[np.float64], mic: str, preset: Preset, take: int, seed: int
) -> NDArray[np.float64]:
    """A mic's signal ``(frames,)`` with its preamp's noise, hum, offset and overload."""
    rng = np.random.default_rng([seed, take, sum(mic.encode())])
    plants = preset.plants
    sound = sound + rng.standard_normal(len(sound)) * 10 ** (NOISE_DBFS / 20)
    if plants.hum and mic in plants.hum:
        hz, level_db = plants.hum[mic]
        time = np.arange(len(sound)) / preset.rate
        for harmonic, below_db in ((1, 0.0), (2, -6.0), (3, -9.0), (5, -15.0)):
            phase = rng.uniform(0, 2 * np.pi)
            level = 10 ** ((level_db + below_db) / 20)
            sound = sound + level * np.sin(2 * np.pi * hz * harmonic * time + phase)
    if plants.dc and mic in plants.dc:
        sound = sound + plants.dc[mic]
    return sound
