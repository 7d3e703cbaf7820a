"""What a hand's own changes did stands beside them in the log, measured; what a finding did is left alone."""

from pathlib import Path

import pytest

from arkund.bench.history import figure_words
from arkund.songs import own_figures, revisions
from arkund.songs.models import Revision, Song
from tests.making import whole_song

pytestmark = pytest.mark.django_db


@pytest.fixture
def song(data: Path, recording: Path) -> Song:
    return whole_song(recording)


def change(song: Song, patch: dict[str, object]) -> Revision:
    song.refresh_from_db()
    assert song.current is not None
    made = revisions.keep(song.pk, song.current.number, patch)
    song.refresh_from_db()
    return made


def test_a_louder_snare_is_measured_where_it_plays(song: Song) -> None:
    made = change(song, {"groups.snare.fader_db": 6.0, "mics.snare_bottom.mute": True})
    found = own_figures.measure(made)
    before, after = found["snare attack"]
    assert 1.0 < after - before < 6.0
    assert found["bars"]
    made.refresh_from_db()
    assert made.measures == found
    assert len([name for name in found if name != "bars"]) == own_figures.MOST


def test_what_nobody_hears_has_no_figures_and_is_asked_once(song: Song) -> None:
    made = change(song, {"sections": [{"name": "all", "start_bar": 1, "bars": 2}]})
    assert [r.number for r in own_figures.unmeasured(song, 9)] == [made.number]
    assert set(own_figures.measure(made)) == {"bars"}
    assert own_figures.unmeasured(song, 9) == []


def test_what_a_finding_did_keeps_its_own_figures(song: Song) -> None:
    made = change(song, {"mics.hat.mute": True})
    Revision.objects.filter(pk=made.pk).update(finding="gate.hat", measures={})
    later = [change(song, {"mics.hat.fader_db": -n}) for n in (1.0, 2.0)]
    song.refresh_from_db()
    assert [r.number for r in own_figures.unmeasured(song, 9)] == [
        later[1].number,
        later[0].number,
    ]
    assert [r.number for r in own_figures.unmeasured(song, 1)] == [later[1].number]


def test_what_differs_over_bars_is_measured_there(song: Song) -> None:
    over = {"path": "groups.snare.mute", "bars": "3-4", "value": True}
    found = own_figures.measure(change(song, {"over.d1": over}))
    assert found["bars"] == "3-4"
    before, after = found["cymbals over snare"]
    assert after > before + 1
    follows = change(song, {"over.d1.follows": True})
    assert follows.label == "snare group: mute over bars 3–4, moves with its section on"


@pytest.mark.parametrize(
    ("name", "unit"),
    [
        ("snare attack", "dB"),
        ("tom_3_attack_over_body", "dB"),
        ("loudness_at_equal_true_peak", "LU"),
        ("noise against the mix", "dB"),
        ("peak_dbfs", "dBFS"),
        ("pairs_in_step", ""),
        ("attack of the unknown", ""),
    ],
)
def test_figures_have_their_units(name: str, unit: str) -> None:
    assert figure_words(name)[1] == unit
