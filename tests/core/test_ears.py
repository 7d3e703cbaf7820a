"""What all EQs come to, and overheads towards pink."""

from pathlib import Path

import numpy as np
import pytest

from arkund.core.advise.eq.ears import NET_HZ, boost_budget, net_curve
from arkund.core.advise.eq.merging import merge_of
from arkund.core.advise.eq.to_pink import OCTAVES_HZ, SHARE, octaves_db, to_pink
from arkund.core.advise.study import Study
from arkund.core.process.equaliser import Equaliser

EQ = "mics.snare_top.chain.eq"
BOOST = {"kind": "eq", "bands": [{"id": "b1", "on": True, "frequency_hz": 3000, "gain_db": 6}]}


def test_the_net_curve_is_the_sum_of_all_on_the_way_and_tells_what_opposes(study: Study) -> None:
    cut = {
        f"{EQ}.bands.b3.on": True,
        f"{EQ}.bands.b3.frequency_hz": 3000,
        f"{EQ}.bands.b3.gain_db": -4,
    }
    tried = study.tried({**cut, "groups.snare.chain.tone": BOOST})
    net = net_curve(tried.sheet, "snare_top")
    assert set(net.by_channel) == {"snare_top", "snare", "drum_bus"}
    at = int(np.argmin(np.abs(NET_HZ - 3000)))
    assert net.total[at] == pytest.approx(2.0, abs=0.1)
    (one,) = net.opposed
    assert (one.cuts[0], one.boosts[0]) == ("snare_top", "snare")
    assert one.hz == pytest.approx(3000, rel=0.3)
    assert net_curve(study.sheet, "snare_top").opposed == []


def test_a_cut_and_a_boost_merge_and_every_mic_sounds_as_it_did(study: Study) -> None:
    cut = {
        f"{EQ}.bands.b3.on": True,
        f"{EQ}.bands.b3.frequency_hz": 3000,
        f"{EQ}.bands.b3.gain_db": -4,
    }
    tried = study.tried({**cut, "groups.snare.chain.tone": BOOST})
    (opposed,) = net_curve(tried.sheet, "snare_top").opposed
    merge = merge_of(tried.sheet, "snare_top", opposed)
    assert merge is not None
    assert merge.by_db == 4
    made = tried.tried(merge.patch).sheet
    assert not next(b for b in made.mics["snare_top"].first(Equaliser).bands if b.id == "b3").on
    assert made.groups["snare"].first(Equaliser).bands[0].gain_db == 2
    for mic in ("snare_top", "snare_bottom"):
        before, after = net_curve(tried.sheet, mic).total, net_curve(made, mic).total
        assert np.abs(after - before).max() < 0.1, mic
    assert net_curve(made, "snare_top").opposed == []


@pytest.mark.parametrize(
    "patch",
    [
        {f"{EQ}.bands.b3.q": 8},  # another width: less of both would sound otherwise
        {"mics.snare_bottom.chain.eq.on": False},  # no band for what the group did
        {"layers.crack": {"kind": "sub", "of": "snare_top", "to": "snare"}},
    ],
)
def test_what_would_sound_otherwise_is_not_merged(study: Study, patch: dict[str, object]) -> None:
    cut = {
        f"{EQ}.bands.b3.on": True,
        f"{EQ}.bands.b3.frequency_hz": 3000,
        f"{EQ}.bands.b3.gain_db": -4,
    }
    tried = study.tried({**cut, "groups.snare.chain.tone": BOOST, **patch})
    opposed = net_curve(tried.sheet, "snare_top").opposed[0]
    assert merge_of(tried.sheet, "snare_top", opposed) is None


def test_what_all_mics_run_through_is_not_merged(study: Study) -> None:
    cut = {f"{EQ}.bands.b3.on": True, f"{EQ}.bands.b3.gain_db": -4}
    boost = {**BOOST, "bands": [{**BOOST["bands"][0], "frequency_hz": 3000}]}  # type: ignore[index]
    tried = study.tried(
        {**cut, f"{EQ}.bands.b3.frequency_hz": 3000, "drum_bus.chain.tone": {**boost, "after": ""}}
    )
    (opposed,) = net_curve(tried.sheet, "snare_top").opposed
    assert merge_of(tried.sheet, "snare_top", opposed) is None


def test_the_budget_is_what_boosts_add_and_who_spends_it(study: Study) -> None:
    assert boost_budget(study).lifts_db == 0.0
    one = study.tried({"mics.snare_top.chain.tone": BOOST})
    assert next(iter(boost_budget(one).shares)) == "snare_top"
    every = study.tried({f"mics.{mic}.chain.tone": BOOST for mic in study.mics})
    found = boost_budget(every)
    # A bell of 6 dB and width 1 at 3 kHz lifts the octaves around it by 3 to 5 dB on average.
    assert 2 < found.lifts_db < 6
    assert sum(found.shares.values()) == pytest.approx(1)
    bypassed = study.tried({"mics.snare_top.chain.tone": {**BOOST, "on": False}})
    assert boost_budget(bypassed).lifts_db == 0.0


def test_overheads_go_a_tenth_of_the_way(study: Study) -> None:
    away = octaves_db(study, "overhead_l")
    assert away.mean() == pytest.approx(0, abs=1e-9)
    found = to_pink(study, "overhead_l")
    assert found is not None
    gains = [v for path, v in found.patch.items() if path.endswith("gain_db")]
    places = [v for path, v in found.patch.items() if path.endswith("frequency_hz")]
    assert f"{max(map(abs, away)):.0f} dB off" in found.said
    for gain, hz in zip(gains, places, strict=True):
        assert gain == pytest.approx(-SHARE * away[OCTAVES_HZ.index(hz)], abs=0.06)
        assert abs(gain) <= 3


def test_pink_noise_is_left_alone(
    study: Study, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    rng, frames = np.random.default_rng(2), 20 * study.rate
    spectrum = np.fft.rfft(rng.standard_normal(frames))
    spectrum[1:] /= np.sqrt(np.arange(1, len(spectrum)))
    pink = np.fft.irfft(spectrum).astype(np.float32)
    monkeypatch.setattr(Study, "sound", lambda self, mic, stage: pink)
    assert np.abs(octaves_db(study, "overhead_l")).max() < 0.5
    assert to_pink(study, "overhead_l") is None
