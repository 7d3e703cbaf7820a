"""A hat that is louder in one section: found by its hits, evened in those bars alone."""

import pytest

from arkund.core.advise.school import NATURAL
from arkund.core.advise.sections.louder import MODULE, find
from arkund.core.advise.study import Study

SECTIONS = [
    {"name": "Verse 1", "start_bar": 1, "bars": 3},
    {"name": "Chorus", "start_bar": 4, "bars": 3},
    {"name": "Verse 2", "start_bar": 7, "bars": 2},
]


def _played(study: Study, by_db: float) -> Study:
    """The hat's mic louder in the verses, as if the drummer had played so."""
    louder = {"path": "mics.hat.trim_db", "bars": "1-3, 7-8", "value": by_db, "by": True}
    return study.tried({"sections": SECTIONS, "over.loud": louder})


def test_it_is_evened_in_the_bars_where_it_is_louder(study: Study) -> None:
    (found,) = find(_played(study, 5.0), "hat", NATURAL)
    assert found.asks
    over = found.measured["over_rest_db"]
    plain = found.measured["over_rest_db"] - 5.0
    assert abs(plain) < 2.5
    (one,) = found.proposal.values()
    assert one == {
        "path": "mics.hat.fader_db",
        "bars": "1-3, 7-8",
        "value": pytest.approx(-round(over * 2) / 2, abs=0.26),
        "by": True,
    }
    assert "louder in the verse" in found.reason
    evened = _played(study, 5.0).tried(found.proposal)
    assert MODULE.subjects(evened.sheet) == []


def test_what_is_played_evenly_or_in_one_section_is_left_alone(study: Study) -> None:
    assert find(_played(study, 0.0), "hat", NATURAL) == []
    one = study.tried({"sections": [{"name": "Verse", "start_bar": 1, "bars": 8}]})
    assert find(one, "hat", NATURAL) == []
    assert MODULE.subjects(study.tried({"sections": []}).sheet) == []
    assert MODULE.subjects(study.tried({"sections": SECTIONS}).sheet) == ["hat"]
