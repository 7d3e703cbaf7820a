"""Worlds drawn at random of the simulator's own hits: what is obvious is found, what rests is not made up."""

import numpy as np
import pytest

from arkund.core.hits.detect import detect_hits
from benchmarks.worlds import playing
from benchmarks.worlds.scoring import score, times_of
from benchmarks.worlds.sources import SIMULATED
from benchmarks.worlds.world import World, record

BARS = 8


@pytest.mark.parametrize(
    ("seed", "model", "family"),
    [
        (1, "cardioids", "seldom_toms"),
        (5, "clips", "seldom_toms"),
        (9, "omnis", "tom_groove"),
        (3, "condensers", "fast"),
        (4, "omnis", "never_hit"),
    ],
)
def test_what_is_obvious_is_found_and_what_rests_is_not_made_up(
    seed: int, model: str, family: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(playing, "BARS", BARS)
    made = record(World(seed, SIMULATED, model, family))
    found = score(made, times_of(detect_hits(made.mics, made.rate))).pieces
    shells = {p: t for p, t in found.items() if p.startswith(("kick", "snare", "tom"))}
    assert sum(t.obvious for t in shells.values()) > 20
    for piece, tally in shells.items():
        assert tally.obvious_missed == 0, (piece, tally)
        if not tally.true and not tally.buried:
            assert tally.found == 0, (piece, tally)


@pytest.mark.parametrize("what", ["silence", "a level", "a click"])
def test_bad_input_holds_no_hits_of_a_tom(what: str) -> None:
    rate, seconds = 48_000, 8
    rng = np.random.default_rng(1)
    kick = np.zeros(rate * seconds, np.float32)
    shape = np.exp(-np.arange(4000) / 500) * np.sin(np.arange(4000) * 0.008)
    for at in np.arange(0.5, seconds - 0.5, 0.5):
        kick[int(at * rate) : int(at * rate) + 4000] += (0.5 * shape).astype(np.float32)
    noise = (1e-4 * rng.standard_normal(len(kick))).astype(np.float32)
    tom = {
        "silence": np.zeros(len(kick), np.float32),
        "a level": np.full(len(kick), 0.3, np.float32),
        "a click": np.zeros(len(kick), np.float32),
    }[what].copy()
    if what == "a click":
        tom[:: rate // 2] = 0.9
    hits = detect_hits(
        {"kick_in": kick + noise, "tom_1": tom, "overhead": 0.3 * kick + noise}, rate
    )
    made_up = [h for h in hits if h.piece == "tom_1"]
    if what != "a click":
        assert made_up == []
    assert len([h for h in hits if h.piece == "kick"]) >= 12
