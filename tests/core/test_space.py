"""A room where the kit is dry: by its school, by what the snare leaves of its gap, and where it costs nothing."""

from typing import Any

import pytest

from arkund.core.advise.bus import space
from arkund.core.advise.bus.space import FED, MODULE, fall_ms, find
from arkund.core.advise.school import NATURAL, OPEN, TIGHT
from arkund.core.advise.study import Study
from arkund.core.kit.roles import parse_mic_name

FINISHED = {"drum_bus.chain.top": {"kind": "limiter", "ceiling_db": 0}}


@pytest.fixture(scope="module")
def finished(study: Study) -> Study:
    return study.tried(FINISHED)


@pytest.fixture(scope="module")
def dry(study: Study) -> Study:
    """Close mics alone, the snare's gated: nothing is left of the room."""
    away = ("overhead_l", "overhead_r", "room_l", "room_r", "crush", "hat")
    patch: dict[str, Any] = {f"mics.{mic}.mute": True for mic in away if mic in study.sheet.mics}
    for mic in ("snare_top", "snare_bottom"):
        patch |= {f"mics.{mic}.clean.on": True, f"mics.{mic}.clean.opens_on": "hits"}
    return study.tried(FINISHED | patch)


def test_a_dry_kit_is_offered_a_room_that_is_heard_and_fed_by_hits(dry: Study) -> None:
    (found,) = find(dry, "space", NATURAL)
    assert found.asks
    (bus,) = found.proposal.values()
    assert all(send["by_hits"] for send in bus["sends"].values())
    assert {parse_mic_name(mic).role for mic in bus["sends"]} <= set(FED)
    then = dry.tried(found.proposal)
    times = space._alone(dry)
    change = found.gain["snare_falls_ms"]
    assert change.now == pytest.approx(fall_ms(dry, times), abs=1)
    assert change.then == pytest.approx(fall_ms(then, times), abs=1)
    assert change.then > 1.15 * change.now
    assert find(then, "space", NATURAL) == []


def test_by_school_and_only_where_it_is_dry(finished: Study, dry: Study, study: Study) -> None:
    assert find(dry, "space", TIGHT) == []
    assert find(finished, "space", NATURAL) == []
    assert find(study, "space", OPEN) == []
    plate = {"buses.mine": {"sends": {}, "chain": [{"kind": "room", "id": "room", "on": True}]}}
    assert find(dry.tried(plate), "space", NATURAL) == []


def test_it_is_withdrawn_where_it_costs_a_goal(dry: Study, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setitem(space.UNDER_LU, "punch_size", -6.0)
    assert find(dry, "space", NATURAL) == []


def test_it_is_asked_of_kits_with_a_snare_or_toms_of_their_own(study: Study) -> None:
    assert MODULE.subjects(study.sheet) == ["space"]
    close = [m for m in study.sheet.mics if parse_mic_name(m).role in FED]
    without = study.tried({f"mics.{mic}.mute": True for mic in close})
    assert MODULE.subjects(without.sheet) == []
