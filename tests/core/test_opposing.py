"""Moves against each other over the whole sheet."""

from arkund.core.advise.opposing import LEVEL_DB, opposing
from arkund.core.advise.study import Study

CUT = {"kind": "eq", "bands": [{"id": "b1", "on": True, "frequency_hz": 400, "gain_db": -5}]}
BOOST = {"kind": "eq", "bands": [{"id": "b1", "on": True, "frequency_hz": 400, "gain_db": 4}]}


def test_a_cut_against_a_boost_is_said_with_its_figures(study: Study) -> None:
    assert opposing(study.sheet) == []
    sheet = study.tried({"mics.snare_top.chain.a": CUT, "groups.snare.chain.b": BOOST}).sheet
    (one,) = opposing(sheet)
    assert (one.mic, one.station) == ("snare_top", "eq")
    assert one.words == "Snare top cuts 5.0 dB around 400 Hz, the snare group boosts 4.0 dB there."


def test_what_all_mics_of_a_group_share_is_said_once(study: Study) -> None:
    sheet = study.tried({"groups.snare.chain.a": CUT, "drum_bus.chain.b": BOOST}).sheet
    (one,) = opposing(sheet)
    assert "the drum bus boosts" in one.words


def test_faders_against_each_other_are_said_from_three_db(study: Study) -> None:
    def said(mic_db: float, group_db: float) -> list[str]:
        patch = {"mics.hat.fader_db": mic_db, f"groups.{group}.fader_db": group_db}
        return [one.words for one in opposing(study.tried(patch).sheet)]

    group = study.sheet.mics["hat"].to
    assert said(-LEVEL_DB, LEVEL_DB) == [
        f"The fader of hat is 3.0 dB down, the {group} group's fader 3.0 dB up."
    ]
    assert said(-LEVEL_DB + 0.5, LEVEL_DB) == []
    assert said(-90.0, 6.0) == []
