"""A chain copied to another drum is fitted to it: landmarks, level, ring; and the sheet takes it."""

import math
from typing import Any

import pytest

from arkund.core.advise.adapting import FEWEST_HITS, Landmarks, copied, landmarks_of, moved_hz
from arkund.core.advise.study import Study
from arkund.core.errors import ArkundError
from arkund.core.sheet.patches import apply_patch
from tests.played import LONG, Played

HIGH = Landmarks(140.0, 4000.0, -12.0, 0.15)
LOW = Landmarks(70.0, 3000.0, -18.0, 0.30)
TOM = "mics.tom_1.chain"


@pytest.fixture(scope="module")
def study(played: Played) -> Study:
    return played.study(LONG)


@pytest.fixture(scope="module")
def worked(study: Study) -> Study:
    return study.tried(
        {
            f"{TOM}.eq.high_pass.on": True,
            f"{TOM}.eq.bands.b2.on": True,
            f"{TOM}.eq.bands.b2.gain_db": 3,
            f"{TOM}.eq.bands.b2.frequency_hz": 137,
            f"{TOM}.eq.bands.b4": None,
            f"{TOM}.eq.bands.b7": {"on": True, "range_db": 4, "hears": "key"},
            f"{TOM}.eq.key.source": "tom_1_hits",
            f"{TOM}.compressor.on": True,
            f"{TOM}.compressor.threshold_db": -20,
            f"{TOM}.s9": {"kind": "saturation", "drive_db": 4},
        }
    )


def test_landmarks_go_to_landmarks_and_what_lies_between_in_proportion() -> None:
    assert moved_hz(140, HIGH, LOW) == pytest.approx(70)
    assert moved_hz(4000, HIGH, LOW) == pytest.approx(3000)
    assert moved_hz(35, HIGH, LOW) == pytest.approx(17.5)
    assert moved_hz(8000, HIGH, LOW) == pytest.approx(6000)
    middle = math.sqrt(140 * 4000)
    assert moved_hz(middle, HIGH, LOW) == pytest.approx(math.sqrt(70 * 3000))
    # Of a drum without a pitch nothing is known.
    assert moved_hz(500, HIGH, Landmarks(0.0, 3000.0, -18.0, 0.3)) == 500


def test_the_copy_is_fitted_to_the_other_drum(worked: Study) -> None:
    there, here = landmarks_of(worked, "tom_1"), landmarks_of(worked, "tom_3")
    sheet = apply_patch(worked.sheet, copied(worked, "tom_1", "tom_3"))
    eq, _, compressor, added = sheet.mics["tom_3"].chain
    bands: dict[str, Any] = {b.id: b for b in eq.bands}  # type: ignore[attr-defined]
    assert bands["b2"].frequency_hz == pytest.approx(here.pitch_hz, rel=0.02)
    assert bands["b2"].gain_db == 3
    assert "b4" not in bands
    assert bands["b7"].moves
    assert eq.key.source == "tom_3_hits"  # type: ignore[attr-defined]
    assert compressor.threshold_db == pytest.approx(  # type: ignore[attr-defined]
        -20 + here.peak_dbfs - there.peak_dbfs, abs=0.06
    )
    assert (added.kind, added.drive_db) == ("saturation", 4)  # type: ignore[attr-defined]
    assert sheet.mics["tom_1"] == worked.sheet.mics["tom_1"]


def test_a_copy_to_its_like_and_back_changes_nothing_more(worked: Study) -> None:
    once = worked.tried(copied(worked, "tom_1", "tom_3"))
    assert copied(once, "tom_1", "tom_3") == {}


def test_only_the_stages_that_are_asked_for(worked: Study) -> None:
    patch = copied(worked, "tom_1", "tom_3", ["compressor"])
    assert patch
    assert all(path.startswith("mics.tom_3.chain.compressor.") for path in patch)


def test_what_the_target_has_too_many_of_is_bypassed(worked: Study) -> None:
    fuller = worked.tried({"mics.tom_3.chain.c2": {"kind": "compressor"}})
    assert copied(fuller, "tom_1", "tom_3", ["compressor"])["mics.tom_3.chain.c2.on"] is False


@pytest.mark.parametrize(
    ("source", "target", "kinds", "words"),
    [
        ("tom_1", "tom_1", (), "Name another mic"),
        ("tom_1", "hat", (), "close to no kick, snare or tom"),
        ("overhead_l", "tom_1", (), "close to no kick, snare or tom"),
        ("tom_1", "tom_3", ("limiter",), "no such stage"),
    ],
)
def test_what_cannot_be_copied_is_said(
    worked: Study, source: str, target: str, kinds: tuple[str, ...], words: str
) -> None:
    with pytest.raises(ArkundError, match=words):
        copied(worked, source, target, kinds)


def test_a_drum_that_is_hardly_hit_is_not_guessed_at(
    study: Study, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(Study, "plain_times", lambda self, mic: [1.0] * (FEWEST_HITS - 1))
    with pytest.raises(ArkundError, match="2 hits"):
        landmarks_of(study, "tom_1")
