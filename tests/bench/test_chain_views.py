"""Chains on the pages: pictures of any channel's stages, rulers within what the sheet takes."""

import json
from pathlib import Path
from typing import Any

import pytest
from django.test import Client

from arkund.bench.frame import is_mended, open_flags
from arkund.bench.rulers import key_sources, stage_choices, stage_rulers
from arkund.core.errors import SheetError
from arkund.core.process.equaliser import Equaliser
from arkund.core.process.registry import BY_KIND
from arkund.core.sheet.channels import new_mic
from arkund.core.sheet.patches import apply_patch
from arkund.core.sheet.treating import ClipGain, Repair
from arkund.songs import revisions
from arkund.songs.models import Song
from arkund.songs.rendering import matched_db
from tests.making import small_song

pytestmark = pytest.mark.django_db


@pytest.fixture
def song(data: Path, tmp_path: Path) -> Song:
    return small_song(tmp_path / "in")


def _with_all(channel: str) -> dict[str, Any]:
    low = {"compressor": {"threshold_db": -50}}
    return {f"{channel}.chain.x{k}": {"kind": k, **low.get(k, {})} for k in BY_KIND}


@pytest.mark.parametrize("kind", [k for k in BY_KIND if k != "eq"])
@pytest.mark.parametrize(
    ("channel", "path"),
    [
        ("", "mics.snare_top"),
        ("snare", "groups.snare"),
        ("strike", "buses.strike"),
        ("drum_bus", "drum_bus"),
    ],
)
def test_a_stage_of_any_channel_is_drawn(
    client: Client, song: Song, kind: str, channel: str, path: str
) -> None:
    query = {
        "mic": "snare_top",
        "bars": "1-4",
        "channel": channel,
        "stage": f"x{kind}",
        "patch": json.dumps(_with_all(path)),
    }
    drawn = client.get(f"/{song.slug}/picture/dynamics/", query).json()
    ids = [one["id"] for one in drawn["chain"]]
    assert ids[0] == ""
    assert f"x{kind}" in ids
    assert max(drawn["chain"][0]["hit"]) == pytest.approx(1, abs=0.01)
    assert len(drawn["hits"]) >= 4
    if kind in ("compressor", "saturation"):
        assert any(one["before"] - one["after"] > 0.3 for one in drawn["hits"])
    assert bool(drawn["transfer"]) == (kind not in ("transient", "room"))
    assert all(name.startswith(f"{path}.chain.x{kind}.") for name in drawn["rulers"])


def test_the_limiter_holds_what_its_picture_says(client: Client, song: Song) -> None:
    patch = {"drum_bus.chain.lim": {"kind": "limiter", "ceiling_db": -20}}
    query = {"bars": "1-4", "channel": "drum_bus", "stage": "lim", "patch": json.dumps(patch)}
    drawn = client.get(f"/{song.slug}/picture/dynamics/", query).json()
    loud = [one for one in drawn["hits"] if one["before"] > -20]
    assert loud
    assert all(one["after"] <= -19.9 for one in loud)
    assert drawn["most_db"] >= max(one["before"] for one in loud) + 19.9
    note = drawn["rulers"]["drum_bus.chain.lim.ceiling_db"]["note"]
    assert note.startswith(f"{len(loud)} of {len(drawn['hits'])} hits reach it")


BAND = "mics.snare_top.chain.eq.bands.b3"


def test_a_band_that_moves_is_drawn_with_what_it_does_and_how_far_it_reaches(
    client: Client, song: Song
) -> None:
    hits_alone = {
        f"{BAND}.on": True,
        f"{BAND}.range_db": 6.0,
        f"{BAND}.hears": "key",
        "mics.snare_top.chain.eq.key.source": "snare_hits",
    }
    by_itself = {f"{BAND}.on": True, f"{BAND}.range_db": -6.0}
    query = {"mic": "snare_top", "bars": "1-4", "band": "b3"}
    url = f"/{song.slug}/picture/eq/"
    assert client.get(url, query).json()["moved"] == []
    keyed = client.get(url, query | {"patch": json.dumps(hits_alone)}).json()
    assert keyed["moved"][0].startswith("Band 3 moves 3000 Hz by +")
    at = min(range(len(keyed["hz"])), key=lambda n: abs(keyed["hz"][n] - 3000))
    assert keyed["gain"][at] == pytest.approx(6, abs=0.7)
    assert keyed["reach"][at] - keyed["before"][at] == pytest.approx(6, abs=0.3)
    own = client.get(url, query | {"patch": json.dumps(by_itself)}).json()
    ruler = own["rulers"][f"{BAND}.threshold_db"]
    assert ruler["bars"]
    assert own["flags"][-1]["text"].endswith("moves by −6 dB")


def test_a_band_that_moves_has_rulers_of_its_own_and_can_be_turned_back(
    client: Client, song: Song
) -> None:
    url = f"/{song.slug}/eq/?mic=snare_top&band=b3"
    standing = client.get(url).content.decode()
    assert "let it move" in standing
    assert f"{BAND}.threshold_db" not in standing
    assert song.current is not None
    revisions.keep(
        song.pk, song.current.number, {f"{BAND}.on": True, f"{BAND}.range_db": 4.0}, station="eq"
    )
    moving = client.get(url).content.decode()
    assert "let it stand" in moving
    assert f"{BAND}.threshold_db" in moving
    assert f"{BAND}.hears" in moving


def test_a_copy_is_shown_before_it_is_kept(client: Client, song: Song) -> None:
    before = song.current
    url = f"/{song.slug}/chain/fitted/"
    found = client.get(url, {"from": "snare_top", "to": "kick_in"}).json()
    assert set(found) == {"patch", "rows"}
    assert len(found["rows"]) == len(found["patch"])
    assert all(path.startswith("mics.kick_in.chain.") for path in found["patch"])
    song.refresh_from_db()
    assert song.current == before
    for source, target in (("snare_top", "snare_top"), ("x", "kick_in"), ("", "")):
        refused = client.get(url, {"from": source, "to": target})
        assert refused.status_code == 400
        assert refused.json()["error"].endswith(".")
    page = client.get(f"/{song.slug}/eq/?mic=snare_top").content.decode()
    assert '<option\n          value="kick_in">' in page or 'value="kick_in">kick in' in page


def test_a_transient_shaper_is_split_in_bands_on_its_page(client: Client, song: Song) -> None:
    page = f"/{song.slug}/dynamics/?mic=snare_top&stage=transient&bars=1-2"
    first = client.get(page).context["above"]
    assert first["rows"] == []
    assert song.current is not None
    patch = {**first["add"], "mics.snare_top.chain.transient.on": True}
    kept = client.post(
        f"/{song.slug}/keep/", {"base": song.current.number, "patch": patch}, "application/json"
    )
    assert kept.status_code == 200
    answer = client.get(page)
    assert [words for words, _ in answer.context["above"]["rows"]] == ["from 1500 Hz"]
    labels = [ruler["label"] for ruler in answer.context["rulers"]]
    assert labels[:5] == [
        "Lowest attack",
        "Lowest sustain",
        "Band 2 from",
        "Band 2 attack",
        "Band 2 sustain",
    ]
    picture = client.get(f"/{song.slug}/picture/dynamics/?mic=snare_top&stage=transient&bars=1-2")
    assert [band["words"] for band in picture.json()["bands"]] == ["lowest", "from 1500 Hz"]


def test_a_compressor_is_shown_step_by_step(client: Client, song: Song) -> None:
    url, span = f"/{song.slug}/steps/", {"start": "0", "frames": "144000"}
    found = client.get(url, {"path": "mics.snare_top.chain.compressor", **span}).json()["steps"]
    assert [step["what"] for step in found][:2] == ["threshold", "ratio"]
    assert all(
        path.startswith("mics.snare_top.chain.compressor.")
        for step in found
        for way in step["ways"]
        for path in way["patch"]
    )
    for path in ("mics.snare_top.chain.eq", "mics.snare_top", "x", ""):
        refused = client.get(url, {"path": path, **span})
        assert refused.status_code == 400
        assert refused.json()["error"].endswith(".")


def test_a_boost_over_full_scale_is_said_with_a_trim(client: Client, song: Song) -> None:
    url, band = f"/{song.slug}/picture/eq/", "mics.snare_top.chain.eq.bands.b2"
    asked = {"mic": "snare_top", "bars": "1-2"}
    assert client.get(url, asked).json()["over"] is None
    loud = {f"{band}.on": True, f"{band}.frequency_hz": 200, f"{band}.gain_db": 24}
    over = client.get(url, asked | {"patch": json.dumps(loud)}).json()["over"]
    assert "dBFS" in over["said"]
    again = client.get(url, asked | {"patch": json.dumps(loud | over["patch"])}).json()["over"]
    assert again is None


def test_a_sweep_boosts_no_more_than_the_output_can_take_off(client: Client, song: Song) -> None:
    page, eq = f"/{song.slug}/eq/?mic=snare_top&band=b2", "mics.snare_top.chain.eq"
    tries = client.get(page).context["sweep"]["tries"]
    assert (tries[f"{eq}.bands.b2.gain_db"], tries[f"{eq}.output_db"]) == (9.0, -9.0)
    assert song.current is not None
    low = {"base": song.current.number, "patch": {f"{eq}.output_db": -20}}
    assert client.post(f"/{song.slug}/keep/", low, "application/json").status_code == 200
    tries = client.get(page).context["sweep"]["tries"]
    assert (tries[f"{eq}.bands.b2.gain_db"], tries[f"{eq}.output_db"]) == (4.0, -24.0)


def test_masking_and_net_curve_are_told(client: Client, song: Song) -> None:
    found = client.get(f"/{song.slug}/masking/", {"piece": "snare"}).json()
    assert set(found["share"]) == {"snare_top"}
    assert found["hand_over"] is None
    refused = client.get(f"/{song.slug}/masking/", {"piece": "nose"})
    assert refused.status_code == 400
    assert "Drums with mics" in refused.json()["error"]
    net = client.get(f"/{song.slug}/net/", {"mic": "snare_top"}).json()
    assert [one["name"] for one in net["channels"]] == ["snare top", "snare group", "drum bus"]
    assert net["said"][-1] == "From 1 to 5 kHz the kit's EQs add less than 0.1 dB."


def test_own_chains_are_saved_and_added_on_the_page(client: Client, song: Song) -> None:
    url, mic = f"/{song.slug}/chain/", {"mic": "snare_top", "name": "dry"}
    for wrong in ({"mic": "snare_top", "name": ""}, {"mic": "nose", "name": "dry"}):
        assert client.post(f"{url}save/", wrong, "application/json").status_code == 400
    assert client.post(f"{url}save/", mic, "application/json").json() == {"name": "dry"}
    page = client.get(f"/{song.slug}/eq/?mic=snare_top").content.decode()
    assert 'data-use-chain="dry"' in page
    assert song.current is not None
    used = mic | {"mic": "kick_in", "base": song.current.number}
    assert client.post(f"{url}use/", used | {"name": "x"}, "application/json").status_code == 400
    assert client.post(f"{url}use/", used, "application/json").status_code == 200
    song.refresh_from_db()
    assert len(song.current.sheet.mics["kick_in"].chain) == 6


def test_a_ladder_is_shown_and_a_choice_kept(client: Client, song: Song) -> None:
    path, url = "mics.snare_top.chain.eq.bands.b3.gain_db", f"/{song.slug}/ladder/"
    asked = {"path": path, "node": "snare_top", "start": "0", "frames": "96000"}
    found = client.get(url, {**asked, "patch": json.dumps({f"{path[:-8]}.on": True})}).json()
    assert found["what"] == "snare top: band 3"
    assert len(found["rungs"]) == 5
    assert max(one["gain_db"] for one in found["rungs"]) == 0
    for wrong in ({"path": "x"}, {"path": "mics.snare_top.mute"}, {"start": "x"}, {"node": "x"}):
        refused = client.get(url, asked | wrong)
        assert refused.status_code == 400
        assert refused.json()["error"].endswith(".")
    assert song.current is not None
    chosen = {
        "base": song.current.number,
        "patch": found["rungs"][0]["patch"],
        "over": [one["words"] for one in found["rungs"]],
        "rounds": [0],
        "blind": True,
    }
    for rounds, status in (([9], 400), ([], 400), ([0], 200)):
        kept = client.post(f"{url}keep/", chosen | {"rounds": rounds}, "application/json")
        assert kept.status_code == status
    song.refresh_from_db()
    assert "chosen without seeing the values over" in song.current.reason


def test_the_pages_show_the_stage_that_is_asked_for_or_the_first(
    client: Client, song: Song
) -> None:
    page = f"/{song.slug}/dynamics/"
    asked = client.get(page, {"mic": "snare_top", "stage": "compressor"})
    assert asked.context["stage"].id == "compressor"
    assert (
        client.get(page, {"mic": "snare_top", "stage": "nobody"}).context["stage"].id == "transient"
    )
    assert client.get(page, {"channel": "nobody"}).context["hand"].is_mic
    group = client.get(page, {"channel": "kick"})
    assert group.context["stage"] is None
    assert "has no dynamics in its chain" in group.content.decode()
    for bus in ("strike", "snare", "drum_bus", "nobody"):
        assert client.get(f"/{song.slug}/bus/", {"bus": bus}).status_code == 200


def test_every_ruler_reaches_no_further_than_the_sheet(song: Song) -> None:
    sheet = apply_patch(song.current.sheet, _with_all("drum_bus"))
    seen = 0
    for stage in sheet.drum_bus.chain:
        band = "b2" if isinstance(stage, Equaliser) else ""
        for ruler in stage_rulers("drum_bus", stage, band):
            low, high = ruler.value.ends
            for value in (low, high, *ruler.value.ticks):
                apply_patch(sheet, {ruler.path: value})
            for value, beyond in ((ruler.value.low, -1), (ruler.value.high, 1)):
                with pytest.raises(SheetError):
                    apply_patch(sheet, {ruler.path: value + beyond})
            seen += 1
        choices = stage_choices("drum_bus", stage, band)
        key = key_sources(sheet, "drum_bus", stage)
        for choice in [*choices, *([key] if key else [])]:
            for value, words in choice.options:
                apply_patch(sheet, {choice.path: json.loads(value)})
                assert words
    assert seen > 30


def test_a_key_is_heard_by_its_name(client: Client, song: Song) -> None:
    query = {"node": "snare_top.compressor.key", "start": 0, "frames": 48000, "variant": "now"}
    assert client.get(f"/{song.slug}/pcm/", query).status_code == 200
    query["node"] = "snare_top.nobody.key"
    refused = client.get(f"/{song.slug}/pcm/", query)
    assert refused.status_code == 400
    assert "nothing called" in refused.json()["error"]


def test_what_is_typed_at_a_ruler_is_read_by_the_server(client: Client, song: Song) -> None:
    asked = {"text": "A1", "unit": "Hz"}
    assert client.get(f"/{song.slug}/value/", asked).json() == {"value": 55.0}
    beat_ms = 60_000 / song.current.sheet.tempo.bpm  # type: ignore[union-attr]
    got = client.get(f"/{song.slug}/value/", {"text": "1/4", "unit": "ms"}).json()["value"]
    assert got == pytest.approx(beat_ms)
    refused = client.get(f"/{song.slug}/value/", {"text": "loud", "unit": "dB"})
    assert refused.status_code == 400
    assert refused.json() == {"error": "“loud” is no value in dB."}


def test_the_bus_shows_the_card_against_the_school(client: Client, song: Song) -> None:
    drawn = client.get(f"/{song.slug}/picture/bus/", {"bus": "drum_bus", "bars": "1-4"}).json()
    rows = {row["name"]: row for row in drawn["card"]}
    loud = rows["loudness at equal true peak"]
    assert loud["wanted"].startswith("+")
    assert loud["met"] is False  # nothing was done to the song
    assert {"kick attack", "snare attack over body", "crest"} <= set(rows)
    assert "wanted" not in rows["crest"]
    quieter = {"patch": json.dumps({"drum_bus.fader_db": -20}), "bus": "drum_bus", "bars": "1-4"}
    again = client.get(f"/{song.slug}/picture/bus/", quieter).json()["card"]
    then = {row["name"]: row["after"] for row in again}
    assert then["loudness at equal true peak"] == pytest.approx(loud["after"], abs=0.1)
    assert then["loudness"] < rows["loudness"]["after"] - 15


def test_what_was_noted_of_a_mic_is_called_mended_once_it_is() -> None:
    mic = new_mic("tom_1")
    assert open_flags(mic, ["wild", "hum", "near silence"]) == ["wild", "hum", "near silence"]
    quiet = mic.model_copy(
        update={"repair": Repair(hum_hz=50, clip_gains=(ClipGain(at=0, frames=9),))}
    )
    assert open_flags(quiet, ["wild", "hum", "near silence"]) == ["near silence"]
    assert is_mended(mic.model_copy(update={"trim_db": -3.0}), "hot")
    assert not is_mended(mic, "hot")


def test_matching_goes_down_without_a_limit_and_up_by_twelve() -> None:
    assert matched_db(-10.0, -40.0) == -30.0
    assert matched_db(-40.0, -10.0) == 12.0
    assert matched_db(-200.0, -10.0) == 0.0


def test_compare_is_matched_by_the_server(client: Client, song: Song) -> None:
    asked = {"start": 0, "frames": 96000, "node": "output"}
    plain = client.get(f"/{song.slug}/figures/", asked).json()
    matched = client.get(
        f"/{song.slug}/figures/", asked | {"to": plain["loudness_lufs"] - 20.25}
    ).json()
    assert matched["to_db"] == pytest.approx(-20.2, abs=0.11)
    assert client.get(f"/{song.slug}/figures/", asked | {"to": "nan"}).json()["to_db"] == 0


def test_a_bus_is_renamed_on_its_page(client: Client, song: Song) -> None:
    page = client.get(f"/{song.slug}/bus/?bus=strike").content.decode()
    assert 'data-rename="buses.strike"' in page
    assert "data-rename" not in client.get(f"/{song.slug}/bus/?bus=drum_bus").content.decode()

    def rename(channel: str, name: str, base: int) -> Any:
        asked = {"channel": channel, "name": name, "base": base}
        return client.post(f"/{song.slug}/rename/", asked, content_type="application/json")

    made = rename("buses.strike", " Shell crack ", 1)
    assert made.status_code == 200
    assert made.json()["called"] == "shell_crack"
    assert made.json()["label"] == "bus strike renamed to shell_crack"
    song.refresh_from_db()
    assert set(song.current.sheet.buses) == {"shell_crack", "bloom"}
    assert rename("buses.strike", "crack", 2).status_code == 400
    refused = rename("buses.shell_crack", "snare_top", 2)
    assert refused.status_code == 400
    assert "cannot be called snare_top" in refused.json()["error"]
    assert rename("buses.shell_crack", "crack", 1).status_code == 409
    assert rename("buses.shell_crack", "", 2).status_code == 400
