"""A drum's mics over frequency: shares, what they gain or lose together, what lies over them, who hands over."""

from pathlib import Path

import numpy as np
import pytest

from arkund.core.advise.handing_over import (
    CANCELS_DB,
    COSTS_DB,
    COUNTS_DB,
    QUIET_DB,
    hand_over,
    masking_of,
)
from arkund.core.advise.study import Study
from arkund.core.errors import ArkundError
from arkund.core.measure.masking import THIRDS_HZ, masking, spectra_at_hits
from arkund.core.simulate.session import simulate
from arkund.core.simulate.studying import study_of

RATE, TIMES = 48_000, [0.5 * n + 0.2 for n in range(8)]


def burst(hz: float, level: float = 0.5, delay_s: float = 0.0) -> np.ndarray:
    t = np.arange(5 * RATE) / RATE
    out = np.zeros(len(t))
    for time in TIMES:
        since = t - time - delay_s
        out += np.where(since >= 0, np.exp(-np.maximum(since, 0) / 0.05), 0) * np.sin(
            2 * np.pi * hz * since
        )
    side = (level * out).astype(np.float32)
    return np.stack([side, side], axis=1)


def third(hz: float) -> int:
    return int(np.argmin(np.abs(np.log(np.array(THIRDS_HZ) / hz))))


def test_each_third_is_shared_by_power() -> None:
    sounds = {"kick_in": burst(1000), "kick_out": burst(1000, 0.25)}
    own, hz = spectra_at_hits(sounds, RATE, TIMES)
    found = masking(own, {}, hz)
    at = third(1000)
    assert found.share["kick_in"][at] == pytest.approx(0.8, abs=0.01)
    assert sum(share[at] for share in found.share.values()) == pytest.approx(1)
    assert found.drum_db[at] == 0
    assert found.hits == len(TIMES)


@pytest.mark.parametrize(("delay_s", "wanted"), [(0.0, 3.0), (0.0005, -20.0), (0.00025, 0.0)])
def test_what_mics_have_together_is_how_they_agree(delay_s: float, wanted: float) -> None:
    """Two equal ones in step gain 3 dB, a quarter wave apart nothing; half a wave apart they cancel."""
    own, hz = spectra_at_hits(
        {"kick_in": burst(1000), "kick_out": burst(1000, delay_s=delay_s)}, RATE, TIMES
    )
    together = masking(own, {}, hz).together_db[third(1000)]
    assert together < -12 if wanted < -10 else together == pytest.approx(wanted, abs=0.4)


def test_what_lies_over_the_drum_is_told_in_db() -> None:
    own, hz = spectra_at_hits({"kick_in": burst(80)}, RATE, TIMES)
    others, _ = spectra_at_hits({"bed": burst(80, 1.0)}, RATE, TIMES)
    assert masking(own, others, hz).others["bed"][third(80)] == pytest.approx(6.0, abs=0.2)


def test_without_a_mic_there_is_nothing_to_measure() -> None:
    with pytest.raises(ValueError, match="a mic and a hit"):
        masking({}, {}, np.zeros(4))


def test_two_mics_that_cancel_hand_over(tmp_path: Path) -> None:
    """The snare's lower mic as it was recorded cancels the upper one's lows; a filter lets one have them, and the sum
    as it is rendered has more where they cancelled and hardly less anywhere."""
    study = study_of([simulate("copper", 5, bars=8)], tmp_path)
    turned = study.tried({"mics.snare_bottom.polarity": 1})
    before = masking_of(turned, "snare")
    counts = before.drum_db >= COUNTS_DB
    cancels = counts & (before.together_db < CANCELS_DB)
    assert cancels.any()
    found = hand_over(turned, "snare")
    assert found is not None
    assert all(path.startswith("mics.snare_") for path in found.patch)
    after = masking_of(turned.tried(found.patch), "snare")
    assert after.together_db[cancels].mean() > before.together_db[cancels].mean() + 0.5
    assert found.change_db[before.drum_db >= QUIET_DB].min() >= COSTS_DB
    # A filter that is in use is its owner's: nothing is offered over it.
    taken = {
        path.replace("frequency_hz", "on"): True for path in found.patch if "pass.freq" in path
    }
    mine = turned.tried(taken)
    again = hand_over(mine, "snare")
    assert again is None or not set(again.patch) & set(taken)


def test_mics_that_agree_are_left_alone_and_what_is_not_there_is_said(study: Study) -> None:
    assert hand_over(study, "tom_1") is None
    with pytest.raises(ArkundError, match="has no mic of its own"):
        masking_of(study, "crash_1")
    with pytest.raises(ArkundError, match="Nothing is heard of the tom 1"):
        masking_of(study.tried({"mics.tom_1.trim_db": -24, "mics.tom_1.fader_db": -90}), "tom_1")
