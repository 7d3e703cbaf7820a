"""Simulation, hits, alignment and gate proposals against the ground truth."""

import numpy as np
import pytest

from arkund.core.advise.study import TakeFacts
from arkund.core.align.takes import align_take
from arkund.core.clean.proposal import propose_gate, separate
from arkund.core.errors import ArkundError
from arkund.core.hits.detect import detect_hits
from arkund.core.hits.hear.arrival import first_arrival
from arkund.core.hits.hit import Hit
from arkund.core.simulate.session import Session, simulate
from tests.played import SHORT, UNEVEN, Played


@pytest.fixture(scope="module")
def hits(facts: TakeFacts) -> list[Hit]:
    return list(facts.hits)


def _score(session: Session, hits: list[Hit], piece: str) -> float:
    true = np.array([h["time_s"] for h in session.truth["hits"] if h["piece"] == piece])
    found = [h.time_s for h in hits if h.piece == piece]
    free = list(found)
    matched = 0
    for t in true:
        near = min(free, key=lambda f: abs(f - t), default=None)
        if near is not None and abs(near - t) <= 0.005:
            free.remove(near)
            matched += 1
    return 2 * matched / (len(true) + len(found))


def test_the_same_seed_gives_the_same_audio(session: Session, played: Played) -> None:
    preset, seed, bars = SHORT
    again, other = simulate(preset, seed, bars=bars).mics, played.session(UNEVEN).mics
    assert all(np.array_equal(again[mic], session.mics[mic]) for mic in again)
    assert not any(np.array_equal(again[mic], other[mic]) for mic in again)


def test_stems_add_up_to_the_mics(session: Session) -> None:
    for mic in ("snare_top", "kick_out"):  # without a planted fault
        total = np.sum(list(session.stems[mic].values()), axis=0)
        assert np.abs(total - session.mics[mic]).max() < 10 ** (-60 / 20)


def test_true_times_are_first_arrivals(session: Session) -> None:
    """The own stem is silent before a hit's time and not after."""
    own = session.stems["tom_1"]["tom_1"]
    first = next(h for h in session.truth["hits"] if h["piece"] == "tom_1")
    at = round(first["time_s"] * session.rate)
    assert np.abs(own[: at - 40]).max() < 1e-4 * np.abs(own).max()
    assert np.abs(own[at : at + 200]).max() > 0.05 * np.abs(own).max()


def test_bleed_is_honest(session: Session) -> None:
    snare = session.stems["snare_top"]
    own, kick = np.abs(snare["snare"]).max(), np.abs(snare["kick"]).max()
    assert 10 < 20 * np.log10(own / kick) < 30


def test_an_unknown_preset_is_named() -> None:
    with pytest.raises(ArkundError, match="copper"):
        simulate("nothing", 1)


@pytest.mark.parametrize(("piece", "least"), [("kick", 0.97), ("snare", 0.93)])
def test_hits_are_found_and_owned(
    session: Session, hits: list[Hit], piece: str, least: float
) -> None:
    assert _score(session, hits, piece) >= least


def test_times_are_first_arrivals(session: Session, hits: list[Hit]) -> None:
    true = [h for h in session.truth["hits"] if h["piece"] in ("kick", "snare")]
    errors = []
    for h in true:
        near = min(
            (f.time_s for f in hits if f.piece == h["piece"]), key=lambda t: abs(t - h["time_s"])
        )
        if abs(near - h["time_s"]) < 0.005:
            errors.append(abs(near - h["time_s"]) * 1000)
    assert np.median(errors) <= 0.3
    assert np.percentile(errors, 90) <= 1.5


def test_ghosts_are_told_from_accents(session: Session, hits: list[Hit]) -> None:
    snare = [h for h in hits if h.piece == "snare"]
    soft = [h.velocity for h in snare if h.kind == "ghost"]
    loud = [h.velocity for h in snare if h.kind == "accent"]
    assert len(soft) >= 8
    assert max(soft) < min(loud)


def test_a_mic_that_hears_only_bleed_has_no_hits(session: Session) -> None:
    mics = {m: s for m, s in session.mics.items() if m != "tom_1"}
    bleed = session.mics["tom_1"] - session.stems["tom_1"]["tom_1"]
    found = detect_hits(mics | {"tom_1": bleed}, session.rate)
    assert not [h for h in found if h.piece == "tom_1"]


@pytest.mark.parametrize("mics", [{}, {"snare_top": np.zeros(48000, np.float32)}])
def test_nothing_played_gives_no_hits(mics: dict[str, np.ndarray]) -> None:
    assert detect_hits(mics, 48000) == []


def test_one_hit_alone_does_not_break_it() -> None:
    sound = np.random.default_rng(1).standard_normal(48000).astype(np.float32) * 1e-4
    sound[20000:21000] += np.hanning(2000)[1000:].astype(np.float32) * 0.5
    found = detect_hits({"snare_top": sound}, 48000)
    assert len(found) <= 1


def test_the_foot_of_a_rise_is_found_to_a_sample() -> None:
    rng = np.random.default_rng(2)
    sound = rng.standard_normal(4000).astype(np.float32) * 1e-4
    sound[2000:] += (0.3 * np.sin(0.3 * np.arange(2000)) * np.exp(-np.arange(2000) / 500)).astype(
        np.float32
    )
    assert first_arrival(sound, 1700, 2200) == pytest.approx(2000, abs=2)


def test_delays_and_polarities(session: Session, hits: list[Hit]) -> None:
    truth = {(p["piece"], p["mic"], p["reference"]): p for p in session.truth["pairs"]}
    pairs = align_take(session.mics, hits, session.rate)
    sure = [p for p in pairs if p.sure]
    assert len(sure) >= 8
    for pair in sure:
        wanted = truth[pair.piece, pair.mic, pair.reference]
        assert pair.polarity == wanted["polarity"], (pair.mic, pair.reference)
        assert abs(pair.delay_samples - wanted["delay_samples"]) <= 5, (pair.mic, pair.reference)
    kick = next(p for p in pairs if p.mic == "kick_out" and p.reference == "kick_in")
    assert kick.delay_samples == pytest.approx(
        truth["kick", "kick_out", "kick_in"]["delay_samples"], abs=1
    )
    assert kick.lags.shape == kick.curve.shape


def test_gate_stands_between_bleed_and_hits(session: Session, hits: list[Hit]) -> None:
    mic = session.mics["kick_in"]
    found = separate(mic, session.rate, "kick", hits)
    proposal = propose_gate(mic, session.rate, "kick", hits)
    assert (
        np.percentile(found.bleed_db, 98) < proposal.threshold_db < np.percentile(found.hits_db, 5)
    )
    assert not proposal.doubtful


def test_a_ring_that_bleed_hides_is_taken_to_go_on_as_it_begins() -> None:
    """A drum that falls by 60 dB in 0.4 s, struck every second, and one 14 dB under it in between."""
    rate = 48_000
    t = np.arange(rate // 2) / rate
    ring = (np.sin(2 * np.pi * 90 * t) * 10 ** (-60 * t / 0.4 / 20)).astype(np.float32)
    clean = np.zeros(20 * rate, np.float32)
    hits = []
    for n in range(19):
        at = round((n + 0.5) * rate)
        clean[at : at + len(ring)] += ring
        hits.append(Hit(f"k{n}", "kick", at / rate, 112, "accent", 0.99, 0.0))
    full = clean.copy()
    for n in range(19):
        for late in (0.16, 0.32, 0.5, 0.66, 0.82):
            at = round((n + 0.5 + late) * rate)
            full[at : at + len(ring)] += 0.2 * ring[: len(full) - at]
            hits.append(Hit(f"s{n}{late}", "snare", at / rate, 112, "accent", 0.99, 0.0))
    alone = [h for h in hits if h.piece == "kick"]
    free, hidden = propose_gate(clean, rate, "kick", alone), propose_gate(full, rate, "kick", hits)
    assert free.hold_ms + free.release_ms == pytest.approx(200, abs=30)
    assert hidden.hold_ms + hidden.release_ms == pytest.approx(200, abs=40)


def test_no_hit_no_proposal(session: Session) -> None:
    proposal = propose_gate(session.mics["tom_2"], session.rate, "tom_2", [])
    assert proposal.doubtful
    assert "nothing is proposed" in proposal.reason
