"""The punch of a mix over the blend of a bus: more of the shells alone gives more, more of the room less."""

from pathlib import Path

import numpy as np
import pytest

from arkund.core.errors import ArkundError
from arkund.core.sheet.patches import apply_patch
from arkund.core.sheet.sheet import Sheet
from arkund.songs.blends import BLENDS_DB, Blended, punch_over_blend
from arkund.songs.timing import sheet_of
from tests.making import whole_song

pytestmark = pytest.mark.django_db


@pytest.fixture
def sheet(data: Path, recording: Path) -> Sheet:
    return sheet_of(whole_song(recording))


def over(sheet: Sheet, feeds: tuple[str, ...], span: tuple[int, int]) -> Blended:
    sends = {mic: {"db": 0.0} for mic in feeds}
    fed = apply_patch(sheet, {"buses.tried": {"sends": sends}})
    found = punch_over_blend(fed, "tried", span)
    assert found is not None
    return found


def test_shells_alone_add_punch_and_a_room_takes_it(sheet: Sheet) -> None:
    span = (2 * sheet.rate, 5 * sheet.rate)
    shells = over(sheet, ("kick_in", "snare_top"), span)
    room = over(sheet, ("room_l", "room_r"), span)
    assert np.all(np.diff(shells.punch_db) > 0)
    assert shells.best == len(BLENDS_DB) - 1
    assert shells.punch_db[0] < 0.1  # as good as shut
    assert room.punch_db[-1] < -0.2
    assert np.all(np.diff(shells.peak_dbfs) > 0)
    assert "takes some of it" in room.said
    assert f"+{shells.punch_db[-1]:.1f} dB" in shells.said


def test_what_nobody_feeds_changes_nothing_and_a_loop_without_hits_has_no_curve(
    sheet: Sheet,
) -> None:
    span = (2 * sheet.rate, 5 * sheet.rate)
    idle = over(sheet, (), span)
    assert not idle.is_heard
    assert np.abs(idle.punch_db).max() == 0.0
    fed = apply_patch(sheet, {"buses.tried": {"sends": {"kick_in": {"db": 0.0}}}})
    assert punch_over_blend(fed, "tried", (0, 480)) is None


def test_where_the_mix_goes_over_full_scale_is_told(sheet: Sheet) -> None:
    span = (2 * sheet.rate, 5 * sheet.rate)
    quiet = over(apply_patch(sheet, {"drum_bus.fader_db": -40.0}), ("kick_in",), span)
    assert quiet.full_from_db is None
    # So that the mix reaches full scale between two of the blends that are tried.
    needed = -float(quiet.peak_dbfs[5:7].mean()) - 40.0
    found = over(apply_patch(sheet, {"drum_bus.fader_db": needed}), ("kick_in",), span)
    assert found.full_from_db is not None
    assert BLENDS_DB[5] < found.full_from_db < BLENDS_DB[6]


def test_a_bus_that_is_not_there_is_refused(sheet: Sheet) -> None:
    with pytest.raises(ArkundError):
        punch_over_blend(sheet, "nowhere", (2 * sheet.rate, 5 * sheet.rate))
