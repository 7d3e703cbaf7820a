"""Takes lined up, clicks followed, first tempo maps, time stamps, what a mic hears."""

import struct
from pathlib import Path

import numpy as np
import pytest
import soundfile as sf

from arkund.core.audio.broadcast import time_reference
from arkund.core.hits.carry import carried
from arkund.core.hits.heard import heard_levels
from arkund.core.hits.hit import Hit, hit_id
from arkund.core.timing.beginning import first_grid
from arkund.core.timing.click import Click, click_of, tick_times
from arkund.core.timing.grid import Change, Grid
from arkund.core.timing.lineup import lag_between

RATE = 48000


def _hit(piece: str, time_s: float, kind: str = "plain") -> Hit:
    return Hit(hit_id(piece, time_s), piece, time_s, 100, kind, 1.0, 0.0)


def _song(
    rng: np.random.Generator, late_s: float = 0.0, bpm: float = 120.0, drop: float = 0.0
) -> list[Hit]:
    """Sixteen bars whose kick pattern is not the same in any two, backbeats, a few ms of spread."""
    pattern = np.random.default_rng(77)
    hits = []
    for bar in range(16):
        for step in range(16):
            at = (bar * 4 + step / 4) * 60 / bpm
            piece = "snare" if step in (4, 12) else "kick"
            if piece == "kick" and step and pattern.random() > 0.25:
                continue
            if rng.random() >= drop:
                hits.append(_hit(piece, at + late_s + rng.normal(0, 0.004)))
    return hits


@pytest.mark.parametrize("late_s", [2.371, -1.25, 31.0])
def test_a_take_that_begins_elsewhere_is_found_within_its_spread(late_s: float) -> None:
    rng = np.random.default_rng(3)
    lag = lag_between(_song(rng, 40.0), _song(rng, 40.0 + late_s, drop=0.1))
    assert lag == pytest.approx(late_s, abs=0.003)


def test_takes_on_one_line_stay_there() -> None:
    rng = np.random.default_rng(4)
    assert lag_between(_song(rng), _song(rng, 0.006)) == 0.0


def test_takes_of_another_tempo_are_lined_up_at_their_beginning() -> None:
    rng = np.random.default_rng(5)
    lag = lag_between(_song(rng), _song(rng, 3.0, bpm=119.85))
    assert lag == pytest.approx(3.0, abs=0.03)


def test_strangers_and_silence_are_not_lined_up() -> None:
    rng = np.random.default_rng(6)
    strangers = [_hit("kick", float(t)) for t in np.sort(rng.uniform(0, 30, 60))]
    assert lag_between(_song(rng), strangers) is None
    assert lag_between(_song(rng), []) is None


def _click(times: np.ndarray, accents: int = 4, seconds: float = 40.0) -> np.ndarray:
    out = np.random.default_rng(1).normal(0, 1e-4, round(seconds * RATE))
    n = np.arange(round(0.02 * RATE))
    tick = np.sin(2 * np.pi * 1500 * n / RATE) * np.exp(-n / (0.004 * RATE))
    for number, t in enumerate(times):
        at = round(t * RATE)
        out[at : at + len(n)] += tick * (0.6 if accents and number % accents == 0 else 0.3)
    return out.astype(np.float32)


def _to_click(times: np.ndarray, spread_s: float, lead: int = 4) -> list[Hit]:
    rng = np.random.default_rng(2)
    pieces = ("kick", "snare", "kick", "snare")
    return [_hit(pieces[n % 4], t + rng.normal(0, spread_s)) for n, t in enumerate(times[lead:])]


def _found(audio: np.ndarray, hits: list[Hit]) -> Click:
    found = click_of(audio, RATE, hits, 4, 4)
    assert found is not None
    return found


def test_a_steady_click_gives_tempo_and_bar_1_after_its_count() -> None:
    times = 0.75 + np.arange(64) * 60 / 113.5
    found = _found(_click(times), _to_click(times, 0.006))
    assert found.played_to
    assert found.grid.bpm == pytest.approx(113.5, abs=0.01)
    assert found.grid.first_downbeat_s == pytest.approx(times[4], abs=0.001)
    assert found.grid.changes == ()
    assert len(tick_times(_click(times), RATE)) == 64


def test_ticks_that_dropped_out_and_missing_accents_do_not_matter() -> None:
    times = 0.5 + np.arange(64) * 0.5
    found = _found(_click(np.delete(times, [9, 10, 30]), accents=0), _to_click(times, 0.006))
    assert found.grid.bpm == pytest.approx(120, abs=0.01)
    assert found.grid.first_downbeat_s == pytest.approx(times[4], abs=0.001)


def test_a_click_that_changes_is_followed_bar_by_bar() -> None:
    gaps = np.repeat([0.5, 0.45], 32)
    times = 0.5 + np.concatenate([[0.0], np.cumsum(gaps)[:-1]])
    found = _found(_click(times), _to_click(times, 0.005))
    assert found.played_to
    assert found.grid.bpm == pytest.approx(120, abs=0.1)
    assert found.grid.bpm_at(10) == pytest.approx(60 / 0.45, abs=0.1)
    assert found.grid.bar_start_s(8) == pytest.approx(times[32], abs=0.002)


def test_a_click_nobody_played_to_is_told_and_noise_is_none() -> None:
    times = 0.5 + np.arange(60) * 0.5
    found = _found(_click(times), _to_click(0.5 + np.arange(60) * 0.5237, 0.006))
    assert not found.played_to
    assert found.share < 0.7
    rng = np.random.default_rng(9)
    assert (
        click_of((rng.standard_normal(RATE * 20) * 0.1).astype(np.float32), RATE, [], 4, 4) is None
    )
    assert click_of(np.zeros(RATE * 20, np.float32), RATE, [], 4, 4) is None


def test_what_is_given_of_a_tempo_is_not_estimated() -> None:
    hits = _song(np.random.default_rng(8), 1.0, bpm=97.0)
    assert first_grid(hits, 4, 4).bpm == pytest.approx(97.0, rel=0.002)
    assert first_grid(hits, 4, 4).first_downbeat_s == pytest.approx(1.0, abs=0.02)
    assert first_grid(hits, 4, 4, 90.0, 0.25) == Grid(90.0, 4, 4, 0.25)
    assert first_grid([], 3, 4) == Grid(120.0, 3, 4)
    assert Change(2, 100.0) not in first_grid(hits, 4, 4).changes


def _bext(samples: int) -> bytes:
    body = bytes(338) + struct.pack("<II", samples & 0xFFFFFFFF, samples >> 32) + bytes(256)
    return b"bext" + struct.pack("<I", len(body)) + body


@pytest.mark.parametrize("samples", [123_456_789, 5_000_000_000, 0])
def test_the_time_stamp_of_a_broadcast_wave_is_read(tmp_path: Path, samples: int) -> None:
    path = tmp_path / "a.wav"
    sf.write(str(path), np.zeros(100), RATE, subtype="PCM_24")
    assert time_reference(path) is None
    plain = path.read_bytes()
    for stamped in (plain[:12] + _bext(samples) + plain[12:], plain + _bext(samples)):
        path.write_bytes(stamped)
        assert time_reference(path) == (samples or None)
    path.write_bytes(plain[:12] + _bext(samples)[:200])
    assert time_reference(path) is None
    path.write_bytes(b"no sound at all")
    assert time_reference(path) is None


def test_a_mic_is_heard_at_hits_that_are_alone() -> None:
    audio = np.zeros(10 * RATE, np.float32)
    hits = []
    for n in range(8):
        for piece, at, level in (("snare", n + 0.5, 0.5), ("kick", n + 1.0, 0.1)):
            hits.append(_hit(piece, at))
            audio[round(at * RATE) + 20] = level
    # A hat on every snare is no company; a tom on every kick but two is.
    hits += [_hit("hat", n + 0.5) for n in range(8)] + [_hit("tom_1", n + 1.01) for n in range(6)]
    assert heard_levels(audio, RATE, hits) == {"snare": pytest.approx(-6.0, abs=0.1)}
    alone = [h for h in hits if h.piece != "tom_1"]
    assert heard_levels(audio, RATE, alone)["kick"] == pytest.approx(-20.0, abs=0.1)


def test_what_was_said_of_hits_is_carried_to_those_found_anew() -> None:
    old = [_hit("hat", 1.0), _hit("hat", 2.0), _hit("snare", 3.0), _hit("hat", 4.0)]
    new = [_hit("ride", 1.002), _hit("ride", 2.02), _hit("snare", 3.0), _hit("ride", 4.0)]
    ids = [h.id for h in old] + ["by ear"]
    assert carried(ids, old, new, {"hat": "ride"}) == {
        old[0].id: new[0].id,
        old[2].id: old[2].id,
        old[3].id: new[3].id,
        "by ear": "by ear",
    }
