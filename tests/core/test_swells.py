"""Where a drum that swells begins to."""

import numpy as np
import pytest
from numpy.typing import NDArray

from arkund.core.hits.hear.swells import FEWEST, swelled, swelled_as_loud

RATE = 48_000
BEGINS_S = np.arange(1, 13) * 0.4


def _brushed(rise_ms: float, ring: float, soft: tuple[int, ...] = ()) -> NDArray[np.float32]:
    """Noise that rises from -22 dB over so many ms and dies away; before the ``soft`` ones, which are
    12 dB softer, something rings on as loud as their own beginning."""
    rng = np.random.default_rng(6)
    out = rng.standard_normal(round(5.4 * RATE)) * 1e-4
    t = np.arange(round(0.12 * RATE)) / RATE
    swell = np.clip(0.08 + t / (rise_ms / 1000), 0, 1) * np.exp(-t / 0.05)
    for n, at in enumerate(BEGINS_S):
        start = round(at * RATE)
        level = 0.25 if n in soft else 1.0
        if n in soft:
            rings = slice(start - RATE // 20, start + RATE // 50)
            out[rings] += ring * rng.standard_normal(rings.stop - rings.start)
        out[start : start + len(t)] += level * swell * rng.standard_normal(len(t))
    return out.astype(np.float32)


def test_a_swell_that_is_noticed_late_is_placed_where_it_begins() -> None:
    soft = (3, 7, 11)
    sound = _brushed(10.0, ring=0.06, soft=soft)
    noticed = BEGINS_S.copy()
    noticed[list(soft)] += 0.006
    clear = [b * RATE for n, b in enumerate(BEGINS_S) if n not in soft]
    places = swelled(sound, noticed * RATE, clear, RATE)
    assert places is not None
    assert places / RATE == pytest.approx(BEGINS_S, abs=1.6e-3)


def test_a_drum_that_begins_at_once_does_not_swell() -> None:
    sound = _brushed(0.01, ring=0.0)
    assert swelled(sound, BEGINS_S * RATE, (BEGINS_S * RATE).tolist(), RATE) is None


def test_too_few_clear_hits_say_nothing() -> None:
    sound = _brushed(10.0, ring=0.0)
    few = (BEGINS_S * RATE).tolist()[: FEWEST - 1]
    assert swelled(sound, BEGINS_S * RATE, few, RATE) is None
    assert swelled(sound, np.zeros(0), (BEGINS_S * RATE).tolist(), RATE) is None


def test_what_lies_at_the_ends_of_the_sound_is_left_alone() -> None:
    sound = _brushed(10.0, ring=0.0)
    at = np.array([10.0, BEGINS_S[0] * RATE, len(sound) - 10.0])
    places = swelled(sound, at, (BEGINS_S * RATE).tolist(), RATE)
    assert places is not None
    assert np.isnan(places).tolist() == [True, False, True]


def test_soft_hits_swell_though_loud_ones_do_not() -> None:
    """A stick that falls rather than strikes: what is known of accents does not place ghosts."""
    rng = np.random.default_rng(7)
    begins = np.concatenate([BEGINS_S, BEGINS_S + 0.2])
    is_soft = np.arange(len(begins)) >= len(BEGINS_S)
    out = rng.standard_normal(round(5.6 * RATE)) * 1e-4
    t = np.arange(round(0.1 * RATE)) / RATE
    for at, soft in zip(begins, is_soft, strict=True):
        rise = 10 ** (-20 * np.clip(1 - t / 0.012, 0, 1) / 20) if soft else 1.0
        start = round(at * RATE)
        hit = rng.standard_normal(len(t)) * np.exp(-t / 0.03) * rise
        out[start : start + len(t)] += (0.2 if soft else 1.0) * hit
    sound = out.astype(np.float32)
    level_db = np.where(is_soft, -14.0, 0.0)
    noticed = begins * RATE
    noticed[-3:] += 0.008 * RATE
    clear = list(zip((begins * RATE)[:-3].tolist(), level_db[:-3].tolist(), strict=True))
    places = swelled_as_loud(sound, noticed, level_db, clear, RATE) / RATE
    assert np.isnan(places[~is_soft]).all()
    assert places[is_soft] == pytest.approx(begins[is_soft], abs=1.6e-3)
    accents = [c for c in clear if c[1] == 0]
    assert np.isnan(swelled_as_loud(sound, noticed, level_db, accents, RATE)).all()
