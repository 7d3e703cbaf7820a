"""The simulated pieces sound by octaves as recorded ones do, and duller where they are soft."""

import numpy as np
import pytest

from arkund.core.simulate.drummer import PlayedHit
from arkund.core.simulate.kit import play
from arkund.core.simulate.presets import PRESETS
from arkund.core.simulate.voice import (
    CENTRES_HZ,
    CLOSE_MIC_DB,
    OCTAVES_DB,
    brightness,
    family_of,
    octave_levels,
    window_s,
)

RATE = 48000


def test_octave_levels_of_a_sine_stand_in_its_octave() -> None:
    tone = np.sin(2 * np.pi * 1000 * np.arange(RATE // 10) / RATE)
    levels = octave_levels(tone, RATE, 0.1)
    assert CENTRES_HZ[int(np.argmax(levels))] == 1000
    assert np.sort(levels)[-2] < levels.max() - 30


@pytest.mark.parametrize("piece", ["kick", "snare", "tom_1", "tom_3", "hat", "crash_1", "ride"])
def test_a_hard_hit_has_the_octaves_of_recorded_ones(piece: str) -> None:
    kit = PRESETS["copper"]().kit
    lowest = {d.piece: d.fundamental_hz for d in kit.drums}
    family = family_of(piece, lowest.get(piece, 400.0))
    parts = play(kit, [PlayedHit(0.0, piece, 112)], RATE // 2, RATE, np.random.default_rng(5))
    # Of a snare the head alone is asked: its wires sound elsewhere.
    sound = next(p.sound for p in parts if p.piece == piece)
    levels = octave_levels(sound, RATE, window_s(piece))
    close = CLOSE_MIC_DB["shell" if family in ("kick", "snare", "tom", "floor tom") else "cymbal"]
    wanted = np.array(OCTAVES_DB[family], float) - close
    # Single partials carry a cymbal's lower octaves, and differ from hit to hit.
    up = {"snare": slice(2, 6), "hat": slice(4, None), "ride": slice(4, None)}.get(family)
    up = up or slice(2, None)
    off = (levels - levels.max()) - (wanted - wanted.max())
    assert np.abs(off[up] - np.median(off[up])).max() < 6


def test_soft_hits_are_two_to_four_db_duller() -> None:
    assert brightness(127) == pytest.approx(1.0)
    assert -4 < 20 * np.log10(brightness(30)) < -2
