"""Repairs are measured where they should change nothing."""

from dataclasses import replace
from typing import Any

import pytest

from arkund.core.advise.finding import Finding
from arkund.core.advise.load_in import repairs
from arkund.core.advise.school import NATURAL
from arkund.core.advise.study import Study
from arkund.core.measure.landmarks import fundamental_hz
from tests.played import SHORT, Played


@pytest.fixture(scope="module")
def study(played: Played) -> Study:
    return played.study(SHORT)


def _found(study: Study, mic: str, quantity: str, **measured: Any) -> list[Finding]:
    measures = {**study.facts.measures, mic: {**study.facts.measures[mic], **measured}}
    takes = {**study.takes, study.sheet.take.number: replace(study.facts, measures=measures)}
    own = replace(study, takes=takes).beside()
    return [f for f in repairs.find(own, mic, NATURAL) if f.quantity == quantity]


def test_an_offset_that_the_quiet_parts_do_not_have_is_none(study: Study) -> None:
    assert not _found(study, "kick_in", "dc", dc=0.006)


def test_an_offset_that_stands_throughout_is_taken_away(study: Study) -> None:
    held = study.tried({"mics.kick_in.repair.dc": -0.006})
    (found,) = _found(held, "kick_in", "dc", dc=0.0)
    assert found.proposal == {"mics.kick_in.repair.dc": 0.0}


def test_notches_that_take_from_the_drum_itself_are_asked_about(study: Study) -> None:
    sound, times = study.sound("kick_in", "repaired"), study.plain_times("kick_in")
    own_hz = fundamental_hz(sound, study.rate, times, "kick")
    assert own_hz
    (on_it,) = _found(study, "kick_in", "hum", hum_hz=own_hz, hum_dbfs=-60.0, hum_contrast_db=20.0)
    assert on_it.asks
    assert "listen first" in on_it.reason
    (hat,) = _found(study, "hat", "hum", hum_hz=50.0, hum_dbfs=-60.0, hum_contrast_db=20.0)
    assert not hat.asks
