"""What is heard of a song: one node, or several together."""

from pathlib import Path

import numpy as np
import pytest
from django.test import Client

from arkund import cli
from arkund.core.errors import SheetError
from arkund.songs import replacing, revisions
from arkund.songs.models import Song
from arkund.songs.rendering import render_span
from arkund.songs.timing import sheet_of

pytestmark = pytest.mark.django_db(transaction=True)

RATE = 48_000


def test_several_are_heard_as_they_are_in_the_mix(song: Song, tmp_path: Path) -> None:
    assert song.current is not None
    revisions.keep(
        song.pk,
        song.current.number,
        {
            "mics.kick_in.fader_db": -6.0,
            "mics.snare_top.pan": 1.0,
            "drum_bus.fader_db": -20.0,
        },
    )
    song.refresh_from_db()
    sheet = sheet_of(song)
    kick, snare = (render_span(sheet, m, "now", 0, RATE) for m in ("kick_in", "snare_top"))
    both = render_span(sheet, "kick_in+snare_top", "now", 0, RATE)
    half = 10 ** (-9.0103 / 20)
    assert np.allclose(both[:, 0], kick[:, 0] * half, atol=1e-5)
    assert np.allclose(both[:, 1], kick[:, 0] * half + snare[:, 0], atol=1e-5)
    # Named twice it sounds once.
    once = render_span(sheet, "snare_top+snare_top", "now", 0, RATE)
    assert np.allclose(once[:, 1], snare[:, 0], atol=1e-6)
    assert np.abs(once[:, 0]).max() < 1e-6
    # As recorded, a group is its mics and what was never recorded is the whole kit.
    raw = render_span(sheet, "kick_in", "recorded", 0, RATE)
    assert np.allclose(render_span(sheet, "kick_in+kick", "recorded", 0, RATE)[:, 0], raw[:, 0])
    with pytest.raises(SheetError, match="nothing called “cowbell”"):
        render_span(sheet, "kick_in+cowbell", "now", 0, RATE)
    out = tmp_path / "two.wav"
    asked = ["render", song.slug, "--node", "kick_in+snare_top", "-o", str(out), "--json"]
    assert cli.main(asked) == 0
    assert out.exists()


def test_a_layer_has_its_reading(song: Song, client: Client) -> None:
    number = replacing.sub(song, "kick", note="50Hz").number
    asked = {"start": 0, "frames": 4 * RATE, "rev": number}
    rows = client.get(f"/{song.slug}/level/readings/", asked).json()["rows"]
    (row,) = [row for row in rows if row["part"] == "layers"]
    assert (row["node"], row["family"]) == ("kick_sub", "kick")
    assert row["peak"] > -60


def test_readings_are_the_peaks_behind_the_faders(song: Song, client: Client) -> None:
    assert song.current is not None
    number = revisions.keep(
        song.pk,
        song.current.number,
        {
            "mics.kick_in.fader_db": 12.0,
            "mics.kick_in.trim_db": 12.0,
        },
    ).number
    song.refresh_from_db()
    asked = {"start": 0, "frames": 4 * RATE, "rev": number}
    got = client.get(f"/{song.slug}/level/readings/", asked).json()
    rows = {row["node"]: row for row in got["rows"]}
    assert {"kick_in", "snare_top", "output"} <= set(rows)
    sound = render_span(sheet_of(song), "kick_in+kick_in", "now", 0, 4 * RATE)
    step = round(got["step_s"] * RATE)
    for n in (0, 11, 40):
        peak = 20 * np.log10(np.abs(sound[n * step : (n + 1) * step]).max() + 1e-12)
        assert rows["kick_in"]["peaks"][n] == pytest.approx(max(peak, -120), abs=0.1)
    assert rows["kick_in"]["peak"] == pytest.approx(20 * np.log10(np.abs(sound).max()), abs=0.1)
    assert client.get(f"/{song.slug}/level/readings/", {"start": "x"}).status_code == 400


def test_the_cymbals_jump_is_asked_for_apart(song: Song, client: Client) -> None:
    assert song.current is not None
    url = f"/{song.slug}/clean/jump/"
    asked = {"mic": "snare_top", "start": 0, "frames": 4 * RATE}
    assert client.get(url, asked).json() == {"db": None}, "no gate, no jump"
    number = revisions.keep(
        song.pk,
        song.current.number,
        {
            "mics.snare_top.clean.on": True,
            "mics.snare_top.clean.hold_ms": 40,
            "mics.snare_top.clean.release_ms": 40,
        },
    ).number
    jump = client.get(url, {**asked, "rev": number}).json()["db"]
    assert isinstance(jump, float)
    shallow = '{"mics.snare_top.clean.range_db": -3}'
    less = client.get(url, {**asked, "rev": number, "patch": shallow}).json()["db"]
    assert abs(less) < abs(jump)
