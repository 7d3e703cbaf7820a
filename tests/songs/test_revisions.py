"""Keeping, undoing, redoing, taking back; wording of what changed."""

from pathlib import Path

import pytest

from arkund.core.errors import ArkundError, SheetError
from arkund.core.sheet.patches import read_path
from arkund.songs import revisions
from arkund.songs.models import Song
from arkund.songs.wording import label_of
from tests.making import small_song

pytestmark = pytest.mark.django_db
TRIM = "mics.kick_in.trim_db"
GATE = "mics.snare_top.clean.threshold_db"


@pytest.fixture
def song(data: Path, tmp_path: Path) -> Song:
    return small_song(tmp_path / "in")


def _value(song: Song, path: str) -> object:
    song.refresh_from_db()
    assert song.current is not None
    return read_path(song.current.sheet, path)


def test_keep_undo_redo(song: Song) -> None:
    made = revisions.keep(song.pk, 1, {TRIM: -3})
    assert (made.number, made.label) == (2, "kick in: trim 0 dB → −3 dB")
    assert _value(song, TRIM) == -3
    revisions.undo(song.pk)
    assert _value(song, TRIM) == 0
    revisions.redo(song.pk)
    assert _value(song, TRIM) == -3
    with pytest.raises(ArkundError, match="nothing to redo"):
        revisions.redo(song.pk)


def test_nothing_before_the_first(song: Song) -> None:
    with pytest.raises(ArkundError, match="first revision"):
        revisions.undo(song.pk)


def test_a_change_after_an_undo_begins_a_branch_and_loses_nothing(song: Song) -> None:
    revisions.keep(song.pk, 1, {TRIM: -3})
    revisions.undo(song.pk)
    revisions.keep(song.pk, 1, {TRIM: 4})
    assert [r.number for r in revisions.log(Song.objects.get(pk=song.pk))] == [1, 3]
    assert song.revisions.get(number=2).sheet.mics["kick_in"].trim_db == -3


def test_a_stale_base_is_a_conflict_that_names_what_changed(song: Song) -> None:
    revisions.keep(song.pk, 1, {TRIM: -3})
    with pytest.raises(revisions.Conflict) as caught:
        revisions.keep(song.pk, 1, {GATE: -20})
    assert "kick in: trim" in str(caught.value)
    assert _value(song, GATE) == -30


def test_taking_back_one_leaves_the_later_ones(song: Song) -> None:
    revisions.keep(song.pk, 1, {TRIM: -3})
    revisions.keep(song.pk, 2, {GATE: -20})
    made = revisions.take_back(song.pk, 2)
    assert made.label.startswith("Taken back: kick in")
    assert _value(song, TRIM) == 0
    assert _value(song, GATE) == -20


def test_taking_back_asks_where_later_changes_overlap(song: Song) -> None:
    revisions.keep(song.pk, 1, {TRIM: -3})
    revisions.keep(song.pk, 2, {TRIM: -5})
    with pytest.raises(revisions.Overlap, match="Later changes"):
        revisions.take_back(song.pk, 2)
    revisions.take_back(song.pk, 2, all_the_same=True)
    assert _value(song, TRIM) == 0


def test_a_refused_value_leaves_no_revision(song: Song) -> None:
    with pytest.raises(SheetError):
        revisions.keep(song.pk, 1, {TRIM: 99})
    assert song.revisions.count() == 1


def test_a_change_that_changes_nothing_is_no_revision(song: Song) -> None:
    assert revisions.keep(song.pk, 1, {TRIM: 0}).number == 1


def test_taking_back_what_is_not_on_the_way(song: Song) -> None:
    with pytest.raises(ArkundError, match="Revision 7"):
        revisions.take_back(song.pk, 7)


@pytest.mark.parametrize(
    ("path", "before", "after", "words"),
    [
        ("mics.snare_bottom.polarity", 1, -1, "snare bottom: polarity flipped"),
        ("mics.overhead_l.chain.eq.bands.b2.gain_db", 0, -4.5, "overhead L: band 2 0 dB → −4.5 dB"),
        (
            "mics.snare_top.chain.compressor.key.source",
            "",
            "kick_in",
            "snare top: listens to itself → kick in",
        ),
        ("buses.strike.fader_db", -90, -9, "strike bus: blend off → −9 dB"),
        ("buses.strike.sends.tom_1.db", -4, 0, "strike bus: send from tom 1 −4 dB → 0 dB"),
        ("mics.hat.mute", False, True, "hat: mute on"),
        ("mics.tom_3.clean.shuts", "level", "ring", "tom 3: gate shuts level → ring"),
        ("mics.tom_3.clean", {"on": False}, {"on": True}, "tom 3: gate settings replaced"),
    ],
)
def test_plain_words(path: str, before: object, after: object, words: str) -> None:
    assert label_of({path: after}, {path: before}) == words


def test_what_stays_as_it_was_is_not_in_the_log() -> None:
    path = "mics.snare_top.chain.compressor."
    before = {f"{path}ratio": 4.0, f"{path}knee_db": 6.0, f"{path}threshold_db": -18.0}
    after = before | {f"{path}threshold_db": -20.0}
    words = "snare top: compressor threshold −18 dB → −20 dB"
    assert label_of(after, before) == words
