"""Hits that only overheads hear: what is measured, how it is weighed, and what comes of it."""

from dataclasses import dataclass, field

import numpy as np
import pytest
import scipy
from numpy.typing import NDArray

from arkund.core.hits.choose.overheard import overheard
from arkund.core.hits.detect import detect_hits
from arkund.core.hits.hear.novelty import band_energy
from arkund.core.hits.hear.spectra import BANDS, EDGES_HZ, LOWEST_DB, Spectra, onsets, spectra
from arkund.core.hits.weigh.afar import (
    FAMILIES,
    FIGURES,
    LOOKED_UP,
    Afar,
    Known,
    afar_of,
    expected,
    figures,
    levels_of,
    looked_up,
)
from arkund.core.hits.weigh.verdict import AFAR_FILE
from tests.played import FAST, Played

RATE = 48_000
CLICKS_S = np.array([0.5, 1.0, 1.5, 2.0])


def _clicks(gains: tuple[float, ...] = (1, 1, 1, 1)) -> NDArray[np.float32]:
    """Noise that dies away, 3 s of it, over a little hiss."""
    rng = np.random.default_rng(2)
    out = rng.standard_normal(3 * RATE) * 1e-5
    t = np.arange(RATE // 4) / RATE
    for at, gain in zip(CLICKS_S, gains, strict=True):
        start = round(at * RATE)
        out[start : start + len(t)] += gain * rng.standard_normal(len(t)) * np.exp(-t / 0.03)
    return out.astype(np.float32)


def test_onsets_are_where_sound_begins_in_either_ear() -> None:
    ears = [_clicks((1, 0, 1, 0)), _clicks((0, 1, 0, 1))]
    frames, rises = onsets([band_energy(ear, RATE) for ear in ears])
    assert frames / 1000 == pytest.approx(CLICKS_S, abs=0.004)
    assert rises.min() > 20


@pytest.mark.parametrize("hz", [80.0, 440.0, 3000.0, 11_000.0])
def test_a_tone_is_in_its_band_and_as_loud_as_it_is(hz: float) -> None:
    tone = (0.5 * np.sin(2 * np.pi * hz * np.arange(RATE) / RATE)).astype(np.float32)
    energy = spectra([tone], np.array([0.5]), RATE).energy["late"][0]
    band = int(np.searchsorted(EDGES_HZ, hz)) - 1
    assert int(np.argmax(energy)) == band
    assert energy.sum() == pytest.approx(0.125, rel=0.05)


def test_the_side_is_told_against_the_overheads_own_balance() -> None:
    left, right = _clicks((1, 1, 1, 1)), _clicks((0.25, 0.25, 0.25, 2.0))
    place = spectra([left, right], CLICKS_S, RATE).place_db
    assert place[:3] == pytest.approx(0, abs=0.6)
    assert place[3] == pytest.approx(-18, abs=1)
    assert np.isnan(spectra([left], CLICKS_S, RATE).place_db).all()


def test_known_hits_are_found_in_their_onsets() -> None:
    known = {
        "tom_1": Known(np.array([0.504, 1.3]), np.array([-3.0, 0.0])),
        "tom_2": Known(np.array([0.496, 2.001]), np.array([-9.0, -1.0])),
        "hat": Known(np.zeros(0), np.zeros(0)),
    }
    level = levels_of(CLICKS_S, known)
    assert level[:, FAMILIES.index("tom")].tolist() == [-3.0, LOWEST_DB, LOWEST_DB, -1.0]
    assert level[:, FAMILIES.index("hat")].tolist() == [LOWEST_DB] * 4
    assert np.isnan(level[:, FAMILIES.index("kick")]).all()


def test_what_known_hits_leave_is_expected() -> None:
    # The last one is 12 dB louder than its close mic says: something else sounds with it.
    heard = spectra([_clicks((1, 0.5, 1, 4))], CLICKS_S, RATE)
    known = {"snare": Known(CLICKS_S, np.array([0.0, -6.0, 0.0, 0.0]))}
    _, early = expected(heard, CLICKS_S, known)
    over = np.median(early, axis=1)
    assert over[:3] == pytest.approx(0, abs=2.5)
    assert over[3] == pytest.approx(12, abs=2.5)
    assert np.isnan(expected(heard, CLICKS_S, {})[0]).all()


def test_the_second_weighing_looks_up_what_sounds_alike() -> None:
    rng = np.random.default_rng(4)
    times = np.arange(20) * 0.2
    dull = np.tile(np.r_[np.ones(7), np.full(7, 1e-4)], (10, 1))
    bright = dull[:, ::-1]
    energy = np.empty((20, BANDS))
    energy[::2], energy[1::2] = dull, bright
    energy *= 10 ** (rng.normal(0, 0.5, energy.shape) / 10)
    nowhere = np.full((20, 5), np.nan)
    heard = Spectra({"early": energy, "late": energy}, nowhere, nowhere)
    share = np.zeros((20, len(FAMILIES)))
    share[::2, 0] = 0.9
    share[4, 0] = 0.1
    again = looked_up(heard, times, share)
    alike = again[:, len(FAMILIES)]
    assert alike[4] > 0.7
    assert alike[1::2].max() < 0.2
    away = again[:, 3 * len(FAMILIES)]
    assert away[4] < 2 < away[1::2].min()


def test_figures_are_as_many_as_their_names() -> None:
    afar = afar_of([_clicks()], [band_energy(_clicks(), RATE)], RATE)
    assert afar is not None
    rows = figures(afar.heard, afar.times_s, afar.rises, {})
    more = looked_up(afar.heard, afar.times_s, np.zeros((len(rows), len(FAMILIES))))
    assert (rows.shape[1], more.shape[1]) == (len(FIGURES), len(LOOKED_UP))
    assert len(set((*FIGURES, *LOOKED_UP))) == len(FIGURES) + len(LOOKED_UP)
    assert AFAR_FILE.stat().st_size < 500_000


@dataclass(frozen=True)
class _Told(Afar):
    """An ear of which it is given what each onset holds."""

    told: dict[int, dict[str, float]] = field(default_factory=dict)

    def share(self, known: object) -> NDArray[np.float64]:
        out = np.zeros((len(self.frames), len(FAMILIES)))
        for onset, families in self.told.items():
            for family, share in families.items():
                out[onset, FAMILIES.index(family)] = share
        return out


def _told(ears: list[NDArray[np.float32]], told: dict[int, dict[str, float]]) -> _Told:
    afar = afar_of(ears, [band_energy(ear, RATE) for ear in ears], RATE)
    assert afar is not None
    assert len(afar.frames) == len(CLICKS_S)
    return _Told(afar.ears, afar.rate, afar.hop, afar.frames, afar.rises, afar.heard, told=told)


def test_hits_are_named_timed_and_as_sure_as_told() -> None:
    told = _told(
        [_clicks()],
        {
            0: {"kick": 0.9, "hat": 0.7},
            1: {"ride": 0.6, "crash": 0.8},
            2: {"ride": 0.45, "crash": 0.45},
            3: {"tom": 0.9},
        },
    )
    found = overheard(told, {})
    assert set(found) == {"cymbal", "crash_1", "hat", "kick"}
    assert [s.time_s for s in found["kick"]] == pytest.approx([0.5], abs=5e-4)
    assert found["kick"][0].confidence == pytest.approx(0.9)
    assert [s.time_s for s in found["crash_1"]] == pytest.approx([1.0], abs=2e-3)
    assert found["cymbal"][0].confidence == pytest.approx(1 - 0.55**2)
    miced = overheard(told, {"crash_1": Known(np.zeros(0), np.zeros(0))})
    assert set(miced) == {"hat", "kick"}


CRASHES = {n: {"crash": 0.9} for n in range(4)}


def test_two_crashes_hang_on_two_sides() -> None:
    ears = [_clicks((1, 0.3, 1, 0.3)), _clicks((0.3, 1, 0.3, 1))]
    found = overheard(_told(ears, CRASHES), {})
    assert [round(s.time_s, 1) for s in found["crash_1"]] == [0.5, 1.5]
    assert [round(s.time_s, 1) for s in found["crash_2"]] == [1.0, 2.0]
    one_side = overheard(_told([ears[0], ears[0]], CRASHES), {})
    assert len(one_side["crash_1"]) == 4


def test_a_drum_struck_with_a_crash_does_not_move_it() -> None:
    """Loud in the middle as the crash begins, and silent when it rings."""
    rng = np.random.default_rng(5)
    t = np.arange(RATE // 20) / RATE
    drum = np.zeros(3 * RATE)
    for at in CLICKS_S:
        start = round(at * RATE)
        drum[start : start + len(t)] += 8 * rng.standard_normal(len(t)) * np.exp(-t / 0.006)
    ears = [_clicks(gains) + drum for gains in ((1, 0.6, 1, 0.6), (0.6, 1, 0.6, 1))]
    found = overheard(_told([e.astype(np.float32) for e in ears], CRASHES), {})
    assert [round(s.time_s, 1) for s in found["crash_1"]] == [0.5, 1.5]
    assert [round(s.time_s, 1) for s in found["crash_2"]] == [1.0, 2.0]


def test_a_cymbal_begins_where_the_nearest_ear_hears_it() -> None:
    left = _clicks()
    right = np.roll(left, 96)
    for ears in ([left, right], [right, left]):
        found = overheard(_told(ears, CRASHES), {})["crash_1"]
        assert [s.time_s for s in found] == pytest.approx(CLICKS_S, abs=5e-4)


def _kit(seed: int) -> tuple[NDArray[np.float32], dict[str, list[float]]]:
    """A kick, a snare and a hat as anybody would draw them, in one sound."""
    rng = np.random.default_rng(seed)
    t = np.arange(RATE // 4) / RATE
    noise = rng.standard_normal((2, len(t)))
    kick = np.sin(2 * np.pi * 60 * t) * np.exp(-t / 0.06)
    wires = scipy.signal.sosfilt(scipy.signal.butter(2, 5000, fs=RATE, output="sos"), noise[0])
    snare = (np.sin(2 * np.pi * 200 * t) + 1.2 * wires) * np.exp(-t / 0.05)
    hat = np.diff(noise[1], n=2, prepend=[0, 0]) / 4 * np.exp(-t / 0.02)
    sounds = {"kick": kick, "snare": 0.6 * snare, "hat": 0.3 * hat}
    places = {
        "kick": [0.5 + 1.2 * n for n in range(10)],
        "snare": [1.1 + 1.2 * n for n in range(10)],
        "hat": [0.8 + 0.6 * n for n in range(19)],
    }
    out = rng.standard_normal(13 * RATE) * 1e-5
    for piece, times in places.items():
        for at in times:
            start = round(at * RATE)
            out[start : start + len(t)] += sounds[piece] * rng.uniform(0.8, 1.0)
    return out.astype(np.float32), places


@pytest.mark.parametrize("mic", ["overhead", "kit"])
def test_a_whole_kit_in_one_sound_is_told_by_band(mic: str) -> None:
    sound, places = _kit(5)
    found = detect_hits({mic: sound}, RATE)
    for piece, times in places.items():
        own = [h.time_s for h in found if h.piece == piece]
        near = [t for t in times if any(abs(t - f) < 0.005 for f in own)]
        assert len(near) >= 0.9 * len(times)
        # Noise for wires is as bright as a hat, so a hat may seem struck along with this snare.
        others = places["snare"] if piece == "hat" else []
        stray = [f for f in own if all(abs(t - f) > 0.02 for t in [*times, *others])]
        assert len(stray) <= 0.1 * len(times)


@pytest.mark.parametrize("mics", [("overhead_l",), ("overhead_l", "overhead_r")])
def test_a_kit_is_heard_by_its_overheads_alone(played: Played, mics: tuple[str, ...]) -> None:
    session = played.session(FAST)
    named = {"overhead" if len(mics) == 1 else m: session.mics[m] for m in mics}
    found = detect_hits(named, session.rate)
    for piece in ("kick", "snare"):
        true = np.array([h["time_s"] for h in session.truth["hits"] if h["piece"] == piece])
        own = np.array([h.time_s for h in found if h.piece == piece])
        near = np.abs(true[:, None] - own[None, :]).min(axis=1) < 0.010
        assert near.mean() > 0.85
        assert len(own) < 1.15 * len(true)


def test_silence_and_too_little_sound_hold_nothing() -> None:
    assert detect_hits({"overhead": np.zeros(RATE, np.float32)}, RATE) == []
    assert detect_hits({"kit": _clicks()[:1000]}, RATE) == []
