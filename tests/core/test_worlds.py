"""Worlds that accuracy is measured on: parts drawn at random, and how a list of hits is scored."""

import os
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from arkund.core.hits.hit import Hit
from arkund.core.simulate.drummer import PlayedHit
from benchmarks.recorded.recording import Recording
from benchmarks.worlds.drawn import DEVELOPED_ON, LEFT_OUT, make_room, worlds
from benchmarks.worlds.playing import FAMILIES, TOMS
from benchmarks.worlds.report import Row, sureness, table
from benchmarks.worlds.scoring import (
    Ghosts,
    Tally,
    each,
    ghosts,
    group_of,
    plain_hits,
    plain_list,
    score,
)
from benchmarks.worlds.sources import SIMULATED
from benchmarks.worlds.world import World, record

RATE = 48000
PIECES = {"kick", "snare", "hat", "ride", "crash_1", *TOMS}


@pytest.mark.parametrize("family", FAMILIES)
def test_a_part_is_in_order_and_another_for_every_seed(family: str) -> None:
    parts = [FAMILIES[family](np.random.default_rng(seed)) for seed in range(6)]
    for part in parts:
        times = [s.time_s for s in part]
        assert times == sorted(times)
        assert times[0] > 0
        assert {s.piece for s in part} <= PIECES
        assert all(1 <= s.velocity <= 127 for s in part)
    assert len({tuple(s.time_s for s in part) for part in parts}) == len(parts)
    again = FAMILIES[family](np.random.default_rng(3))
    assert again == parts[3]


def test_toms_of_a_seldom_part_are_hit_five_times_at_most() -> None:
    for seed in range(20):
        part = FAMILIES["seldom_toms"](np.random.default_rng(seed))
        for tom in TOMS:
            assert sum(s.piece == tom for s in part) <= 5
        assert not any(s.piece in TOMS for s in FAMILIES["never_hit"](np.random.default_rng(seed)))


def test_nothing_that_is_reported_on_was_developed_on() -> None:
    for kind in ("sources", "models"):
        assert not set(DEVELOPED_ON[kind]) & set(LEFT_OUT[kind])
    assert len({w.name for w in worlds(LEFT_OUT, 1, 44)}) == 44


def recording(bleed: float) -> Recording:
    """A tom hit at 1 and 2 s; a kick at 2 s bleeds into its mic."""
    sound = np.zeros(3 * RATE, np.float32)
    shape = np.exp(-np.arange(4000) / 600).astype(np.float32)
    own = sound.copy()
    for at in (1, 2):
        own[at * RATE : at * RATE + 4000] += 0.5 * shape
    total = own.copy()
    total[2 * RATE - 50 : 2 * RATE - 50 + 4000] += bleed * shape
    hits = [
        {"piece": "tom_1", "time_s": 1.0, "kind": "plain", "velocity": 100},
        {"piece": "tom_1", "time_s": 2.0, "kind": "plain", "velocity": 100},
        {"piece": "crash_1", "time_s": 0.5, "kind": "plain", "velocity": 100},
    ]
    return Recording({"tom_1": total}, {"tom_1": own}, hits, [], RATE)


def test_hits_are_counted_by_how_clear_they_are() -> None:
    found = score(recording(0.4), {"tom_1": [1.003, 2.5]}).pieces["tom_1"]
    assert found == Tally(right=1, true=2, found=2, obvious=1, obvious_missed=0, buried=0)
    missed = score(recording(0.02), {}).pieces["tom_1"]
    assert missed == Tally(right=0, true=2, found=0, obvious=2, obvious_missed=2, buried=0)
    buried = score(recording(1.5), {"tom_1": [1.0, 2.0]}).pieces["tom_1"]
    assert (buried.true, buried.right, buried.found, buried.buried) == (1, 1, 1, 1)
    assert score(recording(0.1), {"tom_1": [1.007]}).pieces["tom_1"].right == 0


def test_a_plain_threshold_finds_what_is_loud() -> None:
    made = recording(0.02)
    assert plain_hits(made.mics["tom_1"], RATE) == pytest.approx([1.0, 2.0], abs=0.002)
    assert set(plain_list(made)) == {"tom_1"}
    assert (group_of(made, "tom_1"), group_of(made, "crash_1")) == ("tom", "crash without a mic")


def test_the_table_has_the_worst_recording_beside_the_pooled_figure() -> None:
    good, bad = Tally(9, 10, 9, 8, 0, 0), Tally(1, 10, 1, 8, 7, 0, aside=1)
    made_up = Tally(0, 0, 3, 0, 0, 0)
    rows = [
        Row(
            World(n, "a", "b", "c"),
            {"tom_1": ("tom", tally, Tally(5, 10, 12, 8, 2, 0))},
            [],
            Ghosts(8, 10, n, 2),
        )
        for n, tally in enumerate((good, bad, made_up))
    ]
    *_, line, _, ghosts_line = table(rows).splitlines()
    assert ghosts_line.startswith(
        "Ghosts: F 0.842 (24 of 30, 6 buried aside), worst 0.80; made up 3"
    )
    assert ghosts_line.endswith("at most 2 in a song.")
    assert line.startswith("| tom | 0.606 | 0.18 | a/b/c/1 |")
    assert line.endswith("| 7 of 16 (1 aside) | 6 of 24 (0 aside) | 3 | 0 |")


def _found(piece: str, time_s: float, confidence: float, kind: str = "plain") -> Hit:
    return Hit(f"{piece}{time_s}", piece, time_s, 90, kind, confidence, 0.0)


def test_found_hits_are_judged_each_with_its_confidence() -> None:
    hits = [_found("tom_1", 1.002, 0.9), _found("tom_1", 2.4, 0.6), _found("crash_1", 0.508, 0.7)]
    judged = each(recording(0.1), hits)
    assert [(j.group, j.confidence, j.right) for j in judged] == [
        ("crash without a mic", 0.7, True),
        ("tom", 0.9, True),
        ("tom", 0.6, False),
    ]
    assert judged[1].late_s == pytest.approx(0.002)
    rows = [Row(World(1, "a", "b", "c"), {}, judged, Ghosts())]
    tom = sureness(rows).splitlines()[-1]
    assert "0.00 (1)" in tom
    assert "1.00 (1)" in tom
    assert "| 0.185 |" in tom


def test_ghosts_are_counted_apart_from_accents() -> None:
    made = recording(0.1)
    snares = [
        {"piece": "snare", "time_s": t, "kind": kind, "velocity": 50}
        for t, kind in ((0.2, "ghost"), (0.4, "plain"), (0.6, "ghost"), (0.8, "grace"))
    ]
    made = Recording(made.mics, made.own, [*made.hits, *snares], [], RATE)
    hits = [
        _found("snare", 0.2, 0.9, "ghost"),
        _found("snare", 0.4, 0.9),
        _found("snare", 0.81, 0.9, "ghost"),
        _found("snare", 1.5, 0.9, "ghost"),
    ]
    assert ghosts(made, hits) == Ghosts(found=1, true=2, made_up=1)


def test_a_hit_under_its_own_drum_s_ring_is_buried() -> None:
    made = recording(0.0)
    made.own["tom_1"][:] += 0.2 * np.sin(2 * np.pi * 200 * np.arange(len(made.own["tom_1"])) / RATE)
    made.mics["tom_1"][:] = made.own["tom_1"]
    soft = {"piece": "tom_1", "time_s": 1.5, "kind": "ghost", "velocity": 20}
    for over_ring_db, buried in ((-10.0, 1), (-3.0, 0)):
        hits = [*made.hits, soft | {"over_ring_db": over_ring_db}]
        found = score(replace(made, hits=hits), {"tom_1": [1.0, 2.0]}).pieces["tom_1"]
        assert (found.buried, found.true) == (buried, 3 - buried)


def test_every_hit_says_how_far_it_stands_over_its_drum_s_ring() -> None:
    part = [
        PlayedHit(0.5, "snare", 120),
        PlayedHit(0.54, "snare", 15, "ghost"),
        PlayedHit(1.5, "snare", 60),
    ]
    hits = record(World(3, SIMULATED, "cardioids", "train"), part).hits
    first, ghost, late = (h["over_ring_db"] for h in hits)
    assert first == np.inf
    assert ghost < 0 < 20 < late


def test_the_oldest_recordings_make_room_for_the_newest(tmp_path: Path) -> None:
    for n, name in enumerate(("first", "second", "third")):
        path = tmp_path / f"{name}.recording"
        path.write_bytes(bytes(100))
        os.utime(path, (n, n))
    (tmp_path / "fluid-0.layers").write_bytes(bytes(500))
    make_room(tmp_path, 250)
    assert sorted(path.name for path in tmp_path.iterdir()) == [
        "fluid-0.layers",
        "second.recording",
        "third.recording",
    ]
