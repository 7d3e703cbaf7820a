"""A station is a folder: rail, page, picture, keys and scripts follow from its record."""

import json
import re
from html import unescape
from pathlib import Path

import pytest
from django.contrib.staticfiles import finders
from django.template import engines
from django.test import Client

from arkund.bench import stations
from arkund.bench.stations import registry
from arkund.songs import revisions
from arkund.songs.models import Song
from arkund.songs.prints import print_to_folder
from tests.examples import example
from tests.making import small_song

pytestmark = pytest.mark.django_db


@pytest.fixture
def song(data: Path, tmp_path: Path) -> Song:
    return small_song(tmp_path / "in")


@pytest.fixture
def toy(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    room = tmp_path / "rooms" / "toy"
    room.mkdir(parents=True)
    (room / "__init__.py").write_text(example("station record"))
    (room / "page.html").write_text(example("station page"))
    (room / "page.js").write_text(example("station script"))
    monkeypatch.setattr(stations, "__path__", [*stations.__path__, str(room.parent)])
    engine = engines["django"].engine
    monkeypatch.setattr(engine, "dirs", [*engine.dirs, room.parent])
    monkeypatch.setitem(registry.STATIONS, "toy-shop", registry.found()["toy-shop"])


@pytest.mark.usefixtures("toy")
def test_a_station_is_added_by_adding_a_folder(song: Song, client: Client) -> None:
    page = client.get(f"/{song.slug}/toy-shop/?mic=snare_top").content.decode()
    assert "toys of snare_top" in page
    assert 'data-station="9"' in page
    assert "Toys: open the box" in page
    bench = json.loads(page.split('id="bench" type="application/json">')[1].split("</script>")[0])
    assert bench["keys"] == {"o": "openBox"}
    assert bench["script"] == "/static/bench/stations/toy/page.js"
    assert finders.find("bench/stations/toy/page.js")
    picture = client.get(f"/{song.slug}/picture/toy-shop/?mic=snare_top&bars=2-3")
    assert picture.json() == {"bars": [2, 3]}
    other = client.get(f"/{song.slug}/align/?mic=snare_top").content.decode()
    assert 'data-station="9"' in other
    assert "Toys: open the box" in other


def test_nothing_else_of_a_station_is_served() -> None:
    assert finders.find("bench/stations/clean/page.js")
    for name in ("clean/views.py", "clean/page.html", "clean/../../settings.py", "registry.py"):
        assert not finders.find(f"bench/stations/{name}")


def test_no_key_means_two_things() -> None:
    """A station's own keys are none of the frame's, and none stands twice in a station."""
    frame = set(" 1234fghacxmdv[]-+zy,.pr?")
    for station in registry.STATIONS.values():
        own = [key.key.lower() for key in station.keys]
        assert len(own) == len(set(own)), station.slug
        assert not frame & set(own), station.slug


def test_a_room_that_is_put_on_a_bus_is_wet_alone(song: Song, client: Client) -> None:
    assert song.current is not None
    revisions.keep(song.pk, song.current.number, {"buses.plate": {"sends": {}}})

    def put(query: str) -> dict[str, object]:
        page = client.get(f"/{song.slug}/{query}").content.decode()
        found = re.search(r'data-add="room" data-kind="room" data-values="([^"]+)"', page)
        assert found
        return json.loads(unescape(found[1]))

    assert put("bus/?mic=snare_top&bus=plate") == {"kind": "room", "after": "", "mix": 1.0}
    assert "mix" not in put("dynamics/?mic=snare_top")


def test_print_lists_what_it_writes(song: Song, client: Client, tmp_path: Path) -> None:
    """By the names of the files, layers and groups too; and what the stems lack of the mix."""
    assert song.current is not None
    patch = {
        "layers.crack": {"kind": "sub", "of": "kick_in"},
        "groups.kick.chain.s1": {"kind": "saturation", "drive_db": 6},
        "drum_bus.chain.compressor.on": True,
        "drum_bus.fader_db": -3,
    }
    made = revisions.keep(song.pk, song.current.number, patch)
    song.refresh_from_db()
    page = client.get(f"/{song.slug}/print/").content.decode()
    print_to_folder(song, made, tmp_path / "out", file_format="flac")
    written = {path.stem for path in (tmp_path / "out").iterdir()}
    listed = set(re.findall(r"<span data-file>([^<]+)\.wav</span>", page))
    assert listed == written
    assert "compressor and level of −3 dB are in the mix alone" in page
