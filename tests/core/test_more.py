"""More in the chorus: sized so that it is louder by what the school wants, and only where that costs nothing."""

from typing import Any

import pytest

from arkund.core.advise.school import NATURAL, SCHOOLS
from arkund.core.advise.sections.more import MODULE, WANTED_LU, find
from arkund.core.advise.study import Study
from arkund.core.measure.loudness import loudness_lufs
from arkund.core.sheet.tempo import grid_of

TIGHT = SCHOOLS["tight"]
SECTIONS = [
    {"name": "Verse 1", "start_bar": 1, "bars": 2},
    {"name": "Chorus", "start_bar": 3, "bars": 1},
    {"name": "Verse 2", "start_bar": 4, "bars": 1},
]
FINISHED = {
    "sections": SECTIONS,
    "drum_bus.chain.top": {"kind": "limiter", "ceiling_db": 0},
    "buses.wide": {"sends": {"snare_top": {"db": 0}, "kick_in": {"db": 0}}, "fader_db": -6},
}


def louder_lu(study: Study) -> float:
    """The chorus against the first verse, by what is rendered."""
    grid, rate = grid_of(study.sheet), study.rate

    def level(first: int, last: int) -> float:
        return loudness_lufs(study.mix()[slice(*grid.frames_of_bars(first, last, rate))], rate)

    return level(3, 3) - level(1, 2)


def softer_chorus(db: float) -> dict[str, Any]:
    return {
        "over.soft": {"path": "drum_bus.fader_db", "bars": "3", "value": db, "by": True},
    }


def test_it_brings_the_chorus_to_where_the_school_wants_it(study: Study) -> None:
    plain = study.tried(FINISHED)
    down = plain.tried(softer_chorus(WANTED_LU["punch"] - 1.2 - louder_lu(plain)))
    (found,) = find(down, "chorus", TIGHT)
    assert found.asks
    assert {one["path"] for one in found.proposal.values()} >= {"buses.wide.fader_db"}
    assert {one["bars"] for one in found.proposal.values()} == {"3-3"}
    change = found.gain["chorus_over_verse_lu"]
    assert change.then == pytest.approx(WANTED_LU["punch"], abs=0.3)
    assert louder_lu(down.tried(found.proposal)) - louder_lu(down) == pytest.approx(
        change.then - change.now, abs=0.5
    )
    assert "Wide" in found.reason
    # What differs there already is left as it is.
    assert find(down.tried(found.proposal), "chorus", TIGHT) == []


def test_nothing_is_wanted_of_a_chorus_that_is_louder_or_of_a_kit_in_the_making(
    study: Study,
) -> None:
    plain = study.tried(FINISHED)
    up = plain.tried(softer_chorus(3 - louder_lu(plain)))
    assert find(up, "chorus", TIGHT) == []
    unfinished = plain.tried({"drum_bus.chain.top.on": False, **softer_chorus(-3)})
    assert find(unfinished, "chorus", NATURAL) == []


@pytest.mark.parametrize("sections", [[], SECTIONS[:1], SECTIONS[1:2]])
def test_a_song_without_chorus_or_verse_is_not_asked(
    study: Study, sections: list[dict[str, Any]]
) -> None:
    sheet = study.tried({"sections": sections}).sheet
    assert MODULE.subjects(sheet) == []
