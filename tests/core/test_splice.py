"""Where a splice is heard least."""

import numpy as np
import pytest

from arkund.core.timing.splice import best_splice

RATE = 48000


def _tone(hz: float, frames: int) -> np.ndarray:
    side = np.sin(2 * np.pi * hz * np.arange(frames) / RATE)
    return np.stack([side, 0.5 * side], 1).astype(np.float32)


def test_a_tone_goes_on_in_phase() -> None:
    """Of many jumps the one by whole periods is taken."""
    sound = _tone(200, 24000)
    found = best_splice(sound, np.arange(150, 331), 480, (2000, 20000), RATE)
    assert found is not None
    assert found[1] == 240
    place, jump = found
    out, back = sound[place - 480 : place], sound[place + jump - 480 : place + jump]
    assert float(np.abs(out - back).max()) < 1e-4


@pytest.mark.parametrize("jump", [-300, 300])
def test_a_hit_in_the_way_is_kept_clear_of(jump: int) -> None:
    """Neither end of the fade, in what goes or in what comes, lies within 2 ms of a tick."""
    rng = np.random.default_rng(6)
    sound = (1e-3 * rng.standard_normal((16000, 2))).astype(np.float32)
    ticks = np.arange(3000, 13000, 1500)
    sound[ticks] += 0.5
    found = best_splice(sound, np.array([jump]), 200, (2000, 14000), RATE)
    assert found is not None
    ends = np.array([found[0], found[0] - 200, found[0] + jump, found[0] + jump - 200])
    assert np.abs(ends[:, None] - ticks).min() > 0.002 * RATE


def test_among_equals_the_quietest_place_is_taken() -> None:
    rng = np.random.default_rng(7)
    fading = np.exp(-np.arange(20000) / 4000)[:, None]
    sound = (rng.standard_normal((20000, 2)) * fading).astype(np.float32)
    found = best_splice(sound, np.array([100]), 300, (1000, 19000), RATE)
    assert found is not None
    assert found[0] > 15000


def test_no_room_is_no_place() -> None:
    sound = _tone(100, 4000)
    assert best_splice(sound, np.array([500, -500]), 480, (1000, 1900), RATE) is None


@pytest.mark.parametrize("span", [(-1, 100), (10, 4000), (300, 200)])
def test_a_span_outside_the_sound_is_refused(span: tuple[int, int]) -> None:
    with pytest.raises(ValueError, match="does not lie within"):
        best_splice(_tone(100, 4000), np.array([20]), 48, span, RATE)
