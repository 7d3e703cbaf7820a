"""Saturation and limiter by their definitions; every processor on one side and on two."""

import numpy as np
import pytest
import scipy

from arkund.core.measure.loudness import true_peak_dbtp
from arkund.core.process.registry import BY_KIND, PROCESSORS, catalogue, parts_of
from arkund.core.process.room import Room
from arkund.core.process.stage import Stage
from arkund.core.process.values import described
from arkund.core.shape import limiter, saturation

RATE = 48000
CURVES = [saturation.SOFT, saturation.HARD, saturation.ASYMMETRICAL]


def _bent(sound: np.ndarray, curve: int, drive_db: float, matched: bool = True) -> np.ndarray:
    settings = saturation.Settings(curve, drive_db, matched)
    out = saturation.run(sound.astype(np.float32), settings, saturation.new_state(settings))
    return out[saturation.latency() :]


def _lines_db(sound: np.ndarray) -> np.ndarray:
    """Level of each whole Hz of one second, a sine of amplitude 1 at 0 dB."""
    window = scipy.signal.windows.blackmanharris(RATE, sym=False)
    return 20 * np.log10(np.abs(np.fft.rfft(sound * window)) / (window.sum() / 2) + 1e-12)


@pytest.mark.parametrize("curve", CURVES)
@pytest.mark.parametrize("drive_db", [6.0, 24.0])
def test_what_folds_back_lies_under_80_db(curve: int, drive_db: float) -> None:
    time = np.arange(RATE + 9600) / RATE
    lines = _lines_db(_bent(0.5 * np.sin(2 * np.pi * 5000 * time), curve, drive_db)[4800:][:RATE])
    hz = np.arange(len(lines))
    harmonics = np.abs(hz - 5000 * np.round(hz / 5000)) < 12
    assert lines[~harmonics & (hz < 20000)].max() < -80


@pytest.mark.parametrize("curve", CURVES)
def test_steady_sound_follows_the_curve(curve: int) -> None:
    """Harmonics of a low tone against those of the curve itself, applied without filters."""
    tone = 0.7 * np.sin(2 * np.pi * 200 * np.arange(RATE + 9600) / RATE)
    settings = saturation.Settings(curve, 9.0, True)
    got = _lines_db(_bent(tone, curve, 9.0)[4800:][:RATE])
    wanted = _lines_db(saturation.bent(tone[4800:], settings)[:RATE])
    loud = [200 * n for n in range(1, 10) if wanted[200 * n] > -70]
    assert np.abs(got[loud] - wanted[loud]).max() < 0.1
    even = got[[400, 800]].max()
    assert (even > -40) if curve == saturation.ASYMMETRICAL else (even < -90)


@pytest.mark.parametrize("curve", CURVES)
@pytest.mark.parametrize("drive_db", [6.0, 18.0])
def test_matched_leaves_soft_sound_at_its_level_and_time(curve: int, drive_db: float) -> None:
    rng = np.random.default_rng(3)
    lowpass = scipy.signal.firwin(301, 12000, fs=RATE)
    soft = scipy.signal.lfilter(lowpass, 1, rng.standard_normal(RATE)) * 1e-4
    out = _bent(soft, curve, drive_db)
    residue = np.abs(out - soft[: len(out)].astype(np.float32)).max() / np.abs(soft).max()
    assert residue < 0.002
    louder = _bent(soft, curve, drive_db, matched=False)
    assert np.std(louder) / np.std(out) == pytest.approx(10 ** (drive_db / 20), rel=0.01)


def _bursts(rng: np.random.Generator, sides: int) -> np.ndarray:
    sound = rng.standard_normal((RATE * 2, sides)) * 0.01
    for at in rng.integers(0, RATE * 2 - 9000, 25):
        decay = np.exp(-np.arange(9000) / rng.uniform(20, 2000))[:, None]
        sound[at : at + 9000] += rng.standard_normal((9000, sides)) * decay * rng.uniform(0.2, 3)
    return np.ascontiguousarray(sound if sides == 2 else sound[:, 0]).astype(np.float32)


def test_no_true_peak_passes_the_ceiling() -> None:
    rng = np.random.default_rng(4)
    for n in range(10):
        sound = _bursts(rng, 1 + n % 2)
        s = limiter.Settings(rng.uniform(-20, 0), rng.uniform(0.1, 8), rng.uniform(1, 300))
        out, trace = limiter.run(sound, s, RATE, limiter.new_state(s, RATE, 1 + n % 2))
        assert true_peak_dbtp(out) <= s.ceiling_db + 0.1
        finer = scipy.signal.resample_poly(out.astype(np.float64), 4, 1, axis=0)
        assert 20 * np.log10(np.abs(finer).max()) <= s.ceiling_db + 0.1
        assert trace.max() > 6


def test_under_the_ceiling_the_limiter_only_waits() -> None:
    s = limiter.Settings(-1.0, 2.0, 60.0)
    quiet = _bursts(np.random.default_rng(5), 2) * np.float32(0.03)
    out, trace = limiter.run(quiet, s, RATE, limiter.new_state(s, RATE, 2))
    late = limiter.latency(s, RATE)
    assert np.array_equal(out[late:], quiet[:-late])
    assert trace.max() == 0


def test_the_gain_comes_back_with_the_release() -> None:
    s = limiter.Settings(-6.0, 1.0, 100.0)
    sound = np.full(RATE, 0.3, np.float32)
    sound[:4800] = 1.0
    _, trace = limiter.run(sound, s, RATE, limiter.new_state(s, RATE))
    gain = 10 ** (-trace.astype(np.float64) / 20)
    held = (1 - gain).max()
    begins = 4800 + limiter.latency(s, RATE) + limiter.ahead(s, RATE)
    after = (begins + round(0.1 * RATE)) // limiter.TRACE_STEP
    assert (1 - gain[after]) / held == pytest.approx(np.exp(-1), abs=0.03)


def _some(kind: type[Stage]) -> Stage:
    return kind.model_validate({"id": "s1", **kind.busy})


@pytest.mark.parametrize("kind", PROCESSORS)
def test_blocks_of_any_size_make_the_whole(kind: type[Stage]) -> None:
    process = _some(kind).process(RATE)
    for sides in (1, 2):
        sound = _bursts(np.random.default_rng(6), sides)
        whole = process.run(sound, process.at_rest(sides))
        state = process.at_rest(sides)
        edges = [0, 1, 63, 4096, 4097, 50000]
        parts = [
            process.run(np.ascontiguousarray(part), state, at=at)
            for at, part in zip(edges, np.split(sound, edges[1:]), strict=True)
        ]
        assert np.abs(np.concatenate(parts) - whole).max() < 1e-6
        assert whole.shape == sound.shape
        assert np.abs(whole - sound).max() > 1e-3


@pytest.mark.parametrize("kind", [p for p in PROCESSORS if p is not Room])  # whose sides differ
def test_two_sides_that_are_one_sound_are_treated_as_that_one(kind: type[Stage]) -> None:
    process = _some(kind).process(RATE)
    sound = _bursts(np.random.default_rng(7), 1)
    one = process.run(sound, process.at_rest())
    two = process.run(np.stack([sound, sound], axis=1), process.at_rest(2))
    assert np.abs(two - one[:, None]).max() < 1e-6


@pytest.mark.parametrize("kind", ["transient", "compressor", "limiter"])
def test_linked_sides_get_one_gain(kind: str) -> None:
    process = _some(BY_KIND[kind]).process(RATE)
    sound = _bursts(np.random.default_rng(8), 1)
    both = np.stack([sound, sound * np.float32(0.25)], axis=1)
    out = process.run(both, process.at_rest(2))
    assert np.abs(out[:, 1] - 0.25 * out[:, 0]).max() < 1e-6


@pytest.mark.parametrize("kind", PROCESSORS)
def test_what_comes_after_its_memory_owes_nothing_to_what_was_before(kind: type[Stage]) -> None:
    process = _some(kind).process(8000)
    rng = np.random.default_rng(9)
    loud = rng.standard_normal(4000).astype(np.float32)
    quiet = (rng.standard_normal(process.memory + 8000) * 0.1).astype(np.float32)
    whole = process.run(np.concatenate([loud, quiet]), process.at_rest())[4000:]
    fresh = process.run(quiet, process.at_rest(), at=4000)
    assert np.abs(whole - fresh)[process.memory + process.latency :].max() < 1e-4


def test_every_value_is_told_whole() -> None:
    for processor in PROCESSORS:
        for part in parts_of(processor).values():
            for v in described(part).values():
                assert v.label
                if v.is_number:
                    low, high = v.ends
                    assert v.low <= low < high <= v.high
                    assert v.low <= v.default <= v.high
                    assert v.scale == "lin" or (v.step > 1 and low > 0), v
                    assert all(low <= tick <= high for tick in v.ticks), v
                elif v.choices:
                    assert v.default in v.choices
    told = {(p["kind"], v["name"]) for p in catalogue() for v in p["values"]}
    assert {("eq", "bands.*.gain_db"), ("compressor", "ratio"), ("limiter", "ceiling_db")} <= told
