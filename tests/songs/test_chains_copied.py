"""A chain copied to another drum of a stored song: shown first, then kept as one revision."""

from pathlib import Path

import pytest

from arkund.core.errors import ArkundError
from arkund.songs import chains
from arkund.songs.models import Song
from tests.making import small_song

pytestmark = pytest.mark.django_db


@pytest.fixture
def song(data: Path, tmp_path: Path) -> Song:
    return small_song(tmp_path / "in")


def test_what_is_shown_is_what_is_kept(song: Song) -> None:
    said = chains.fitted(song, "snare_top", "kick_in", ["eq"])
    assert said["rows"]
    assert song.current is not None
    before = song.current.number
    made = chains.keep_fitted(song, "snare_top", "kick_in", said["patch"])
    assert made.number == before + 1
    assert made.label == "kick in: chain of snare top, fitted to it"
    song.refresh_from_db()
    assert chains.fitted(song, "snare_top", "kick_in", ["eq"]) == {"patch": {}, "rows": []}


@pytest.mark.parametrize(
    ("source", "target", "kinds", "words"),
    [
        ("x", "kick_in", [], "There is no mic “x”"),
        ("snare_top", "kick_in", ["reverb"], "There is no stage “reverb”"),
    ],
)
def test_unknown_names_are_answered_with_those_that_there_are(
    song: Song, source: str, target: str, kinds: list[str], words: str
) -> None:
    with pytest.raises(ArkundError, match=words) as refused:
        chains.fitted(song, source, target, kinds)
    assert "snare_top" in str(refused.value) or "compressor" in str(refused.value)
