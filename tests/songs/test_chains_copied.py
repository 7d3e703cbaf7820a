"""A chain copied to another drum of a stored song: shown first, then kept as one revision. Own chains go from
song to song."""

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


def test_an_own_chain_is_added_bypassed_and_fitted_in_another_song(
    song: Song, tmp_path: Path
) -> None:
    chains.save(song, "mics.snare_top", " dry ")
    other = small_song(tmp_path / "other")
    assert other.current is not None
    before = other.current.sheet.mics["kick_in"].chain
    made = chains.use(other, other.current.number, "kick_in", "DRY")
    after = made.sheet.mics["kick_in"].chain
    assert after[: len(before)] == before
    added = after[len(before) :]
    assert [type(s) for s in added] == [
        type(s) for s in other.current.sheet.mics["snare_top"].chain
    ]
    assert all(s.is_transparent and not s.on for s in added)
    assert made.label == "kick in: chain dry added, bypassed until it is heard"
    assert chains.owned() == [
        {"name": "dry", "drum": "snare", "stages": "EQ, transient, compressor"}
    ]
    chains.save(song, "kick_in", "dry")
    assert [own["drum"] for own in chains.owned()] == ["kick"]


@pytest.mark.parametrize(
    ("path", "name", "words"),
    [
        ("snare_top", "  ", "Give the chain a name"),
        ("snare_top", "n" * 41, "Give the chain a name"),
        ("groups.snare", "dry", "There is no mic “groups.snare”"),
    ],
)
def test_what_cannot_be_saved_is_said(song: Song, path: str, name: str, words: str) -> None:
    with pytest.raises(ArkundError, match=words):
        chains.save(song, path, name)


def test_an_unknown_chain_is_answered_with_those_that_there_are(song: Song) -> None:
    assert song.current is not None
    with pytest.raises(ArkundError, match="Chains: none yet"):
        chains.use(song, song.current.number, "kick_in", "dry")


def test_a_chain_of_another_version_is_said_to_be_one(song: Song) -> None:
    own = chains.save(song, "snare_top", "dry")
    own.stages = [{"kind": "reverb", "id": "r", "size": 3}]
    own.save()
    assert chains.owned()[0]["stages"] == "reverb"
    assert song.current is not None
    with pytest.raises(ArkundError, match="saved by another version"):
        chains.use(song, song.current.number, "kick_in", "dry")
