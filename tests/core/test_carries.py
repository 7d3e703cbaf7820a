"""Who carries a piece, by the closed form of sounds that are known."""

import numpy as np
import pytest

from arkund.core.measure.carries import carried, low_power

RATE = 48000
TIMES = [0.2, 0.6, 1.0, 1.4]


def _hits(hz: float, gain: float, flip: float = 1.0) -> np.ndarray:
    sound = np.zeros((2 * RATE, 2), np.float32)
    time = np.arange(RATE // 10) / RATE
    burst = np.sin(2 * np.pi * hz * time) * np.hanning(len(time)) * gain * flip
    for t in TIMES:
        at = round(t * RATE)
        sound[at : at + len(burst)] += burst[:, None].astype(np.float32)
    return sound


def test_shares_are_of_power_band_by_band() -> None:
    mics = {"close": _hits(300, 1.0), "far": _hits(300, 0.5) + _hits(4000, 0.1)}
    found = carried(mics, RATE, TIMES)
    assert found is not None
    assert found.hits == 4
    assert found.share["close"][1] == pytest.approx(0.8, abs=0.01)
    assert found.share["far"][1] == pytest.approx(0.2, abs=0.01)
    assert found.share["far"][3] == pytest.approx(1.0, abs=0.01)
    # In step, amplitudes add: 1.5 becomes 1 without the far mic, 0.5 without the close one.
    assert found.without_db["far"][1] == pytest.approx(20 * np.log10(1 / 1.5), abs=0.05)
    assert found.without_db["close"][1] == pytest.approx(20 * np.log10(0.5 / 1.5), abs=0.05)


def test_a_mic_that_cancels_is_louder_left_out() -> None:
    found = carried({"a": _hits(300, 1.0), "b": _hits(300, 0.5, -1.0)}, RATE, TIMES)
    assert found is not None
    assert found.without_db["b"][1] == pytest.approx(6.02, abs=0.05)


def test_a_piece_stands_where_its_power_is_and_mono_costs_what_cancels() -> None:
    left = _hits(300, 1.0) * np.array([1.0, 0.0], np.float32)
    flipped = _hits(300, 1.0) * np.array([1.0, -1.0], np.float32)
    for sound, side, mono in (
        (left, -1.0, -3.01),
        (_hits(300, 1.0), 0.0, 0.0),
        (left[:, ::-1], 1.0, -3.01),
    ):
        found = carried({"a": sound}, RATE, TIMES)
        assert found is not None
        assert found.side == pytest.approx(side, abs=0.01)
        assert found.mono_db == pytest.approx(mono, abs=0.02)
    gone = carried({"a": flipped}, RATE, TIMES)
    assert gone is not None
    assert gone.mono_db < -60


def test_no_hits_no_answer_and_few_of_many_are_heard() -> None:
    assert carried({"a": _hits(300, 1.0)}, RATE, []) is None
    assert carried({}, RATE, TIMES) is None
    many = carried({"a": _hits(300, 1.0)}, RATE, [0.2 + n * 0.01 for n in range(100)])
    assert many is not None
    assert many.hits <= 32


def test_the_low_end_is_what_lies_below_120_hz() -> None:
    time = np.arange(2 * RATE) / RATE
    for hz, wanted in ((60.0, 0.5 * 2), (1000.0, 0.0)):
        tone = np.stack([np.sin(2 * np.pi * hz * time)] * 2, axis=1).astype(np.float32)
        assert low_power(tone, RATE) == pytest.approx(wanted, abs=0.05)
