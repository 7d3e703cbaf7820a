"""Which hits say how two mics stand, and which of three pairs is to blame."""

from dataclasses import replace

import numpy as np
import pytest
from numpy.typing import NDArray

from arkund.core.align.pairs import PairAlignment
from arkund.core.align.takes import align_take, judge
from arkund.core.hits.hit import Hit

RATE = 48000
DELAY = 190


def _hit(n: int, time_s: float, level_db: float) -> Hit:
    return Hit(str(n), "snare", time_s, 100, "plain", 1.0, level_db)


def _burst(seed: int, frames: int = 1200) -> NDArray[np.float64]:
    rng = np.random.default_rng(seed)
    made: NDArray[np.float64] = rng.standard_normal(frames) * np.exp(-np.arange(frames) / 150)
    return made


def _add(sound: NDArray[np.float32], burst: NDArray[np.float64], at: int, gain: float) -> None:
    sound[at : at + len(burst)] += (gain * burst).astype(np.float32)


def test_soft_hits_with_which_another_piece_falls_have_no_say() -> None:
    """A hat 80 samples later and inverted is louder in the overhead than 37 soft hits are."""
    times = 0.5 + 0.25 * np.arange(50)
    top, overhead = (np.zeros(round(14 * RATE), np.float32) for _ in range(2))
    hits = []
    for n, time in enumerate(times):
        at, loud = round(time * RATE), n % 4 == 0
        gain = 1.0 if loud else 0.3
        _add(top, _burst(1), at, gain)
        _add(overhead, _burst(1), at + DELAY, 0.2 * gain)
        if not loud:
            _add(overhead, _burst(1), at + DELAY - 80, -0.3)
        hits.append(_hit(n, time, 0.0 if loud else -10.5))
    (pair,) = align_take({"snare_top": top, "overhead_l": overhead}, hits, RATE)
    assert pair.delay_samples == pytest.approx(-DELAY, abs=1)
    assert pair.polarity == 1
    assert pair.hits == 13


def test_of_few_hits_the_loudest_twelve_are_heard() -> None:
    top = np.zeros(18 * RATE, np.float32)
    hits = [_hit(n, 0.5 + n, -2.0 * n) for n in range(16)]
    for hit in hits:
        _add(top, _burst(2), round(hit.time_s * RATE), 10 ** (hit.level_db / 20))
    (pair,) = align_take({"snare_top": top, "overhead_l": 0.2 * top}, hits, RATE)
    assert pair.hits == 12


def _pair(mic: str, reference: str, delay: float, confidence: float) -> PairAlignment:
    empty = np.zeros(0)
    return PairAlignment(
        "kick",
        mic,
        reference,
        delay,
        1,
        0.0,
        0.0,
        0.0,
        confidence,
        confidence > 0.6,
        40,
        empty.astype(np.int64),
        empty,
    )


@pytest.mark.parametrize(
    ("nearest", "farther", "stands"),
    [(0.98, 0.93, True), (0.85, 0.55, True), (0.85, 0.7, False)],
)
def test_who_is_to_blame_for_delays_that_do_not_add_up(
    nearest: float, farther: float, stands: bool
) -> None:
    """They miss by 90 samples. A sure pair of the nearest mic stands, and one that is far more
    confident than the third; else both are doubted."""
    pairs = [
        _pair("kick_out", "kick_in", 60.0, 0.995),
        _pair("kick_in", "overhead_r", -200.0, nearest),
        _pair("kick_out", "overhead_r", -50.0, farther),
    ]
    sure = {
        (p.mic, p.reference): p.sure for p in judge(pairs, ["kick_in", "kick_out", "overhead_r"])
    }
    assert sure["kick_out", "kick_in"]
    assert sure["kick_in", "overhead_r"] is stands
    assert not sure["kick_out", "overhead_r"]


@pytest.mark.parametrize(("confidence", "sure"), [(0.97, True), (0.9, False)])
def test_a_kick_heard_from_outside_alone_must_be_plain(confidence: float, sure: bool) -> None:
    (found,) = judge(
        [_pair("kick_out", "overhead_l", -80.0, confidence)], ["kick_out", "overhead_l"]
    )
    assert found.sure is sure


@pytest.mark.parametrize(
    ("piece", "polarity", "confidence", "sure"),
    [
        ("hat", -1, 0.7, False),
        ("hat", -1, 0.8, True),
        ("hat", 1, 0.7, True),
        ("snare", -1, 0.7, True),
    ],
)
def test_that_mics_of_a_cymbal_oppose_each_other_must_be_surer(
    piece: str, polarity: int, confidence: float, sure: bool
) -> None:
    mic = "hat" if piece == "hat" else "snare_bottom"
    pair = replace(_pair(mic, "overhead_l", -80.0, confidence), piece=piece, polarity=polarity)
    (judged,) = judge([pair], [mic, "overhead_l"])
    assert judged.sure is sure
