"""Differences that move with their section, and those that stay with their bars."""

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from arkund.core.sheet.pairs import completed
from arkund.core.sheet.patches import apply_patch, inverse_patch
from arkund.core.sheet.sheet import Sheet
from tests.core.written_song import written_song

RATE = 8000


def part(name: str, start: int, bars: int) -> dict[str, Any]:
    return {"name": name, "start_bar": start, "bars": bars}


OLD = [part("verse", 1, 8), part("chorus", 9, 8), part("verse", 17, 8)]


@pytest.fixture(scope="module")
def plain(tmp_path_factory: pytest.TempPathFactory) -> Sheet:
    folder: Path = tmp_path_factory.mktemp("song")
    sheet, _ = written_song(folder, {"kick_in": np.zeros(RATE * 2 * 30)}, RATE)
    return apply_patch(sheet, {"sections": OLD})


def bars_after(
    plain: Sheet, bars: str, sections: list[dict[str, Any]], follows: bool = True
) -> str:
    over = {"path": "mics.kick_in.fader_db", "bars": bars, "value": -3, "follows": follows}
    sheet = apply_patch(plain, {"over.d1": over})
    patch = completed(sheet, {"sections": sections})
    moved = apply_patch(sheet, patch)
    # What goes along is taken back with it.
    assert apply_patch(moved, inverse_patch(sheet, patch)) == sheet
    return moved.over[0].bars


@pytest.mark.parametrize(
    ("bars", "sections", "then"),
    [
        # The border between verse and chorus goes one bar later.
        ("9-16", [part("verse", 1, 9), part("chorus", 10, 7), OLD[2]], "10-16"),
        ("1-8", [part("verse", 1, 9), part("chorus", 10, 7), OLD[2]], "1-9"),
        # The chorus grows: its last bar stays its last bar, its third its third.
        ("16", [OLD[0], part("chorus", 9, 10), part("verse", 19, 6)], "18"),
        ("11", [OLD[0], part("chorus", 10, 9), part("verse", 19, 6)], "12"),
        # From the chorus into the verse after it; both verses, each by its own.
        ("9-24", [OLD[0], part("chorus", 10, 8), part("verse", 18, 9)], "10-26"),
        ("1-2, 17-18", [part("verse", 2, 7), OLD[1], part("verse", 18, 7)], "2-3, 18-19"),
        # A section that shrinks below it, one that goes, and bars in none.
        ("13-14", [OLD[0], part("chorus", 9, 3), part("verse", 12, 8)], "11"),
        ("9-16", [OLD[0], OLD[2]], "9-16"),
        ("26", [part("verse", 2, 7), OLD[1], OLD[2]], "26"),
    ],
)
def test_it_goes_where_its_sections_borders_go(
    plain: Sheet, bars: str, sections: list[dict[str, Any]], then: str
) -> None:
    assert bars_after(plain, bars, sections) == then


def test_what_stays_with_its_bars_stays(plain: Sheet) -> None:
    later = [part("verse", 1, 9), part("chorus", 10, 7), OLD[2]]
    assert bars_after(plain, "9-16", later, follows=False) == "9-16"


def test_sections_that_are_none_are_refused_as_before(plain: Sheet) -> None:
    with pytest.raises(Exception, match="start_bar"):
        apply_patch(plain, completed(plain, {"sections": [{"name": "verse", "bars": 0}]}))
