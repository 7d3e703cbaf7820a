"""Shared by the tests of stored songs."""

from pathlib import Path

import pytest

from arkund.songs.models import Song
from tests.making import small_song


@pytest.fixture
def song(data: Path, tmp_path: Path) -> Song:
    """Kick and snare in turn for eight seconds, stored in a folder of its own."""
    made = small_song(tmp_path / "in")
    made.refresh_from_db()
    return made
