"""The transient shaper in bands: they add up to what comes in, and each is shaped by itself."""

import numpy as np
import pytest

from arkund.core.process.split import Split
from arkund.core.process.stage import Audio, processor_of
from arkund.core.process.transient import Transient
from arkund.core.units import amplitude_to_db

RATE = 48_000
EDGES = (200.0, 1500.0, 6000.0)


def bands(*asked: dict[str, float]) -> list[dict[str, object]]:
    return [
        {"id": f"b{n}", "frequency_hz": hz, **one}
        for n, (hz, one) in enumerate(zip(EDGES, asked, strict=False))
    ]


def run(stage: Transient, sound: Audio, key: Audio | None = None) -> Audio:
    process = processor_of(stage, RATE)
    return process.run(sound, process.at_rest(1 if sound.ndim == 1 else 2), key)


def noise(frames: int = RATE, sides: int = 1) -> Audio:
    made = 0.1 * np.random.default_rng(5).standard_normal((frames, sides)).astype(np.float32)
    return made[:, 0].copy() if sides == 1 else made


def tone(hz: float) -> Audio:
    """A burst from silence, so that there is an attack."""
    t = np.arange(RATE // 2) / RATE
    burst = 0.3 * np.sin(2 * np.pi * hz * t) * np.exp(-t / 0.08)
    return np.concatenate([np.zeros(RATE // 4), burst]).astype(np.float32)


@pytest.mark.parametrize("count", [1, 2, 3])
@pytest.mark.parametrize("sides", [1, 2])
def test_bands_add_up_to_what_comes_in(count: int, sides: int) -> None:
    split, sound = Split(EDGES[:count], RATE), noise(sides=sides)
    parts = split.run(sound, np.zeros(split.size(sides)))
    assert len(parts) == count + 1
    left = np.abs(np.sum(parts, axis=0) - sound).max()
    assert amplitude_to_db(float(left / np.abs(sound).max())) < -130


def test_a_band_holds_what_lies_between_its_edges() -> None:
    split = Split(EDGES, RATE)
    for n, hz in enumerate((40.0, 550.0, 3000.0, 15_000.0)):
        parts = split.run(tone(hz), np.zeros(split.size(1)))
        loud = [float(np.square(part).sum()) for part in parts]
        assert int(np.argmax(loud)) == n


@pytest.mark.parametrize("asked", [(), ({},), ({}, {}, {})])
def test_what_asks_for_nothing_is_bypassed(asked: tuple[dict[str, float], ...]) -> None:
    assert Transient(bands=bands(*asked)).is_transparent


def test_equal_bands_shape_a_steady_tone_as_one_band_does() -> None:
    """Flat within 0.1 dB: with every band at one gain, what is steady comes out at that gain."""
    sound = np.tile(noise(RATE // 4), 4)
    idle = Transient(attack_db=0.001, bands=bands({"attack_db": 0.001}, {"attack_db": 0.001}))
    out = run(idle, sound)
    before, after = (np.abs(np.fft.rfft(x)) for x in (sound, out))
    inside = slice(20, 20_000)
    smooth = np.ones(400) / 400
    ratio = np.convolve(after[inside] ** 2, smooth, "same") / np.convolve(
        before[inside] ** 2, smooth, "same"
    )
    assert np.abs(10 * np.log10(ratio)).max() < 0.1


@pytest.mark.parametrize(("hz", "moves"), [(60.0, False), (12_000.0, True)])
def test_only_the_band_that_is_asked_is_shaped(hz: float, moves: bool) -> None:
    sound = tone(hz)
    out = run(Transient(bands=bands({}, {}, {"attack_db": 9.0})), sound)
    onset = slice(RATE // 4, RATE // 4 + 240)
    gain = amplitude_to_db(float(np.abs(out[onset]).max() / np.abs(sound[onset]).max()))
    assert gain > 4 if moves else abs(gain) < 0.6


def test_blocks_and_sides_join_and_lookahead_comes_late_by_its_latency() -> None:
    stage = Transient(
        attack_db=6, lookahead_ms=2, bands=bands({"sustain_db": -9}, {"attack_db": 6})
    )
    process, sound = processor_of(stage, RATE), noise(sides=2)
    whole = process.run(sound, process.at_rest(2))
    state, parts, at = process.at_rest(2), [], 0
    for size in (1, 63, 500, 4800, len(sound)):
        parts.append(process.run(sound[at : at + size], state))
        at += size
    assert np.abs(np.concatenate(parts) - whole).max() < 1e-6
    assert process.latency == 96
    late = run(Transient(attack_db=0.0001, lookahead_ms=2), sound)
    assert np.abs(late[96:] - sound[:-96]).max() < 1e-4


def test_who_listens_to_another_rises_with_it() -> None:
    stage = Transient(attack_db=9, bands=bands({"attack_db": 9}))
    sound, key = np.tile(noise(RATE // 4), 3), tone(500.0)
    out = run(stage, sound, key)
    begins = slice(RATE // 4, RATE // 4 + 480)
    gain = np.abs(out[begins]).mean() / np.abs(sound[begins]).mean()
    assert amplitude_to_db(float(gain)) > 4
    still = slice(RATE // 4 - 500, RATE // 4)
    assert np.abs(out[still] - sound[still]).max() < 1e-5


def test_two_bands_of_one_id_are_refused() -> None:
    with pytest.raises(ValueError, match="two bands have one id"):
        Transient(bands=[{"id": "b1"}, {"id": "b1"}])
