"""Parallel returns: dialled on the song's own hits, and proposed where they give what they are for."""

import numpy as np
import pytest

from arkund.core.advise.bus import parallel
from arkund.core.advise.heard import gap_ms, heard
from arkund.core.advise.school import NATURAL, OPEN, TIGHT
from arkund.core.advise.study import Study
from arkund.core.process.compressor import Compressor
from arkund.core.sheet.limits import OFF_DB
from arkund.core.sheet.patches import apply_patch, inverse_patch
from arkund.core.sheet.renaming import renamed

RATE = 48000


@pytest.fixture(scope="module")
def thin(study: Study) -> Study:
    """The kit with its kick's low end taken away."""
    path = "mics.{}.chain.eq.high_pass"
    patch: dict[str, object] = {}
    for mic in ("kick_in", "kick_out"):
        patch |= {f"{path.format(mic)}.{k}": v for k, v in (("on", True), ("frequency_hz", 110.0))}
    return study.tried(patch)


def _low_db(study: Study) -> float:
    """Level below 120 Hz of what reaches the drum bus, by its spectrum."""
    sound = heard(study, study.graph.sum).astype(np.float64)
    hz = np.fft.rfftfreq(len(sound), 1 / study.rate)
    power = np.square(np.abs(np.fft.rfft(sound, axis=0))).sum(axis=1)
    return float(10 * np.log10(power[hz < 120].sum()))


def test_weight_gives_the_low_end_that_it_says(thin: Study) -> None:
    (found,) = parallel.find(thin.beside(), "weight", TIGHT)
    assert "low end under kick and toms" in found.reason
    said = float(found.reason.split("It gives ")[1].split(" dB")[0])
    gained = _low_db(thin.tried(found.proposal)) - _low_db(thin)
    assert said >= parallel.LEAST_LOW_DB
    assert gained == pytest.approx(said, abs=0.4)


def test_weight_is_for_kits_that_lack_it(study: Study) -> None:
    full = study.tried({"groups.kick.fader_db": 4.0})
    assert parallel.find(full, "weight", TIGHT) == []


def test_a_return_that_is_not_there_is_added_and_taken_back_whole(thin: Study) -> None:
    (found,) = parallel.find(thin.beside(), "weight", NATURAL)
    assert list(found.proposal) == ["buses.weight"]
    then = apply_patch(thin.sheet, found.proposal)
    bus = then.buses["weight"]
    assert [stage.kind for stage in bus.chain] == ["eq", "compressor", "transient"]
    assert set(bus.sends) == {"kick_in", "kick_out", "tom_1", "tom_2", "tom_3"}
    assert bus.fader_db > OFF_DB
    assert apply_patch(then, inverse_patch(thin.sheet, found.proposal)) == thin.sheet


@pytest.mark.parametrize("name", ["strike", "bloom", "grit"])
def test_a_return_stays_under_the_hits_and_under_the_mix(study: Study, name: str) -> None:
    (found,) = parallel.find(study.beside(), name, TIGHT)
    then = study.tried(found.proposal)
    wet = heard(then, then.graph.chains[name].end)
    dry = heard(study, study.graph.sum)
    assert 0 < np.sqrt(np.mean(wet**2)) < 0.5 * np.sqrt(np.mean(dry**2))
    assert then.sheet.buses[name].first(Compressor) is not None
    assert 0.5 * parallel.RETURNS[name].aim_db < found.gain["reduction_db"].then


def test_what_a_school_does_not_want_or_an_engineer_has_settled_is_left(study: Study) -> None:
    assert all(parallel.find(study, name, OPEN) == [] for name in parallel.RETURNS)
    assert parallel.find(study, "grit", NATURAL) == []
    for settled in ({"buses.strike.mute": True}, {"buses.strike.fader_db": -20.0}):
        assert parallel.find(study.tried(settled), "strike", TIGHT) == []


def test_a_return_that_was_renamed_or_taken_out_is_not_added_again(thin: Study) -> None:
    (found,) = parallel.find(thin.beside(), "weight", TIGHT)
    there = thin.tried(found.proposal)
    otherwise = there.tried(renamed(there.sheet, "buses.weight", "low_end"))
    assert "weight" in parallel.MODULE.subjects(otherwise.sheet)
    assert parallel.find(otherwise, "weight", TIGHT) == []
    without = apply_patch(thin.sheet, {"buses.strike": None})
    assert "strike" not in parallel.MODULE.subjects(without)


def test_grit_needs_a_crush_mic(study: Study) -> None:
    assert not parallel.RETURNS["grit"].bus([m for m in study.mics if m != "crush"]).sends


def test_times_follow_the_hits_and_their_gaps() -> None:
    """Hits that fall by 6 dB in 18 ms, a quarter of a second apart."""
    times = np.arange(0.1, 5.0, 0.25)
    t = np.arange(round(5.5 * RATE)) / RATE
    feed = np.zeros((len(t), 2), np.float32)
    for at in times:
        since = t - at
        ring = np.where(since >= 0, 10 ** (-6 * since / 0.018 / 20), 0.0)
        feed += (ring * np.sin(2 * np.pi * 1000 * since))[:, None]
    found = parallel._times(feed, RATE, times, gap_ms(times, 25))
    assert found["attack_ms"] == pytest.approx(18, abs=2)
    assert found["release_ms"] == pytest.approx(250 / 3, abs=1)
    assert gap_ms(times, 25) == pytest.approx(250)
