"""Equaliser, compressor and transient shaper by their definitions."""

import itertools

import numpy as np
import pytest
from scipy import signal

from arkund.core.shape import biquad, compressor, transient
from arkund.core.shape.sides import louder_side

RATE = 44100
HZ = np.geomspace(20, 10000, 160)
MAKERS = {"bell": biquad.bell, "low_shelf": biquad.low_shelf, "high_shelf": biquad.high_shelf}


@pytest.mark.parametrize("kind", MAKERS)
def test_bands_follow_the_analogue_prototype(kind: str) -> None:
    worst = 0.0
    qs = (0.4, 0.7, 1.0, 4.0, 16.0) if kind == "bell" else (0.4, 0.7, 1.2)
    for hz, gain, q in itertools.product(np.geomspace(20, 12000, 14), (-18, -6, 3, 18), qs):
        prototype = MAKERS[kind](gain, q)
        got = biquad.response_db([biquad.match(prototype, hz, RATE)], HZ, RATE)
        wanted = 20 * np.log10(biquad.analogue_magnitude(*prototype, HZ, hz))
        worst = max(worst, float(np.abs(got - wanted).max()))
    assert worst < 0.5


@pytest.mark.parametrize("slope", [6, 12, 18, 24, 36, 48])
def test_high_pass_slopes(slope: int) -> None:
    sections = biquad.butterworth("high_pass", 200, slope, 1.0, RATE)
    db = biquad.response_db(sections, np.array([12.5, 25.0, 200.0, 4000.0]), RATE)
    assert db[2] == pytest.approx(-3.01, abs=0.1)
    assert db[1] - db[0] == pytest.approx(slope, abs=0.6)
    assert db[3] == pytest.approx(0, abs=0.1)


@pytest.mark.parametrize("slope", [6, 12, 24, 48])
def test_low_pass_slopes(slope: int) -> None:
    sections = biquad.butterworth("low_pass", 500, slope, 1.0, RATE)
    db = biquad.response_db(sections, np.array([20.0, 500.0, 1000.0, 2000.0]), RATE)
    assert db[0] == pytest.approx(0, abs=0.1)
    assert db[1] == pytest.approx(-3.01, abs=0.15)
    assert db[2] - db[3] == pytest.approx(slope, abs=0.8)


@pytest.mark.parametrize("count", [1, 2, 3, 4, 6, 7])
def test_kernel_equals_its_coefficients(count: int) -> None:
    sections = [biquad.match(biquad.bell(6, 2), hz, RATE) for hz in np.geomspace(80, 9000, count)]
    impulse = np.zeros(1 << 15, np.float32)
    impulse[0] = 1
    out = biquad.run(impulse, sections, biquad.new_state(sections))
    sos = np.array([[b0, b1, b2, 1, a1, a2] for b0, b1, b2, a1, a2 in sections])
    frequencies, wanted = signal.sosfreqz(sos, 4096)
    got = np.fft.rfft(out.astype(np.float64), 8192 * 4)[: 4096 * 4 : 4]
    db = 20 * np.log10(np.abs(got) / np.abs(wanted))
    assert np.abs(db[1:]).max() < 0.01
    assert len(frequencies) == 4096


def test_every_legal_setting_is_stable() -> None:
    rng = np.random.default_rng(5)
    for _ in range(300):
        kind = rng.choice(list(MAKERS))
        hz, gain, q = rng.uniform(20, 16000), rng.uniform(-24, 24), rng.uniform(0.4, 16)
        rate = int(rng.choice([44100, 48000, 96000]))
        _, _, _, a1, a2 = section = biquad.match(MAKERS[kind](gain, q), hz, rate)
        assert np.abs(np.roots([1, a1, a2])).max() < 1, (kind, hz, gain, q)
        assert np.isfinite(section).all()


def test_blocks_join_without_a_seam() -> None:
    noise = np.random.default_rng(6).standard_normal(10000).astype(np.float32)
    sections = [biquad.match(biquad.bell(-9, 5), 400, RATE)] * 4
    whole = biquad.run(noise, sections, biquad.new_state(sections))
    state = biquad.new_state(sections)
    parts = [
        biquad.run(noise[a:b], sections, state) for a, b in ((0, 333), (333, 7000), (7000, 10000))
    ]
    assert np.array_equal(np.concatenate(parts), whole)


def test_memory_covers_the_ring() -> None:
    sections = [biquad.match(biquad.bell(18, 16), 60, RATE)]
    impulse = np.zeros(biquad.memory(sections) + 1000, np.float32)
    impulse[0] = 1
    out = biquad.run(impulse, sections, biquad.new_state(sections))
    assert np.abs(out[biquad.memory(sections) :]).max() < 1e-5


def _square(level_db: float, seconds: float) -> np.ndarray:
    count = round(seconds * RATE)
    return (10 ** (level_db / 20) * np.where(np.arange(count) // 50 % 2, 1, -1)).astype(np.float32)


@pytest.mark.parametrize("ratio", [1.5, 4.0, 20.0])
@pytest.mark.parametrize("knee", [0.0, 6.0, 18.0])
def test_static_curve_on_a_square_wave(ratio: float, knee: float) -> None:
    s = compressor.Settings(-24, ratio, knee, 1, 20)
    for level in (-40.0, -30.0, -24.0, -18.0, -3.0):
        key = _square(level, 0.6)
        out, _ = compressor.run(key, key, s, RATE, compressor.new_state())
        got = 20 * np.log10(np.abs(out[-100:]).mean() / np.abs(key[-100:]).mean())
        wanted = -compressor.static_reduction_db(np.array([level]), s)[0]
        assert got == pytest.approx(wanted, abs=0.1)


@pytest.mark.parametrize("attack_ms", [0.5, 5.0, 30.0])
def test_attack_is_the_time_to_63_percent(attack_ms: float) -> None:
    s = compressor.Settings(-30, 4, 0, attack_ms, 100)
    key = np.concatenate([_square(-60, 0.1), _square(-10, 0.5)])
    out, _ = compressor.run(key, key, s, RATE, compressor.new_state())
    reduction = -20 * np.log10(np.abs(out) / np.abs(key))[round(0.1 * RATE) :]
    reached = np.argmax(reduction >= 0.632 * 15.0) / RATE * 1000
    assert reached == pytest.approx(attack_ms, rel=0.1, abs=0.05)


@pytest.mark.parametrize("release_ms", [20.0, 150.0])
def test_release_is_the_time_to_63_percent(release_ms: float) -> None:
    s = compressor.Settings(-30, 4, 0, 1, release_ms)
    key = np.concatenate([_square(-10, 0.5), _square(-50, 1.0)])
    out, _ = compressor.run(key, key, s, RATE, compressor.new_state())
    reduction = -20 * np.log10(np.abs(out) / np.abs(key))[round(0.5 * RATE) :]
    reached = np.argmax(reduction <= 0.368 * 15.0) / RATE * 1000
    assert reached == pytest.approx(release_ms, rel=0.1)


@pytest.mark.parametrize(("ratio", "mix"), [(1.0, 1.0), (8.0, 0.0)])
def test_ratio_one_and_mix_zero_pass_bits_untouched(ratio: float, mix: float) -> None:
    noise = np.random.default_rng(7).standard_normal(5000).astype(np.float32)
    s = compressor.Settings(-40, ratio, 6, 1, 50, 0.0, mix)
    assert s.is_transparent
    out, trace = compressor.run(noise, noise, s, RATE, compressor.new_state())
    if ratio == 1.0:
        assert trace.max() == 0
    assert np.array_equal(out, noise)


def test_both_sides_get_the_same_reduction() -> None:
    stereo = np.stack([_square(-6, 0.2), _square(-30, 0.2)], axis=1)
    s = compressor.Settings(-20, 10, 0, 1, 50)
    out, _ = compressor.run(stereo, louder_side(stereo), s, RATE, compressor.new_state())
    ratio = np.abs(out) / np.abs(stereo)
    assert np.allclose(ratio[:, 0], ratio[:, 1], rtol=1e-5)
    assert ratio[-1, 0] < 0.3


def _hit(gain: float) -> np.ndarray:
    time = np.arange(RATE) / RATE
    ring = np.sin(2 * np.pi * 180 * time) * np.exp(-time / 0.12)
    noise = np.random.default_rng(8).standard_normal(RATE) * np.exp(-time / 0.004) * 0.5
    return np.concatenate([np.zeros(4000), gain * (ring + noise)]).astype(np.float32)


def test_transient_is_independent_of_level() -> None:
    s = transient.Settings(6, -8)
    curves = []
    for gain in (0.7, 0.07):
        hit = _hit(gain)
        out = transient.run(hit, s, RATE, transient.new_state())
        loud = np.abs(hit) > 1e-3 * gain
        curves.append(np.where(loud, 20 * np.log10(np.abs(out + 1e-30) / np.abs(hit + 1e-30)), 0))
    assert np.abs(curves[0] - curves[1]).max() < 0.2


def test_transient_lifts_the_attack_and_shortens_the_ring() -> None:
    hit = _hit(0.5)
    out = transient.run(hit, transient.Settings(6, -12), RATE, transient.new_state())

    def change(start_ms: float, stop_ms: float) -> float:
        part = slice(4000 + round(start_ms * RATE / 1000), 4000 + round(stop_ms * RATE / 1000))
        return float(20 * np.log10(np.std(out[part]) / np.std(hit[part])))

    assert change(0.5, 6) > 4
    assert change(150, 250) < -5


def test_transient_at_zero_passes_bits_untouched() -> None:
    hit = _hit(0.5)
    out = transient.run(hit, transient.Settings(0, 0), RATE, transient.new_state())
    assert np.array_equal(out, hit)
