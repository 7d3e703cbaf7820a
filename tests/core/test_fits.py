"""A gate that fits one section and drops hits of another."""

import pytest

from arkund.core.advise.clean.proposing import hits_through
from arkund.core.advise.school import NATURAL
from arkund.core.advise.sections.fits import MODULE, find
from arkund.core.advise.study import Study

MIC, C = "snare_top", "mics.snare_top.clean"


SECTIONS = [
    {"name": "Verse 1", "start_bar": 1, "bars": 3},
    {"name": "Chorus", "start_bar": 4, "bars": 4},
    {"name": "Verse 2", "start_bar": 8, "bars": 1},
]


@pytest.fixture(scope="module")
def gated(study: Study) -> Study:
    """A snare that is played so softly in its verses that a gate which fits the chorus drops hits there."""
    softer = {"path": f"mics.{MIC}.trim_db", "bars": "1-3, 8", "value": -24.0, "by": True}
    gate = {f"{C}.on": True, f"{C}.opens_on": "threshold", f"{C}.threshold_db": -42.0}
    return study.tried({"sections": SECTIONS, "over.soft": softer} | gate)


def _dropped(study: Study, bars: set[int]) -> int:
    heard = hits_through(study, MIC, study.sheet.mics[MIC].clean)
    return sum(not through and study.bar_of(hit.time_s) in bars for hit, through in heard)


def test_what_it_drops_in_one_section_is_kept_by_opening_on_hits_there(gated: Study) -> None:
    assert _dropped(gated, {4, 5, 6, 7}) == 0
    (found,) = find(gated, MIC, NATURAL)
    assert found.asks
    change = found.gain["dropped"]
    assert change.now == _dropped(gated, {1, 2, 3, 8}) >= 3
    assert change.then < change.now
    assert f"drops {change.now} of" in found.reason
    (over,) = found.proposal.values()
    assert over == {"path": f"{C}.opens_on", "bars": "1-3, 8-8", "value": "hits"}
    # Once it differs there, the question is settled.
    assert MODULE.subjects(gated.tried(found.proposal).sheet) == []


def test_a_gate_that_fits_everywhere_or_nowhere_is_left_alone(gated: Study, study: Study) -> None:
    one_name = [section | {"name": "verse"} for section in SECTIONS]
    assert find(gated.tried({"sections": one_name}), MIC, NATURAL) == []
    assert find(gated.tried({f"{C}.threshold_db": -80.0}), MIC, NATURAL) == []
    assert MODULE.subjects(study.sheet) == []
    assert MODULE.subjects(gated.tried({f"{C}.opens_on": "hits"}).sheet) == []
