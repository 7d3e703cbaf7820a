"""The floor under detection: what stands clear of all bleed in a drum's own mic is found, and nothing else."""

from dataclasses import replace
from typing import Any

import numpy as np
import pytest

from arkund.core.hits.choose import floor
from arkund.core.hits.choose.floor import added_to, clear_hits
from arkund.core.hits.detect import detect_hits
from arkund.core.hits.explain.reach import SAID, reach_of
from arkund.core.hits.hear.onsets import frame_peaks, new_level, onsets_in
from arkund.core.hits.hit import Hit
from arkund.core.hits.weigh.afar import FAMILIES

RATE = 48000
SECONDS = 24
Sounds = dict[str, np.ndarray[Any, Any]]


def hit(hz: float, decay_s: float, seed: int) -> np.ndarray[Any, Any]:
    """A drum's hit: a tone that dies away, and its stick."""
    t = np.arange(round(0.5 * RATE)) / RATE
    stick = np.random.default_rng(seed).standard_normal(len(t)) * np.exp(-t / 0.004)
    return np.asarray((np.sin(2 * np.pi * hz * t) + stick) * np.exp(-t / decay_s), np.float32)


def kit(tom_at: list[float], bleed_db: float = -18.0, seed: int = 1) -> Sounds:
    """Kick and snare in turn, a tom now and then; each mic hears the others 2 ms later, softer."""
    rng = np.random.default_rng(seed)
    places = {
        "kick": [0.5 + n for n in range(SECONDS - 2)],
        "snare": [1.0 + n for n in range(SECONDS - 2)],
        "tom_1": tom_at,
    }
    shapes = {"kick": hit(60, 0.08, 1), "snare": hit(190, 0.05, 2), "tom_1": hit(120, 0.2, 3)}
    sounds = {
        name: 1e-4 * rng.standard_normal(SECONDS * RATE).astype(np.float32) for name in shapes
    }
    sounds["overhead"] = 1e-4 * rng.standard_normal(SECONDS * RATE).astype(np.float32)
    for piece, times in places.items():
        for at in times:
            level = 0.5 * 10 ** (rng.normal(0, 1.5) / 20)
            for mic, sound in sounds.items():
                own = mic == piece
                gain = 1.0 if own else 10 ** ((bleed_db + rng.normal(0, 1.5)) / 20)
                late = 0.0 if own else 0.004 if mic == "overhead" else 0.002
                begin = round((at + late) * RATE)
                part = sound[begin : begin + len(shapes[piece])]
                part += (level * gain * shapes[piece])[: len(part)]
    return sounds


def found(sounds: Sounds) -> dict[str, list[float]]:
    close = {name: sounds[name] for name in ("kick", "snare", "tom_1")}
    clear = clear_hits(reach_of(close, [sounds["overhead"]], RATE), list(close))
    return {piece: [one.time_s for one in hits] for piece, hits in clear.items()}


def clear_ones(sounds: Sounds) -> dict[str, list[floor.Clear]]:
    close = {name: sounds[name] for name in ("kick", "snare", "tom_1")}
    return clear_hits(reach_of(close, [sounds["overhead"]], RATE), ["tom_1"])


@pytest.mark.parametrize("tom_at", [[7.25], [3.25, 11.75], [2.25, 2.75, 9.25, 15.75, 20.25]])
def test_a_tom_hit_a_few_times_is_found_each_time(tom_at: list[float]) -> None:
    clear = found(kit(tom_at))
    assert clear["tom_1"] == pytest.approx(tom_at, abs=0.002)


def test_a_tom_hit_together_with_another_drum_is_found() -> None:
    clear = found(kit([4.5, 9.0, 13.25]))
    assert clear["tom_1"] == pytest.approx([4.5, 9.0, 13.25], abs=0.003)


@pytest.mark.parametrize("bleed_db", [-24.0, -18.0, -12.0, -6.0])
@pytest.mark.parametrize("seed", range(3))
def test_a_tom_that_is_never_hit_has_no_clear_hit(bleed_db: float, seed: int) -> None:
    assert found(kit([], bleed_db, seed))["tom_1"] == []


def test_added_to_a_list_they_are_placed_and_measured_like_the_others() -> None:
    sounds = kit([3.25, 11.75, 18.25])
    close = {name: sounds[name] for name in ("kick", "snare", "tom_1")}
    known = Hit("x", "tom_1", 3.2501, 100, "accent", 0.9, -1.0)
    hits = added_to([known], clear_ones(sounds), close, RATE)
    assert hits[0] == known
    assert [h.time_s for h in hits] == pytest.approx([3.25, 11.75, 18.25], abs=0.001)
    assert all(h.confidence >= floor.SURE for h in hits[1:])
    assert [h.level_db for h in hits] == pytest.approx([-1.0] * 3, abs=4.0)
    assert len({h.id for h in hits}) == 3


def test_a_drum_without_other_hits_needs_one_that_is_beyond_doubt(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    sounds = kit([7.25])
    close = {name: sounds[name] for name in ("kick", "snare", "tom_1")}
    assert len(added_to([], clear_ones(sounds), close, RATE)) == 1
    monkeypatch.setattr(floor, "ANCHOR_DB", 200.0)
    assert added_to([], clear_ones(sounds), close, RATE) == []


def test_a_tom_of_which_nothing_is_listed_and_that_falls_with_kicks_alone_is_for_an_ear() -> None:
    sounds = kit([4.5, 9.25, 13.5])
    close = {name: sounds[name] for name in ("kick", "snare", "tom_1")}
    with_kicks = {"tom_1": [one for one in clear_ones(sounds)["tom_1"] if one.time_s % 1 > 0.4]}
    kicks = [Hit(f"k{t}", "kick", t, 100, "accent", 0.9, 0.0) for t in (4.5, 9.5, 13.5)]
    assert len(with_kicks["tom_1"]) == 2
    assert added_to(kicks, with_kicks, close, RATE) == kicks
    # One more between kicks says that it is the tom, and so does one that the list has already.
    assert len(added_to(kicks, clear_ones(sounds), close, RATE)) == len(kicks) + 3
    listed = Hit("t", "tom_1", 4.5, 100, "accent", 0.9, 0.0)
    assert len(added_to([*kicks, listed], with_kicks, close, RATE)) == len(kicks) + 2


def test_a_drum_whose_every_hit_is_added_is_measured_against_its_own_loud_ones() -> None:
    sounds = kit([2.2, 4.4, 6.6])
    close = {name: sounds[name] for name in ("kick", "snare", "tom_1")}
    under = [replace(one, level_db=one.level_db - 13.0) for one in clear_ones(sounds)["tom_1"]]
    hits = added_to([], {"tom_1": under}, close, RATE)
    assert len(hits) == 3
    assert max(h.level_db for h in hits) == pytest.approx(0.0, abs=0.5)
    assert "ghost" not in {h.kind for h in hits}


def test_many_clear_hits_that_all_fall_with_a_hat_are_its_bleed_and_few_are_not() -> None:
    times = [2.2, 4.4, 6.6, 8.7, 12.2, 15.3]
    sounds = kit(times)
    close = {name: sounds[name] for name in ("kick", "snare", "tom_1")}
    clear = clear_ones(sounds)["tom_1"]
    assert len(clear) == len(times)
    hats = [Hit(f"h{t}", "hat", t, 100, "accent", 0.9, 0.0) for t in times]
    assert added_to(hats, {"tom_1": clear}, close, RATE) == hats
    assert len(added_to(hats, {"tom_1": clear[:4]}, close, RATE)) == len(hats) + 4
    # Another tom's are no proof: one of the two is an echo, and which is told elsewhere.
    toms = [Hit(f"t{t}", "tom_2", t, 100, "accent", 0.9, 0.0) for t in times]
    assert len(added_to(toms, {"tom_1": clear}, close, RATE)) == len(toms) + len(times)


@pytest.mark.parametrize(
    ("over_db", "theirs_db", "confidence", "is_added"),
    [
        (3.0, 5.0, 0.5, False),  # farther over bleed in the other tom's mic
        (3.0, 2.0, 0.5, True),
        (3.0, 2.0, floor.SURELY, False),  # the other tom is surely hit
        (floor.TOM_OVER_DB, 12.0, 1.0, True),  # far over all bleed: both are hit
    ],
)
def test_what_a_tom_hears_while_another_is_hit_needs_more_to_be_its_own(
    over_db: float, theirs_db: float, confidence: float, is_added: bool
) -> None:
    sounds = kit([4.0, 9.0])
    clear = {
        "tom_1": [floor.Clear(4.0, over_db, 0.0), floor.Clear(9.0, 20.0, 0.0)],
        "tom_2": [floor.Clear(4.004, theirs_db, 0.0)],
    }
    listed = [
        Hit("a", "tom_1", 9.0, 100, "accent", 0.99, 0.0),
        Hit("b", "tom_2", 4.004, 100, "accent", confidence, 0.0),
    ]
    close = {"tom_1": sounds["tom_1"], "tom_2": sounds["tom_1"]}
    out = added_to(listed, clear, close, RATE)
    assert any(h.piece == "tom_1" and h.time_s < 5 for h in out) is is_added


class Sees:
    """Overheads that give each time the same share of every family."""

    def __init__(self, **shares: float) -> None:
        self.row = [shares.get(family, 0.0) for family in FAMILIES]

    def at(self, times: np.ndarray[Any, Any]) -> np.ndarray[Any, Any]:
        return np.tile(self.row, (len(times), 1))


@pytest.mark.parametrize(
    ("shares", "new_db", "is_clear"),
    [
        ({"tom": 0.95}, floor.SLOW_NEW_DB, True),
        ({"tom": 0.95}, floor.SLOW_NEW_DB - 1, False),
        ({"tom": 0.95, "snare": 0.3}, floor.SLOW_NEW_DB, False),
        ({"tom": 0.8}, floor.SLOW_NEW_DB, False),
        ({"tom": 0.8}, floor.NEW_DB, True),
    ],
)
def test_a_tom_that_begins_softly_is_clear_where_overheads_see_it(
    monkeypatch: pytest.MonkeyPatch, shares: dict[str, float], new_db: float, is_clear: bool
) -> None:
    values = {"new by": new_db, "over bleed": floor.TOM_OVER_DB}
    assert is_said_clear(monkeypatch, "tom_1", shares, values) is is_clear


@pytest.mark.parametrize(
    ("seen", "new_db", "over_db", "far_db", "is_clear"),
    [
        (floor.KICK_SEEN, floor.KICK_NEW_DB, floor.KICK_OVER_DB, floor.KICK_FAR_OVER_DB, True),
        (floor.KICK_SEEN - 0.1, 20.0, -1.0, 0.0, False),
        (1.0, floor.KICK_NEW_DB - 1, -1.0, 0.0, False),
        (1.0, 20.0, floor.KICK_OVER_DB - 1, 0.0, False),
        (1.0, 20.0, -1.0, floor.KICK_FAR_OVER_DB - 1, False),
        (0.0, floor.NEW_DB, floor.OVER_DB, 0.0, True),
        (0.0, floor.NEW_DB, floor.UNHEARD_OVER_DB, floor.UNHEARD_FAR_OVER_DB, True),
        (0.0, floor.NEW_DB, floor.UNHEARD_OVER_DB, floor.UNHEARD_FAR_OVER_DB - 1, False),
        (0.0, floor.NEW_DB, floor.UNHEARD_OVER_DB - 1, floor.UNHEARD_FAR_OVER_DB, False),
    ],
)
def test_a_kick_of_which_overheads_are_sure_or_know_nothing_is_clear_under_the_most_of_bleed(
    monkeypatch: pytest.MonkeyPatch,
    seen: float,
    new_db: float,
    over_db: float,
    far_db: float,
    is_clear: bool,
) -> None:
    values = {"new by": new_db, "over bleed": over_db, "over bleed as overheads tell": far_db}
    assert is_said_clear(monkeypatch, "kick", {"kick": seen}, values) is is_clear


def is_said_clear(
    monkeypatch: pytest.MonkeyPatch, piece: str, shares: dict[str, float], values: dict[str, float]
) -> bool:
    """Whether a piece has clear hits where every onset in its mic is said to be like that."""
    sounds = kit([3.25, 7.75])
    close = {name: sounds[name] for name in ("kick", "snare", "tom_1")}
    reach = reach_of(close, [sounds["overhead"]], RATE)
    monkeypatch.setattr(
        floor,
        "said_of_places",
        lambda reach, name, times: [np.full(len(times), values.get(one, 0.0)) for one in SAID],
    )
    return bool(clear_hits(reach, [piece], Sees(**shares))[piece])  # type: ignore[arg-type]


def test_a_mic_s_noise_is_what_its_quiet_frames_hear() -> None:
    """Cymbals ring in the kick's mic for most of the song, at the level of its soft hits."""
    sounds = kit([])
    soft, rng = hit(60, 0.08, 1), np.random.default_rng(3)
    wash = np.repeat([0.0, 1.0, 1.0], RATE)
    sounds["kick"] = 0.2 * sounds["kick"]
    sounds["kick"] += (0.015 * np.resize(wash, SECONDS * RATE)).astype(np.float32) * (
        rng.standard_normal(SECONDS * RATE).astype(np.float32)
    )
    begin = round(6.3 * RATE)
    sounds["kick"][begin : begin + len(soft)] += 0.06 * soft
    assert np.abs(np.array(found(sounds)["kick"]) - 6.3).min() < 0.003


def test_the_list_of_a_take_holds_what_the_floor_found() -> None:
    sounds = kit([3.25, 11.75, 18.25])
    mics = {"kick_in": sounds["kick"], "snare_top": sounds["snare"], "tom_1": sounds["tom_1"]}
    mics["overhead"] = sounds["overhead"]
    times = [h.time_s for h in detect_hits(mics, RATE) if h.piece == "tom_1"]
    for wanted in (3.25, 11.75, 18.25):
        assert np.abs(np.array(times) - wanted).min() < 0.003


@pytest.mark.parametrize("rate", [8000, 44100, 48000, 96000])
def test_frames_hold_the_largest_magnitude(rate: int) -> None:
    sound = np.zeros(rate, np.float32)
    sound[round(0.5 * rate)] = -0.7
    peaks = frame_peaks(sound, rate)
    assert len(peaks) == pytest.approx(4000, abs=1)
    assert np.flatnonzero(peaks > 0.5)[0] * floor.FRAME_S == pytest.approx(
        0.5, abs=2 * floor.FRAME_S
    )


def test_a_ring_that_beats_is_nothing_new() -> None:
    t = np.arange(4000) * floor.FRAME_S
    ring = np.exp(-t / 0.4) * (0.6 + 0.4 * np.cos(2 * np.pi * t / 0.02))
    level = new_level(ring, np.array([1000]), 0, 48)
    assert level[0] <= 0.45 * ring[1000:1048].max()


@pytest.mark.parametrize("length", [0, 1, 10, 100, 5000])
def test_short_and_silent_sounds_have_no_onsets(length: int) -> None:
    silent = np.zeros(length, np.float32)
    assert len(onsets_in(frame_peaks(silent, RATE), frame_peaks(silent, RATE)).at) == 0
    assert clear_hits(
        reach_of({"kick": silent, "tom_1": silent}, [silent], RATE), ["kick", "tom_1"]
    ) == {
        "kick": [],
        "tom_1": [],
    }
