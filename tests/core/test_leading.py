"""Which mic hears a hit first, and what that says of who is struck."""

import numpy as np
import pytest
from numpy.typing import NDArray

from arkund.core.hits.detect import detect_hits
from arkund.core.hits.hear.leading import Onsets, onsets_of
from arkund.core.simulate.session import Session

RATE = 48000


def _click(at: int, frames: int, level: float = 0.5) -> NDArray[np.float32]:
    sound = np.random.default_rng(at).standard_normal(frames).astype(np.float32) * 1e-5
    length = 960
    burst = np.random.default_rng(7).standard_normal(length) * np.exp(-np.arange(length) / 200)
    sound[at : at + length] += (level * burst).astype(np.float32)
    return sound


def test_the_nearer_mic_leads_however_loud_the_other_is() -> None:
    near, far = _click(24000, RATE, 0.05), _click(24000 + 72, RATE, 0.9)
    onsets = onsets_of([near, far], np.array([24030]), RATE)
    assert onsets.leads().tolist() == [[True], [False]]
    assert onsets.at[1, 0] - onsets.at[0, 0] == pytest.approx(72, abs=8)


def _table(lags_ms: NDArray[np.float64]) -> Onsets:
    """Hits at the first mic, each so much later at the second."""
    at = np.stack([np.full(len(lags_ms), 1000.0), 1000.0 + lags_ms * RATE / 1000])
    return Onsets(at, np.ones(at.shape), np.full(at.shape, 1e3), RATE)


def test_bleed_takes_always_the_same_way_and_hands_scatter() -> None:
    rng = np.random.default_rng(3)
    mine = np.arange(60)
    bleed = _table(1.5 + rng.normal(0, 0.05, 60))
    assert bleed.way_s(1, 0, mine) == pytest.approx(0.0015, abs=2e-4)
    assert _table(rng.normal(0, 4, 60)).way_s(1, 0, mine) is None


def test_a_drum_rests_where_its_mic_hears_what_bleeds_alone() -> None:
    rng = np.random.default_rng(4)
    lags = np.concatenate([1.5 + rng.normal(0, 0.05, 40), rng.uniform(2.5, 6.5, 20)])
    onsets = _table(lags)
    resting = onsets.resting(1, 0, np.arange(60), np.zeros(60, bool))
    assert resting[:40].mean() > 0.95
    assert resting[40:].mean() < 0.1
    assert onsets.timely(1, 0, 0.0015)[:40].mean() > 0.95
    assert not onsets.timely(1, 0, None).any()


def test_what_begins_before_bleed_can_arrive_is_a_hit() -> None:
    onsets = _table(np.array([-2.0, 1.5, 0.1, 12.0]))
    assert onsets.untimely(1, {0: 0.0015}).tolist() == [True, False, True, True]
    assert onsets.untimely(1, {0: None}).tolist() == [True, False, True, True]


def test_a_dead_mic_says_nothing(session: Session) -> None:
    noise = np.random.default_rng(1).standard_normal(len(session.mics["kick_in"])) * 1e-4
    found = detect_hits(session.mics | {"kick_in": noise.astype(np.float32)}, session.rate)
    kicks = [h for h in found if h.piece == "kick"]
    true = sum(h["piece"] == "kick" for h in session.truth["hits"])
    assert abs(len(kicks) - true) <= 1
