"""Songs on the desk: renamed, copied, into the bin and out of it, and for good."""

from pathlib import Path

import pytest
from django.test import Client

from arkund.core.errors import ArkundError
from arkund.songs import desk, locks, revisions, storage, sweeping
from arkund.songs.models import Revision, Song
from tests.making import small_song


@pytest.fixture
def song(data: Path, tmp_path: Path) -> Song:
    made = small_song(tmp_path / "in")
    assert made.current is not None
    revisions.keep(made.pk, made.current.number, {"mics.kick_in.trim_db": -2})
    made.refresh_from_db()
    return made


@pytest.mark.django_db(transaction=True)
def test_a_song_is_called_otherwise_and_keeps_its_address(song: Song) -> None:
    slug = song.slug
    desk.rename(song, "  Slag   Run ")
    song.refresh_from_db()
    assert (song.name, song.slug) == ("Slag Run", slug)
    for wrong in ("", "   ", "x" * 121, "line\nbreak\x00"):
        with pytest.raises(ArkundError, match="A song's name has 1 to 120 letters"):
            desk.rename(song, wrong)


@pytest.mark.django_db(transaction=True)
def test_a_copy_sounds_the_same_and_goes_its_own_way(song: Song) -> None:
    copy = desk.duplicate(song)
    assert copy.slug != song.slug
    assert song.current is not None
    assert copy.current is not None
    assert copy.current.sheet == song.current.sheet
    assert copy.current.label == f"Copied from {song.name}, revision 2"
    revisions.keep(copy.pk, 1, {"mics.kick_in.trim_db": -5})
    song.refresh_from_db()
    assert song.current.sheet.mics["kick_in"].trim_db == -2
    # Their sounds are the same files, which stay as long as either is there.
    desk.remove(song)
    desk.delete(song)
    sweeping.sweep()
    assert all(
        storage.sound_path(source.sha256).exists()
        for take in copy.current.sheet.takes
        for source in take.sources.values()
    )


@pytest.mark.django_db(transaction=True)
def test_the_bin_holds_all_of_a_song_until_it_is_deleted(song: Song) -> None:
    client, slug = Client(), song.slug
    with pytest.raises(ArkundError, match="is not in the bin"):
        desk.delete(song)
    page = client.post(f"/{slug}/remove/", follow=True).content.decode()
    assert "Bin" in page
    assert "bring back" in page
    assert client.get(f"/{slug}/edit/").status_code == 404
    sweeping.sweep()
    client.post(f"/{slug}/bring-back/")
    assert client.get(f"/{slug}/log/").status_code == 200
    song.refresh_from_db()
    assert song.current is not None
    assert song.current.number == 2
    folder = storage.prints_folder(slug)
    folder.mkdir(parents=True)
    (folder / "old.zip").write_bytes(b"x")
    client.post(f"/{slug}/remove/")
    client.post(f"/{slug}/delete/")
    assert not Song.objects.exists()
    assert not Revision.objects.exists()
    assert not folder.exists()
    assert client.post(f"/{slug}/bring-back/").status_code == 404


@pytest.mark.django_db(transaction=True)
def test_a_song_that_is_worked_on_stays(song: Song) -> None:
    with locks.song_lock(song.slug), pytest.raises(locks.Busy):
        desk.remove(song)
    assert song in Song.objects.on_desk()


@pytest.mark.django_db(transaction=True)
def test_only_a_form_of_the_page_changes_the_desk(song: Song) -> None:
    strict = Client(enforce_csrf_checks=True)
    for what in ("call", "duplicate", "remove", "bring-back", "delete"):
        assert strict.post(f"/{song.slug}/{what}/", {"name": "x"}).status_code == 403
        assert strict.get(f"/{song.slug}/{what}/").status_code in (404, 405)
    assert list(Song.objects.on_desk()) == [song]
