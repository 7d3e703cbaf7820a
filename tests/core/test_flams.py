"""Kick and snare meant as one but played apart: how it is heard, and what makes them one."""

from dataclasses import replace

import numpy as np
import pytest

from arkund.core.advise.edit import flams
from arkund.core.advise.finding import finding_from
from arkund.core.advise.school import OPEN, TIGHT
from arkund.core.advise.study import Study
from arkund.core.hits.hit import Hit
from arkund.core.measure.attacks import attacks
from arkund.core.timing.copying import LEAD_S, lead_before
from benchmarks.flams import heard_attacks
from tests.played import LONG, Played

RATE = 48_000


def _clicks(*hits: tuple[float, float]) -> np.ndarray:
    """Bursts of noise that die within some ms, at times in s from the middle, with peaks."""
    rng = np.random.default_rng(3)
    out = (1e-5 * rng.standard_normal(RATE // 5)).astype(np.float32)
    fall = np.exp(-np.arange(RATE // 20) / (0.004 * RATE))
    for at_s, peak in hits:
        at = RATE // 10 + round(at_s * RATE)
        out[at : at + len(fall)] += (peak * fall * rng.uniform(-1, 1, len(fall))).astype(np.float32)
    return out


def test_two_hits_are_two_attacks_where_both_are_heard() -> None:
    def heard(*hits: tuple[float, float]) -> list[float]:
        return attacks(_clicks(*hits), RATE, RATE // 10)

    assert heard((0.0, 0.5)) == pytest.approx([0.0], abs=0.004)
    assert heard((-0.016, 0.3), (0.0, 0.5)) == pytest.approx([-0.016, 0.0], abs=0.004)
    assert len(heard((0.0, 0.5), (0.002, 0.5))) == 1, "as one"
    assert len(heard((0.0, 0.5), (0.016, 0.02))) == 1, "masked"
    assert len(heard((0.0, 0.5), (0.05, 0.5))) == 1, "another hit"
    assert attacks(np.zeros(RATE, np.float32), RATE, 100) == []
    assert attacks(np.zeros(4, np.float32), RATE, 2) == []


def test_a_copy_covers_what_came_early() -> None:
    def at(*times_s: float) -> list[Hit]:
        return [Hit(str(t), "kick", t, 100, "plain", 1.0, 0.0) for t in times_s]

    assert lead_before(at(1.0), 1.0) == LEAD_S
    assert lead_before(at(0.98, 1.0), 1.0) == pytest.approx(0.02 + LEAD_S)
    assert lead_before(at(0.9, 1.0, 1.01), 1.0) == LEAD_S


@pytest.fixture(scope="module")
def study(played: Played) -> Study:
    return played.study(LONG)


@pytest.fixture(scope="module")
def flam(study: Study) -> flams.Flam:
    """Sixteen ms, planted in bar 11."""
    return max(flams._flams(study.hits), key=lambda f: abs(f.gap_s))


def test_a_clean_hit_takes_the_place_of_a_flam_in_all_mics(study: Study, flam: flams.Flam) -> None:
    """With the kick brought forward it comes early too: nothing of it is left before the clean hit."""
    loud = study.tried({f"mics.{m}.fader_db": 0.0 for m in study.mics})
    finding = next(f for f in flams.find(loud, "kit", OPEN))
    every = [finding.by_way(number) for number in range(len(finding.others) + 1)]
    copied = next(f for f in every if "copies" in f.proposal)
    mended = study.tried(copied.proposal)
    near = [
        h
        for h in mended.hits
        if abs(h.time_s - flam.snare.time_s) < 0.04 and h.piece in ("kick", "snare")
    ]
    assert sorted(h.piece for h in near) == ["kick", "snare"]
    assert abs(near[0].time_s - near[1].time_s) <= flams.CLEAN_S
    assert list(flams._flams(mended.hits)) == [
        f
        for f in flams._flams(study.hits)
        if study.bar_of(f.snare.time_s) != study.bar_of(flam.snare.time_s)
    ]
    assert heard_attacks(mended, flam.snare.time_s) <= heard_attacks(study, flam.snare.time_s)


def test_a_pass_asks_where_the_school_leaves_timing_alone(study: Study) -> None:
    asked, sure = (flams.find(study, "kit", school) for school in (OPEN, TIGHT))
    assert [f.subject for f in asked] == [f.subject for f in sure] != []
    assert all(f.is_left_to_the_ear and not f.is_doubtful for f in asked)
    for finding in sure:
        assert finding.is_left_to_the_ear == ("copies" in finding.proposal)
        assert finding_from(finding.as_dict()).asks == finding.asks


def test_a_flam_without_a_remedy_says_what_helps(study: Study, flam: flams.Flam) -> None:
    """No other kick falls with a snare, and too few are known to say how overheads hear them."""
    alone = [h for h in study.hits if h.piece != "kick" or h.id == flam.kick.id]
    own = replace(study, takes={1: replace(study.facts, hits=tuple(alone))}).beside()
    (found,) = flams.find(own, "kit", TIGHT)
    assert not found.proposal
    assert "another take" in found.reason
