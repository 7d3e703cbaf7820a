"""What needs an ear: the moments of a drum without a hit, asked about and answered by key or command."""

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile as sf
from django.test import Client

from arkund import cli
from arkund.songs import importing, incoming
from arkund.songs.models import Song
from tests.making import RATE, write_small_takes

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def song(data: Path, tmp_path: Path) -> Song:
    """Kick and snare, and a tom's mic that hears both of them alone."""
    folder = tmp_path / "in"
    write_small_takes(folder)
    bleed = [0.05 * sf.read(folder / f"{mic}.wav")[0] for mic in ("Kick In", "Snare Top")]
    noise = 1e-4 * np.random.default_rng(4).standard_normal(len(bleed[0]))
    sf.write(folder / "Tom 1.wav", np.roll(sum(bleed), 70) + noise, RATE, subtype="PCM_24")
    files = incoming.guess_incoming(incoming.files_of(folder))
    made, _ = importing.import_song(files, importing.Wishes("Tin Roof", 120.0))
    return made


def _ask(capsys: pytest.CaptureFixture[str], *words: str) -> list[dict[str, Any]]:
    capsys.readouterr()
    assert cli.main(["ask", *words, "--json"]) == 0
    found: list[dict[str, Any]] = json.loads(capsys.readouterr().out)["questions"]
    return found


def test_a_drum_without_hits_is_asked_about_until_every_moment_is_answered(
    client: Client, song: Song, capsys: pytest.CaptureFixture[str]
) -> None:
    (asked,) = _ask(capsys, song.slug)
    assert (asked["piece"], asked["mic"]) == ("tom_1", "tom_1")
    places = [place["time_s"] for place in asked["places"]]
    assert len(places) >= 3
    picture = client.get(f"/{song.slug}/picture/edit/").json()
    assert [row["t"] for row in picture["asked"]] == places
    # One by command, one by the page's keys, one that is a hit after all.
    assert (
        len(_ask(capsys, song.slug, "tom_1", str(places[0]), "bleed")[0]["places"])
        == len(places) - 1
    )
    body = {"piece": "tom_1", "at_s": places[1], "is_bleed": True, "base": 2}
    said = client.post(f"/{song.slug}/hits/", body, content_type="application/json")
    assert said.status_code == 200
    assert len(_ask(capsys, song.slug)[0]["places"]) == len(places) - 2
    _ask(capsys, song.slug, "tom_1", str(places[2]), "hit")
    for place in places[3:]:
        _ask(capsys, song.slug, "tom_1", str(place), "bleed")
    assert _ask(capsys, song.slug) == []
    hits = client.get(f"/{song.slug}/picture/edit/").json()["hits"]
    assert [round(h["t"], 2) for h in hits if h["piece"] == "tom_1"] == [round(places[2], 2)]
    # Undone, it is asked again.
    client.post(f"/{song.slug}/undo/")
    assert _ask(capsys, song.slug)


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["tom_1"], "Say the drum, the moment in seconds, and hit or bleed"),
        (["tom_9", "1.0", "bleed"], "The kit has no tom 9"),
        (["tom_1", "99", "bleed"], "lies outside the song"),
    ],
)
def test_an_answer_that_means_nothing_is_refused(
    song: Song, capsys: pytest.CaptureFixture[str], words: list[str], said: str
) -> None:
    assert cli.main(["ask", song.slug, *words, "--json"]) == 1
    assert said in capsys.readouterr().err
