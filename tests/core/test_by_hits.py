"""A boost that comes with a drum's hits, beside one that stands: measured on hits and on bleed."""

from typing import Any

import pytest

from arkund.core.advise.eq import tone
from arkund.core.advise.eq.bands import Place, band_patch
from arkund.core.advise.eq.by_hits import by_hits_patch, lift, spared
from arkund.core.advise.finding import Finding
from arkund.core.advise.school import SCHOOLS
from arkund.core.advise.study import Study
from arkund.core.sheet.patches import apply_patch
from tests.played import LONG, Played

EQ = "mics.kick_out.chain.eq"
PLACE = Place(2, f"{EQ}.bands.b3")
HZ = 3500.0


@pytest.fixture(scope="module")
def study(played: Played) -> Study:
    return played.study(LONG)


def test_with_its_hits_the_drum_gets_the_boost_and_the_bleed_does_not(study: Study) -> None:
    patch = band_patch(PLACE, HZ, 5.0, 1.0)
    still = lift(study, "kick_out", patch, HZ)
    moved = lift(study, "kick_out", by_hits_patch(study, "kick_out", PLACE, patch), HZ)
    assert still.hits_db == pytest.approx(5.0, abs=0.3)
    assert still.bleed_db >= 4.0
    assert moved.hits_db >= still.hits_db - 0.5
    assert moved.bleed_db <= 1.0


def test_what_the_finding_says_is_what_its_ways_do(study: Study) -> None:
    found: list[Finding] = [
        f
        for mic in ("kick_in", "kick_out")
        for f in tone.find(study, mic, SCHOOLS["tight"])
        if f.quantity == "attack"
    ]
    assert found
    for f in found:
        (way,) = f.others
        hz = float(f.measured["hz"])
        assert f.measured["bleed_lift_db"] == pytest.approx(
            lift(study, f.mic, f.proposal, hz).bleed_db, abs=0.06
        )
        heard = lift(study, f.mic, way.proposal, hz)
        assert way.gain["bleed_lift_db"].then == pytest.approx(heard.bleed_db, abs=0.06)
        assert f"{abs(heard.bleed_db):.1f} dB on the bleed" in way.said


def test_an_eq_that_listens_to_something_else_is_left_to_it(study: Study) -> None:
    patch: dict[str, Any] = band_patch(PLACE, HZ, 5.0, 1.0)
    other = study.tried({f"{EQ}.key.source": "snare_top"})
    assert by_hits_patch(other, "kick_out", PLACE, patch) == {}
    assert spared(other, "kick_out", PLACE, patch, HZ)[1] is None
    own = study.tried({f"{EQ}.key.source": "kick_hits"})
    assert by_hits_patch(own, "kick_out", PLACE, patch)


def test_its_patch_can_be_kept(study: Study) -> None:
    patch = by_hits_patch(study, "kick_out", PLACE, band_patch(PLACE, HZ, 5.0, 1.0))
    sheet = apply_patch(study.sheet, patch)
    band = next(b for b in sheet.mics["kick_out"].chain[0].bands if b.id == "b3")  # type: ignore[attr-defined]
    assert band.moves
    assert (band.gain_db, band.range_db, band.hears) == (0.0, 5.0, "key")
