"""Layers that a first pass lays under a drum: what they give, and where none is laid."""

import numpy as np
import pytest

from arkund.core.advise.finding import Finding
from arkund.core.advise.replace import under
from arkund.core.advise.replace.layers import layer_patch
from arkund.core.advise.school import SCHOOLS
from arkund.core.advise.study import Study
from arkund.core.measure.levels import hit_peaks
from arkund.core.shape.sides import louder_side
from arkund.core.units import amplitudes_to_db
from tests.played import SWUNG, Played

TIGHT = SCHOOLS["tight"]


@pytest.fixture(scope="module")
def study(played: Played) -> Study:
    """A snare with every third accent 9 dB down in both of its mics, as an uneven player has them."""
    made = played.study(SWUNG)
    patch: dict[str, object] = {}
    for mic in made.close("snare"):
        delay = made.sheet.mics[mic].delay_samples
        patch[f"mics.{mic}.repair.clip_gains"] = [
            {"at": round(h.time_s * made.rate) - 96 - delay, "frames": 9600, "gain_db": -9.0}
            for h in _accents(made)[::3]
        ]
    return made.tried(patch)


@pytest.fixture(scope="module")
def found(study: Study) -> Finding:
    """What is laid under that snare."""
    [layer] = under.find_under(study, "snare_top", TIGHT)
    return layer


def _accents(study: Study) -> list:
    return [h for h in study.hits_on("snare") if h.kind == "accent"]


def _spread_db(study: Study, names: list[str]) -> float:
    nodes = [study.graph.outs.get(n) or study.graph.layers[n] for n in names]
    sound = sum(study.engine.read(n, 0, study.sheet.frames) for n in nodes)
    peaks = hit_peaks(louder_side(sound), study.rate, [h.time_s for h in _accents(study)])
    return float(np.subtract(*np.percentile(amplitudes_to_db(peaks), [90, 10])))


def test_uneven_accents_get_the_drum_s_own_hits_under_them_and_are_evener(
    study: Study, found: Finding
) -> None:
    then = study.tried(found.proposal)
    mics = study.close("snare")
    was, now = _spread_db(study, mics), _spread_db(then, [*mics, "snare_layer"])
    claimed = found.gain["spread_db"]
    assert claimed.now == pytest.approx(was, abs=0.1)
    assert claimed.then == pytest.approx(now, abs=0.1)
    assert now < was - 1.5
    layer = then.sheet.layers["snare_layer"]
    assert (layer.mode, layer.hits) == ("under", "accents")


def test_a_layer_lies_as_far_under_the_drum_as_is_said(study: Study, found: Finding) -> None:
    then = study.tried(found.proposal)
    times = [h.time_s for h in _accents(study)]
    drum = sum(
        study.engine.read(study.graph.outs[m], 0, study.sheet.frames) for m in study.close("snare")
    )
    layer = then.engine.read(then.graph.layers["snare_layer"], 0, study.sheet.frames)
    typical = [
        float(np.median(amplitudes_to_db(hit_peaks(louder_side(s), study.rate, times))))
        for s in (drum, layer)
    ]
    assert typical[1] - typical[0] == pytest.approx(under.UNDER_DB, abs=0.2)
    assert f"{-under.UNDER_DB:.0f} dB under them" in found.reason


@pytest.mark.parametrize("school", ["natural", "open"])
def test_schools_that_leave_the_drum_as_it_was_played_lay_nothing(
    study: Study, school: str
) -> None:
    assert under.find_under(study, "snare_top", SCHOOLS[school]) == []


def test_a_drum_gets_one_layer_and_a_second_mic_none(study: Study) -> None:
    assert under.find_under(study, "snare_bottom", TIGHT) == []
    laid = study.tried(layer_patch(study, "snare"))
    assert under.find_under(laid, "snare_top", TIGHT) == []


def test_a_layer_that_makes_nothing_evener_or_fuller_is_not_proposed(
    study: Study, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Far under the drum it changes nothing that could be measured."""
    monkeypatch.setattr(under, "UNDER_DB", -40.0)
    assert under.find_under(study, "snare_top", TIGHT) == []


def test_a_kick_without_a_fundamental_gets_a_tone_on_its_note(
    study: Study, monkeypatch: pytest.MonkeyPatch
) -> None:
    assert not any(f.subject == "kick_sub" for f in under.find_under(study, "kick_in", TIGHT))
    monkeypatch.setattr(under, "under_loudest_db", lambda *_: -15.0)
    tones = [f for f in under.find_under(study, "kick_in", TIGHT) if f.subject == "kick_sub"]
    [tone] = tones
    assert tone.gain["low_db"].then > tone.gain["low_db"].now + under.LEAST_DB
    assert "15 dB under the loudest octave" in tone.reason


def test_a_tone_is_judged_on_top_of_the_hits_that_are_laid_first(
    study: Study, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(under, "under_loudest_db", lambda *_: -15.0)
    monkeypatch.setattr(under, "LEAST_DB", -9.0)
    monkeypatch.setattr(under, "MOST_LOST_DB", 9.0)
    hits, tone = under.find_under(study, "kick_in", TIGHT)
    assert [hits.subject, tone.subject] == ["kick_layer", "kick_sub"]
    assert {k: c.now for k, c in tone.gain.items()} == {k: c.then for k, c in hits.gain.items()}
