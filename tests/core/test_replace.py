"""Replace by its definitions: harvest, choosing, placing, the tone, even hits, and layers in the
graph."""

import itertools
from collections.abc import Callable
from dataclasses import replace as replaced

import numpy as np
import pytest
import scipy

from arkund.core.advise.replace import layers, left_behind, uneven
from arkund.core.advise.school import SCHOOLS
from arkund.core.advise.study import Study
from arkund.core.errors import ArkundError, SheetError
from arkund.core.graph import peaks, struck
from arkund.core.graph.struck import Row, Struck
from arkund.core.graph.toned import Toned
from arkund.core.hits.hit import Hit
from arkund.core.process.crossover import crossover
from arkund.core.render.cache import Memory, TileCache
from arkund.core.render.engine import Engine
from arkund.core.replace.choosing import at_the_drum_s_level, choose, gain_db
from arkund.core.replace.even import even_gains_db, ridden, windows
from arkund.core.replace.harvest import HEAD_S, bands, candidates
from arkund.core.replace.placing import heard, place
from arkund.core.replace.tone import tone

RATE = 48000


def _hit(at: float, piece: str = "snare", kind: str = "accent", velocity: int = 100) -> Hit:
    return Hit(f"{piece}{at}", piece, at, velocity, kind, 1.0, 0.0)


def _sounding(hz: float = 190.0, seconds: float = 0.2, seed: int = 0) -> np.ndarray:
    """A drum's hit: a tone and noise that die away."""
    time = np.arange(round(seconds * RATE)) / RATE
    noise = np.random.default_rng(seed).standard_normal(len(time))
    body = np.sin(2 * np.pi * hz * time) + 0.3 * noise * np.exp(-time / 0.01)
    return (body * np.exp(-time / 0.05)).astype(np.float32)


def _laid(hits: list[tuple[float, np.ndarray]], seconds: float) -> np.ndarray:
    out = np.zeros(round(seconds * RATE), np.float32)
    for at, sound in hits:
        first = round(at * RATE)
        out[first : first + len(sound)] += sound[: len(out) - first]
    return out


def test_what_stands_alone_is_ranked_first_and_says_what_it_is_heard_with() -> None:
    own = [(1.0, _sounding()), (2.0, 0.5 * _sounding()), (3.0, _sounding()), (4.0, _sounding())]
    hat = [(1.05, 0.2 * _sounding(5000, 0.1)), (5.0, 0.2 * _sounding(5000, 0.1))]
    hits = [
        *(_hit(at) for at, _ in own[:3]),
        _hit(4.0, kind="flam"),
        *(_hit(at, "hat") for at, _ in hat),
    ]
    found = candidates(_laid(own + hat, 6.0), RATE, "snare", hits, 0.2)
    assert [c.hit.time_s for c in found] == [3.0, 2.0, 1.0]  # the flam is no sample
    assert found[-1].heard_with == "hat"
    assert found[-1].isolation_db == pytest.approx(20 * np.log10(5), abs=1.0)
    assert found[0].heard_with == ""
    assert found[1].peak_dbfs == pytest.approx(found[0].peak_dbfs - 6.02, abs=0.05)
    assert found[0].at == round((3.0 - HEAD_S) * RATE)
    assert found[0].frames == round((HEAD_S + 0.2) * RATE)


def test_a_sample_ends_before_the_drum_s_next_hit() -> None:
    hits = [_hit(1.0), _hit(1.1), _hit(1.14)]
    sound = _laid([(h.time_s, _sounding()) for h in hits], 2.0)
    found = candidates(sound, RATE, "snare", hits, 0.3)
    assert {c.hit.time_s: c.frames / RATE - HEAD_S for c in found} == {
        1.0: pytest.approx(0.095, abs=1e-3),
        1.14: pytest.approx(0.3, abs=1e-3),
    }


def test_a_set_goes_from_soft_to_loud_with_the_best_of_each_band() -> None:
    own = [(1.0 + n, (0.1 + 0.05 * n) * _sounding(seed=n)) for n in range(12)]
    noisy = _laid(own, 15.0)
    noisy[round(3.9 * RATE) : round(3.999 * RATE)] += 0.05  # before the fourth
    hits = [_hit(at) for at, _ in own]
    chosen = bands(candidates(noisy, RATE, "snare", hits, 0.2), most_bands=4, most_each=2)
    peaks = [c.peak_dbfs for c in chosen]
    assert len(chosen) == 8
    assert peaks == sorted(peaks)
    assert 4.0 not in [c.hit.time_s for c in chosen]


def test_no_sample_plays_twice_running_and_levels_are_met() -> None:
    hits = [-12.0, -12.1, -11.9, -12.0, -3.0, -3.1, -12.0]
    samples = [-14.0, -12.0, -10.0, -3.0]
    chosen = choose(hits, samples)
    assert all(a != b for a, b in itertools.pairwise(chosen))
    assert samples[chosen[4]] == -3.0
    assert choose(hits, [-6.0]) == [0] * 7
    with pytest.raises(ValueError, match="needs a sample"):
        choose(hits, [])
    assert gain_db(-6, -10, -8, 1.0) == 4
    assert gain_db(-6, -10, -8, 0.0) == 2
    assert gain_db(-6, -10, -8, 0.5) == 3


def test_samples_from_elsewhere_are_chosen_alike_however_loud_they_were_recorded() -> None:
    hits_db = np.linspace(-24.0, -8.0, 60).tolist()
    kit_db = np.linspace(-17.0, -1.0, 12)
    chosen = [choose(hits_db, at_the_drum_s_level(hits_db, list(kit_db + by))) for by in (0, -9)]
    assert chosen[0] == chosen[1]
    assert set(chosen[0]) == set(range(12))
    assert len(set(choose(hits_db, (kit_db + 9).tolist()))) < 9, (
        "without it the loud ones never play"
    )


@pytest.mark.parametrize("late", [0.0, 7.0, -31.4, 60.25])
@pytest.mark.parametrize("polarity", [1, -1])
def test_a_hit_is_placed_to_a_fraction_of_a_sample(late: float, polarity: int) -> None:
    onset = 400
    sound = np.concatenate([np.zeros(onset, np.float32), _sounding(170)])
    spectrum = np.fft.rfft(sound, 16384) * np.exp(-2j * np.pi * np.arange(8193) * late / 16384)
    drum = np.fft.irfft(spectrum)[: len(sound)].astype(np.float32)
    found = place(*heard([drum, polarity * sound], RATE), onset, RATE)
    assert found.shift == pytest.approx(late, abs=0.3)
    assert found.polarity == polarity
    assert found.alike > 0.95
    assert found.gain_low_db == pytest.approx(6.02, abs=0.1)


def test_of_two_hits_in_one_mic_the_polarity_is_known() -> None:
    """Half a cycle on, a low drum looks like itself upside down; in one mic it cannot be."""
    onset, time = 400, np.arange(9600) / RATE
    low = np.concatenate([np.zeros(onset), np.sin(2 * np.pi * 250 * time) * np.exp(-time / 0.05)])
    drum = np.roll(low, 90).astype(np.float32)
    found = place(*heard([drum, low.astype(np.float32)], RATE), onset, RATE, same_mic=True)
    assert (found.polarity, found.shift) == (1, pytest.approx(90, abs=0.5))


def test_the_tone_has_its_note_its_decay_and_no_click() -> None:
    one = tone(RATE, 50.0, 4.0, 400.0)
    assert len(one) == round(0.4 * RATE)
    hz, power = scipy.signal.periodogram(one, RATE, nfft=1 << 18)
    assert hz[np.argmax(power)] == pytest.approx(50, abs=0.5)
    peaks = [
        float(np.abs(one[round(a * RATE) : round((a + 0.02) * RATE)]).max()) for a in (0.1, 0.2)
    ]
    assert 20 * np.log10(peaks[0] / peaks[1]) == pytest.approx(15, abs=0.5)  # 60 dB in 400 ms
    steps = np.abs(np.diff(one))
    assert steps.max() < 1.5 * 2 * np.pi * 50 / RATE
    assert one[0] == 0
    assert abs(one[-1]) < 1e-4
    fallen = tone(RATE, 50.0, 1.0, 400.0, fall=12)
    first = scipy.signal.periodogram(fallen[: round(0.02 * RATE)], RATE, nfft=1 << 16)
    assert first[0][np.argmax(first[1])] > 70
    assert np.abs(tone(RATE, 50.0, 4.0, 400.0, drive_db=12)).max() <= 1


def test_even_hits_go_toward_their_like_and_ghosts_stay() -> None:
    peaks = [-6.0, -10.0, -8.0, -30.0, -18.0, -14.0]
    kinds = ["accent", "accent", "accent", "ghost", "plain", "roll"]
    assert even_gains_db(peaks, kinds, 1.0).tolist() == [-2, 2, 0, 0, 2, -2]
    assert even_gains_db(peaks, kinds, 0.5).tolist() == [-1, 1, 0, 0, 1, -1]
    assert even_gains_db([-60.0, -10.0, -10.0], ["accent"] * 3, 1.0)[0] == 12


def test_a_hit_s_gain_stays_within_its_window() -> None:
    spans = windows([RATE, RATE + 4800, 3 * RATE], RATE, 5 * RATE)
    assert spans[0] == (RATE - 48, RATE + 4800 - 96)
    assert spans[2][1] == 3 * RATE + round(0.35 * RATE)
    shape = ridden(spans, [6.0, 0.0, -3.0], RATE)
    at = np.array(
        [RATE - 60, RATE, RATE + 2000, RATE + 4800, 2 * RATE, 3 * RATE + 100, 4 * RATE], float
    )
    assert shape.at(at) == pytest.approx([0, 6, 6, 0, 0, -3, 0], abs=1e-6)


@pytest.fixture(scope="module")
def with_layer(study: Study) -> Callable[..., Study]:
    return lambda **wishes: study.tried(layers.layer_patch(study, "snare", **wishes))


def _rows(study: Study, name: str) -> tuple[Struck | Toned, list[Row]]:
    node = study.graph.chains[name].entry.inputs[0][0]  # type: ignore[attr-defined]
    assert isinstance(node, (Struck, Toned))
    return node, node.plan(study.engine)


def _times(study: Study, *kinds: str) -> list[int]:
    mic = study.sheet.mics["snare_top"]
    return [
        round(h.time_s * study.rate + mic.delay_samples)
        for h in study.hits_on("snare")
        if h.kind in kinds
    ]


def test_a_layer_on_accents_leaves_every_ghost_alone(
    study: Study, with_layer: Callable[..., Study]
) -> None:
    laid = with_layer(hits="accents")
    _, rows = _rows(laid, "snare_layer")
    assert [r.onset for r in rows] == _times(study, "accent", "flam")
    both = [
        s.engine.read(s.graph.mics["snare_top"].clean, 0, study.sheet.frames) for s in (study, laid)
    ]
    assert np.array_equal(*both)
    sound = laid.engine.read(laid.graph.layers["snare_layer"], 0, study.sheet.frames)
    for at in _times(study, "ghost"):
        near = [r for r in rows if 0 <= at - r.onset < 0.3 * RATE]
        if not near:
            assert np.abs(sound[at - 100 : at + 2000]).max() == 0


def test_a_layer_lies_under_its_drum_and_makes_its_bottom_fuller(
    study: Study, with_layer: Callable[..., Study]
) -> None:
    laid = with_layer(hits="all", blend_db=-6.0)
    _, rows = _rows(laid, "snare_layer")
    assert len({r.sound for r in rows}) > 4
    assert all(a.sound != b.sound for a, b in itertools.pairwise(rows))
    assert all(r.gain > 0 and r.low_db > 0 for r in rows)
    shifts = [abs(r.begins - r.onset + round(HEAD_S * RATE)) for r in rows]
    assert np.percentile(shifts, 95) < 0.0015 * RATE
    drum = study.engine.read(study.graph.mics["snare_top"].clean, 0, study.sheet.frames)
    layer = laid.engine.read(laid.graph.layers["snare_layer"], 0, study.sheet.frames)[:, 0]
    low = scipy.signal.butter(2, 150, fs=RATE, output="sos")
    for at in _times(study, "accent"):
        part = slice(at, at + round(0.05 * RATE))
        alone, both = (
            np.sum(scipy.signal.sosfilt(low, x)[part] ** 2) for x in (drum, drum + layer)
        )
        assert both > alone


def test_instead_takes_the_drum_s_own_hits_out(
    study: Study, with_layer: Callable[..., Study]
) -> None:
    laid = with_layer(hits="accents", mode="instead")
    for mic in study.close("snare"):
        entry = laid.engine.read(laid.graph.mics[mic].chained.entry, 0, study.sheet.frames)
        was = study.engine.read(study.graph.mics[mic].clean, 0, study.sheet.frames)
        accents = [h for h in study.hits_on("snare") if h.kind == "accent"]
        shift = study.sheet.mics[mic].delay_samples
        for h in accents:
            at = round(h.time_s * RATE + shift)
            assert (
                np.abs(entry[at + 100 : at + 1500]).max() < 0.01 * np.abs(was[at : at + 1500]).max()
            )
    node, rows = _rows(laid, "snare_layer")
    assert all(r.gain > 0 for r in rows)
    assert node.drum.key == study.graph.mics["snare_top"].clean.key


def test_a_layer_rendered_in_parts_is_the_layer_rendered_whole(
    with_layer: Callable[..., Study],
) -> None:
    laid = with_layer(hits="all")
    node, _ = _rows(laid, "snare_layer")
    whole = node.render(laid.engine, 0, 6 * RATE)
    parts = [node.render(laid.engine, a, a + 54321) for a in range(0, 6 * RATE, 54321)]
    assert np.concatenate(parts)[: 6 * RATE] == pytest.approx(whole, abs=1e-7)


def test_a_choke_is_heard_as_it_is_switched(with_layer: Callable[..., Study]) -> None:
    laid = with_layer(hits="all")
    node, _ = _rows(laid, "snare_layer")
    twice = tuple(n for at in node.onsets for n in (at, at + 2000))
    ends, rings = (replaced(node, onsets=twice, choke=choke) for choke in (True, False))
    engine = Engine(RATE, laid.sheet.frames, TileCache())
    first = next(row for row in ends.plan(engine) if row.gain)
    begin, stop = round(first.begins), round(first.stops)
    heard_ending, heard_ringing = (engine.read(n, begin, stop + 1000) for n in (ends, rings))
    assert not np.array_equal(heard_ending, heard_ringing)
    fall = round(0.005 * RATE) + 40
    assert np.array_equal(heard_ending[: stop - begin - fall], heard_ringing[: stop - begin - fall])


def test_a_hit_that_moves_leaves_what_others_get_and_is_decided_anew(
    study: Study, with_layer: Callable[..., Study], monkeypatch: pytest.MonkeyPatch
) -> None:
    laid = with_layer(hits="all")
    node, rows = _rows(laid, "snare_layer")
    assert isinstance(node, Struck)
    asked: list[int] = []
    place = struck.place
    monkeypatch.setattr(struck, "place", lambda *a, **k: (asked.append(1), place(*a, **k))[1])
    last = max(h.time_s for h in study.hits_on("snare"))
    moved = next(h for h in study.hits_on("snare") if h.time_s == last)
    take = f"takes.{study.sheet.takes.index(study.sheet.take)}"
    later = laid.tried({f"{take}.corrections.{moved.id}": {"time_s": round(last + 0.004, 6)}})
    again, now = _rows(later, "snare_layer")
    assert isinstance(again, Struck)
    # What is decided together with it, and what its sample is laid under.
    assert 0 < len(asked) < len(rows) / 2
    unlike = [a for a, b in zip(rows[:-1], now[:-1], strict=True) if a.begins != b.begins]
    assert len(unlike) < len(rows) / 2
    # What is remembered is what is found by one who remembers nothing.
    monkeypatch.setattr(peaks, "lately", Memory(1))
    assert replaced(again).plan(Engine(RATE, later.sheet.frames, TileCache())) == now


def test_the_sub_follows_every_kick_in_the_polarity_that_adds(study: Study) -> None:
    laid = study.tried(layers.sub_patch(study, "kick", blend_db=0.0))
    layer = laid.sheet.layers["kick_sub"]
    assert 25 <= layer.note_hz <= 80  # type: ignore[union-attr]
    node, rows = _rows(laid, "kick_sub")
    assert len(rows) == len(study.hits_on("kick"))
    drum = study.engine.read(node.drum, 0, study.sheet.frames)
    sub = laid.engine.read(node, 0, study.sheet.frames)
    fuller = [
        np.sum((drum + sub)[a : a + 4800] ** 2) > np.sum(drum[a : a + 4800] ** 2)
        for a in (round(r.onset) for r in rows)
    ]
    assert np.mean(fuller) > 0.9


def test_a_layer_that_would_play_on_no_hit_is_refused_with_what_there_is(study: Study) -> None:
    own = [h for h in study.hits if h.piece == "kick"]
    low, high = min(h.velocity for h in own), max(h.velocity for h in own)
    assert low > 2
    said = f"velocity from 1 to 2; its hits have {low} to {high}"
    with pytest.raises(ArkundError, match=said):
        layers.layer_patch(study, "kick", hits="1-2")
    with pytest.raises(ArkundError, match=said):
        layers.sub_patch(study, "kick", hits="1-2")
    softened = study.tried({f"takes.0.corrections.{h.id}": {"kind": "plain"} for h in own})
    with pytest.raises(ArkundError, match=f"None of the {len(own)} hits of the kick is an accent"):
        layers.layer_patch(softened, "kick", hits="accents")


def test_notes_and_hits_are_read_or_refused_in_a_sentence(study: Study) -> None:
    assert layers.sub_note_hz(study, "kick", "50Hz") == 50
    assert layers.sub_note_hz(study, "kick", "C1") == pytest.approx(32.7, abs=0.01)
    for note, said in (
        ("H1", "is no note"),
        ("A7", "from 20 to 200 Hz"),
        ("5", "from 20 to 200 Hz"),
    ):
        with pytest.raises(ArkundError, match=said):
            layers.sub_note_hz(study, "kick", note)
    with pytest.raises(ArkundError, match="no mic close to “gong”"):
        layers.harvest(study, "gong")
    for hits in ("loud", "90-20", "0-5", "1-200"):
        with pytest.raises(ArkundError, match="are no hits"):
            layers.layer_patch(study, "snare", hits=hits)
    patch = layers.layer_patch(study, "snare", hits="20-127")
    laid = study.tried(patch)
    velocities = [h.velocity for h in study.hits_on("snare")]
    assert len(_rows(laid, "snare_layer")[1]) == sum(v >= 20 for v in velocities)
    with pytest.raises(ArkundError, match="a share from 0 to 1"):
        uneven.even_patch(study, "snare", 1.5)


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"of": "overhead_l"}, "no close mic"),
        ({"of": "gone"}, "no close mic"),
        ({"to": "nowhere"}, "which is not there"),
        ({"kind": "gong"}, "gong"),
        ({"samples": []}, "samples"),
        ({"samples": [{"at": -1, "frames": 100}]}, "greater"),
        ({"samples": [{"at": 5, "frames": 100}]}, "those of the song are hits"),
        ({"samples": [{"frames": 100}]}, "a hit of the song or a place"),
        ({"samples": [{"hit": "../x", "frames": 100}]}, "pattern"),
    ],
)
def test_a_layer_that_cannot_be_is_refused(
    study: Study, change: dict[str, object], said: str
) -> None:
    ((name, layer),) = layers.layer_patch(study, "snare").items()
    with pytest.raises(SheetError, match=said):
        study.tried({name: {**layer, **change}})


def test_a_layer_cannot_take_a_mic_s_name(study: Study) -> None:
    (layer,) = layers.layer_patch(study, "snare").values()
    with pytest.raises(SheetError, match="cannot be called kick_in"):
        study.tried({"layers.kick_in": layer})


def test_even_hits_bring_accents_together_and_leave_bleed(study: Study) -> None:
    """Full amount: accents within 1.5 dB; what lies between hits changes by no more than 0.5 dB."""
    evened = study.tried(uneven.even_patch(study, "kick", 1.0))
    assert uneven.spread_db(evened, "kick_in")[0] < 1.5 < uneven.spread_db(study, "kick_in")[0] + 1
    was, now = (
        s.engine.read(s.graph.mics["kick_in"].chained.entry, 0, study.sheet.frames)
        for s in (study, evened)
    )
    own = sorted(round(h.time_s * RATE) for h in study.hits_on("kick"))
    between = np.ones(len(was), bool)
    for at in own:
        between[max(at - 100, 0) : at + round(0.35 * RATE)] = False
    assert np.array_equal(was[between], now[between])
    assert between.mean() > 0.1


def test_what_the_overheads_still_hear_of_a_replaced_drum_is_said_and_ducked(
    study: Study, with_layer: Callable[..., Study]
) -> None:
    school = SCHOOLS["natural"]
    assert not left_behind.find_left(with_layer(mode="under"), "overhead_l", school)
    laid = with_layer(mode="instead", hits="all")
    (found,) = left_behind.find_left(laid, "overhead_l", school)
    change = found.gain["against_layer_db"]
    assert found.is_doubtful
    # By the typical velocity; what is struck harder is ducked by more.
    assert abs(change.now - change.then - left_behind.DUCK_DB) < 2.5
    ducked = laid.tried(found.proposal)
    assert {
        m for m, mic in ducked.sheet.mics.items() if any(s.id == "duck" for s in mic.chain)
    } == {"overhead_l", "overhead_r"}
    assert not left_behind.find_left(ducked, "overhead_l", school)
    # Between hits of the snare the overheads are as they were.
    was, now = (
        s.engine.read(s.graph.mics["overhead_l"].shaped, 0, study.sheet.frames)
        for s in (laid, ducked)
    )
    quiet = np.ones(len(was), bool)
    for h in study.hits_on("snare"):
        quiet[round((h.time_s - 0.02) * RATE) : round((h.time_s + 0.9) * RATE)] = False
    assert quiet.sum() > RATE
    assert np.abs(was[quiet] - now[quiet]).max() < 1e-4


def test_samples_go_along_with_their_hits_and_leave_with_them(
    study: Study, with_layer: Callable[..., Study]
) -> None:
    laid = with_layer(hits="all")
    node, _ = _rows(laid, "snare_layer")
    delayed = laid.tried({"mics.snare_top.delay_samples": 40.0})
    later, _ = _rows(delayed, "snare_layer")
    assert isinstance(node, Struck)
    assert isinstance(later, Struck)
    moved = [b.at - a.at for a, b in zip(node.samples, later.samples, strict=True)]
    assert moved == [40] * len(node.samples)
    number = study.sheet.take.number
    layer = laid.sheet.layers["snare_layer"]
    gone = {
        f"takes.{study.sheet.takes.index(study.sheet.take)}.corrections.{s.hit}": {"gone": True}
        for s in layer.samples
    }  # type: ignore[union-attr]
    assert number >= 1
    without = laid.tried(gone)
    assert np.abs(without.engine.read(without.graph.layers["snare_layer"], 0, RATE)).max() == 0


@pytest.mark.parametrize("slope", [24, 48])
def test_both_sides_of_a_crossover_sum_to_one_magnitude(slope: int) -> None:
    """An impulse through both sides: flat within 1 dB (0.1 here), 6 dB down each at the frequency."""
    impulse = np.zeros(1 << 16, np.float32)
    impulse[0] = 1.0
    sides = []
    for side in ("low_pass", "high_pass"):
        heard = impulse
        for process in crossover(side, 70.0, slope, RATE):  # type: ignore[arg-type]
            heard = process.run(heard, process.at_rest())
        sides.append(np.fft.rfft(heard))
    hz = np.fft.rfftfreq(len(impulse), 1 / RATE)
    heard_db = 20 * np.log10(np.abs(sides[0] + sides[1])[(hz > 10) & (hz < 2000)])
    assert np.abs(heard_db).max() < 0.1
    at = int(np.argmin(np.abs(hz - 70)))
    assert [20 * np.log10(abs(s[at])) for s in sides] == pytest.approx([-6.02, -6.02], abs=0.2)
    octave = int(np.argmin(np.abs(hz - 140)))
    assert 20 * np.log10(abs(sides[0][octave])) == pytest.approx(-slope - 0.5, abs=1.0)


def test_a_crossed_sub_takes_the_bottom_of_every_close_mic_while_it_sounds(study: Study) -> None:
    patch = layers.sub_patch(study, "kick", note="40Hz", crossover="70Hz", blend_db=0.0)
    over = {"path": "layers.kick_sub.mute", "bars": "5-8", "value": True}
    crossed = study.tried(patch | {"over.o1": over})
    low = scipy.signal.butter(4, 40, fs=RATE, output="sos")
    frames = study.sheet.frames
    bar = round(4 * 60 / study.sheet.tempo.bpm * RATE)
    begin = round(study.sheet.tempo.first_downbeat_s * RATE)
    for mic in study.close("kick"):
        was, now = (
            s.engine.read(s.graph.mics[mic].chained.entry, 0, frames) for s in (study, crossed)
        )
        bottoms = [scipy.signal.sosfilt(low, x) for x in (was, now)]
        sounding, muted = (
            slice(begin + bar, begin + 4 * bar),
            slice(begin + 5 * bar, begin + 7 * bar),
        )
        power = [[float(np.mean(b[part] ** 2)) for b in bottoms] for part in (sounding, muted)]
        assert power[0][1] < 0.03 * power[0][0]
        assert power[1][1] == pytest.approx(power[1][0], rel=0.01)
    snare = [s.graph.mics["snare_top"].chained.entry.key for s in (study, crossed)]
    assert snare[0] == snare[1]


@pytest.mark.parametrize(
    ("note_hz", "drum_hz", "at_hz", "slope"),
    [
        (50, 50, 70.7, 48),
        (50, None, 70.7, 48),
        (45, 80, 60, 48),
        (40, 90, 60, 24),
        (190, 200, 250, 48),
    ],
)
def test_a_crossover_lies_between_the_two_fundamentals(
    note_hz: float, drum_hz: float | None, at_hz: float, slope: int
) -> None:
    assert layers.crossover_of(note_hz, drum_hz) == (pytest.approx(at_hz, abs=0.1), slope)


def test_a_hit_that_is_left_out_gets_no_sample(
    study: Study, with_layer: Callable[..., Study]
) -> None:
    laid = with_layer(hits="all")
    _, rows = _rows(laid, "snare_layer")
    gone = [h for h in study.hits_on("snare") if h.kind == "accent"][:3]
    less = laid.tried({"layers.snare_layer.left_out": [h.id for h in gone]})
    _, fewer = _rows(less, "snare_layer")
    shift = study.sheet.mics["snare_top"].delay_samples
    at = {round(h.time_s * RATE + shift) for h in gone}
    assert {r.onset for r in rows} - {r.onset for r in fewer} == at


def test_a_sample_is_trimmed_and_faded_where_it_is_said(
    study: Study, with_layer: Callable[..., Study]
) -> None:
    laid = with_layer(hits="all")
    samples = [s.model_dump() for s in laid.sheet.layers["snare_layer"].samples]  # type: ignore[union-attr]
    short = [{**s, "frames": 4800, "fade_in_ms": 4.0, "fade_out_ms": 40.0} for s in samples]
    trimmed = laid.tried({"layers.snare_layer.samples": short})
    (node, rows), (cut, _) = (_rows(s, "snare_layer") for s in (laid, trimmed))
    whole, part = (n._sound(s.engine, rows[0]) for n, s in ((node, laid), (cut, trimmed)))
    assert len(part) == 4800
    rise, fall = round(0.004 * RATE), round(0.04 * RATE)
    assert part[rise : 4800 - fall] == pytest.approx(whole[rise : 4800 - fall], abs=1e-7)
    ease = 0.5 + 0.5 * np.cos(np.pi * np.arange(1, fall + 1) / fall)
    assert part[4800 - fall :] == pytest.approx(whole[4800 - fall : 4800] * ease, abs=1e-6)
    assert abs(part[0]) == 0


@pytest.mark.parametrize(
    ("drum_hz", "root", "wanted"),
    [(60, "", 60), (60, "B", 61.74), (60, "E", 60), (110, "", 55), (100, "G#", 51.91)],
)
def test_a_sub_s_note_is_the_drum_s_or_the_root_near_it(
    drum_hz: float, root: str, wanted: float
) -> None:
    assert layers.note_under(drum_hz, root) == pytest.approx(wanted, abs=0.01)
