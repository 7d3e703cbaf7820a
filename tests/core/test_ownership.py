"""Signatures, predicted bleed and masked hits, on events and sounds made for the purpose."""

from typing import Any

import numpy as np
import pytest
from numpy.typing import NDArray

from arkund.core.hits.explain import signatures
from arkund.core.hits.explain.ownership import Events, Signatures, standing
from arkund.core.hits.explain.signatures import learn_signatures
from arkund.core.hits.hear.arrival import first_arrival
from arkund.core.hits.hear.leading import Onsets
from arkund.core.hits.hear.masked import by_shape, own_places, shape_here, shared_beginning
from arkund.core.hits.hear.novelty import BANDS
from arkund.core.hits.hear.slowed import slowed
from arkund.core.hits.listening import listen
from arkund.core.simulate.session import Session
from tests.played import FAST, LONG, SWUNG, Played, Song

RATE, HOP = 48000, 48

# Two mics, one at a snare and one at a hat; a row is a band of a mic.
SNARE = np.array([0.5, 1.0, 1.0, 0.6, 0.5, 0.4, 1e-3, 3e-3, 5e-3, 2e-2, 2e-2, 1e-2])
HAT = np.array([1e-5, 1e-5, 1e-4, 2e-2, 3e-2, 3e-2, 1e-3, 1e-3, 1e-2, 1.0, 1.0, 1.0])
OWN = {"snare": [0], "hat": [1]}


def _db(ratio: NDArray[np.float64] | float) -> NDArray[np.float64]:
    return 10 * np.log10(ratio)


def _events(snare: NDArray[np.float64], hat: NDArray[np.float64], seed: int) -> Events:
    """What the mics hear of so much of each; no two hits have quite the same colour."""
    rng = np.random.default_rng(seed)
    colour = 10 ** (rng.normal(0, 1.2, (2, 2 * BANDS, len(snare))) / 10)
    started = SNARE[:, None] * colour[0] * snare + HAT[:, None] * colour[1] * hat + 1e-7
    return Events(started, np.full(started.shape, 1e-7))


def _onsets(amounts: NDArray[np.float64], seed: int = 4) -> Onsets:
    """How the mics hear events of so much of each piece begin: bleed takes a millisecond and a
    half, hands differ by some ms."""
    rng = np.random.default_rng(seed)
    struck = amounts > 0
    own = 1000 + np.where(struck, rng.normal(0, 150, amounts.shape), np.inf)
    at = np.stack(
        [
            np.minimum(
                own[mic],
                np.delete(own, mic, axis=0).min(axis=0) + 72 + rng.normal(0, 3, len(own[mic])),
            )
            for mic in range(len(own))
        ]
    )
    sharp = np.where(np.isfinite(at), 1e4, 1.0)
    return Onsets(np.where(np.isfinite(at), at, 1000.0), np.maximum(amounts, 0.1), sharp, RATE)


def _learned(seed: int) -> Signatures:
    snare, hat = _shuffle()
    return learn_signatures(_events(snare, hat, seed), OWN, [], _onsets(np.stack([snare, hat])))


def _shuffle(seed: int = 5) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Amounts of a bar of eight, many times: the hat always, the snare loud, soft or not at all."""
    rng = np.random.default_rng(seed)
    pattern = np.tile([0.0, 0.02, 1.0, 0.02, 0.0, 0.02, 1.0, 0.02], 30)
    level = 10 ** (rng.normal(0, 1.5, (2, len(pattern))) / 10)
    return pattern * level[0], level[1]


def test_a_leak_is_learned_although_ghosts_lie_on_most_of_the_hits() -> None:
    """Four of six quiet hat hits carry a ghost: a median would take the ghosts for bleed."""
    found = _learned(seed=6)
    hat = found.matrix[:, found.pieces.index("hat")] * found.scale
    leak = _db(hat[:3] / hat[9])
    assert leak.max() < _db(0.02) - 6, "what a ghost holds in the drum's low bands is no bleed"
    assert _db(hat[3] / hat[9]) == pytest.approx(_db(HAT[3]), abs=2.5)


def test_ghosts_exceed_predicted_bleed_and_hats_alone_do_not() -> None:
    snare, hat = _shuffle()
    events = _events(snare, hat, seed=7)
    found = _learned(seed=7)
    it = standing(events, found, found.pieces.index("snare"))
    ghosts, nothing = (snare > 0) & (snare < 0.1), snare == 0
    assert np.mean(it.excess_db[ghosts] > 3) > 0.95
    assert np.mean(it.excess_db[nothing] > 3) < 0.05


def test_a_leak_known_from_few_hits_counts_for_less() -> None:
    snare, hat = _shuffle()
    events = _events(snare, hat, seed=8)
    found = _learned(seed=8)
    known = standing(events, found, 0).excess_db
    unsure = type(found)(
        found.pieces,
        found.matrix,
        found.scale,
        found.own_rows,
        np.ones(2, np.int64),
        found.ways_s,
        found.spread,
    )
    less = standing(events, unsure, 0).excess_db
    soft = (snare > 0) & (snare < 0.1)
    assert np.all(less <= known + 1e-9)
    assert np.median((known - less)[soft]) > 1


def test_what_fills_only_some_bands_of_a_mic_is_another_piece() -> None:
    """A snare that always falls with a hat fills the kick's one mic in its upper bands only."""
    kick = np.array([1.0, 1.0, 0.6, 0.1, 0.05, 0.03])
    in_kick_mic = np.array([0.002, 0.05, 0.6, 0.3, 0.3, 0.2])
    rng = np.random.default_rng(9)
    beats = np.arange(120) % 4
    k, s = np.isin(beats, [0, 2]).astype(float), (beats == 3).astype(float)
    colour = 10 ** (rng.normal(0, 1.0, (2, 2 * BANDS, len(beats))) / 10)
    a_kick, a_snare = (
        np.concatenate([kick, kick * 1e-3]),
        np.concatenate([in_kick_mic, np.ones(BANDS)]),
    )
    started = a_kick[:, None] * colour[0] * k + a_snare[:, None] * colour[1] * s + 1e-6
    events = Events(started, np.full(started.shape, 1e-6))
    found = learn_signatures(events, {"kick": [0], "snare": [1]}, [], _onsets(np.stack([k, s])))
    it = standing(events, found, found.pieces.index("kick"))
    assert it.excess_db[k > 0].min() > 10
    assert np.percentile(it.excess_db[s > 0], 90) < 3


def _drum(hz: float, seconds: float, amount: float) -> NDArray[np.float64]:
    t = np.arange(round(0.25 * RATE)) / RATE
    modes = sum(np.sin(2 * np.pi * hz * r * t) / r for r in (1.0, 1.6, 2.3, 3.6))
    return np.asarray(amount * modes * np.exp(-t / seconds))


def _masked_take(lead_s: float) -> tuple[NDArray[np.float32], list[int]]:
    """Ten loud hits, then ten soft ones, each ``lead_s`` after a hat that is brighter."""
    rng = np.random.default_rng(3)
    sound = rng.standard_normal(RATE * 6) * 1e-5
    places = [round((0.2 + 0.27 * n) * RATE) for n in range(20)]
    for n, at in enumerate(places):
        hit = _drum(180, 0.05, 0.5 if n < 10 else 0.04)
        sound[at : at + len(hit)] += hit
        if n >= 10:
            hat = rng.standard_normal(2400) * np.exp(-np.arange(2400) / 700)
            bright = 0.05 * np.diff(hat, n=3, prepend=[0, 0, 0]) / 6
            begin = at - round(lead_s * RATE)
            sound[begin : begin + len(bright)] += bright
    return sound.astype(np.float32), places


ALIKE = 0.77
"""A drum's own hits are as much alike; another's are not."""

CLEAR = np.array([20.0] * 10 + [0.0] * 10)


@pytest.mark.parametrize("lead_s", [0.005, 0.008, 0.012])
def test_a_ghost_under_an_earlier_hat_is_timed_by_its_own_onset(lead_s: float) -> None:
    sound, places = _masked_take(lead_s)
    frames = [round((p / RATE - (lead_s if n >= 10 else 0)) * 1000) for n, p in enumerate(places)]
    plain = [first_arrival(sound, (f - 7) * HOP, (f + 4) * HOP) for f in frames]
    caught = np.array(plain[10:]) - places[10:]
    assert np.median(caught) < -0.7 * lead_s * RATE, "the hat is what the whole sound shows first"
    beginning = shared_beginning(slowed(sound, RATE), plain, CLEAR)
    assert beginning is not None
    timed = own_places(beginning, np.array(frames) * HOP, np.array(plain), RATE)
    assert np.abs(timed - places).max() < 0.001 * RATE


def test_more_of_a_drum_s_shape_is_where_its_ghost_begins_than_where_the_hat_does() -> None:
    lead_s = 0.008
    sound, places = _masked_take(lead_s)
    beginning = shared_beginning(slowed(sound, RATE), [float(p) for p in places], CLEAR)
    assert beginning is not None
    ghosts = np.array(places[10:], np.float64)
    hats = ghosts - lead_s * RATE
    (there, much_db), (before, little_db) = (
        shape_here(beginning, at, RATE) for at in (ghosts, hats)
    )
    assert (there > before).all()
    assert much_db == pytest.approx(0, abs=0.2)
    assert np.median(little_db) < -6
    outside = shape_here(beginning, np.array([-5000.0, len(sound) + 5000.0]), RATE)
    assert np.isnan(outside).all()


def test_a_ghost_is_told_by_its_shape_and_a_hat_alone_is_not() -> None:
    sound, places = _masked_take(0.007)
    plain = [float(p) for p in places]
    beginning = shared_beginning(slowed(sound, RATE), plain, CLEAR)
    assert beginning is not None
    ghosts = np.array(places[10:])
    told, alike = by_shape(beginning, ghosts - round(0.007 * RATE), RATE)
    assert alike.min() > ALIKE
    assert np.abs(told - ghosts).max() < 0.001 * RATE
    rng = np.random.default_rng(4)
    alone = sound.copy()
    for place in places[10:]:
        hat = 0.05 * rng.standard_normal(2400) * np.exp(-np.arange(2400) / 700)
        alone[place - 400 : place + 12000] = 1e-5 * rng.standard_normal(12400)
        alone[place : place + 2400] += np.diff(hat, n=3, prepend=[0, 0, 0]) / 6
    quiet = shared_beginning(slowed(alone.astype(np.float32), RATE), plain, CLEAR)
    assert quiet is not None
    assert by_shape(quiet, ghosts, RATE)[1].max() < ALIKE


def test_hits_that_stand_alone_stay_where_they_were_seen() -> None:
    """A long ring repeats its shape every period and grows no second hit."""
    sound = np.zeros(RATE * 4)
    places = [round((0.2 + 0.3 * n) * RATE) for n in range(12)]
    for n, at in enumerate(places):
        hit = _drum(66, 0.15, 0.5 - 0.02 * n)
        sound[at : at + len(hit)] += hit
    plain = [float(p) for p in places]
    beginning = shared_beginning(slowed(sound.astype(np.float32), RATE), plain, np.full(12, 30.0))
    assert beginning is not None
    assert own_places(beginning, np.array(places), np.array(plain), RATE).tolist() == plain


def test_a_ring_that_swells_is_not_taken_for_the_hit() -> None:
    """A felt beater: the second period is louder than the first, which a hat 5 ms before hides."""
    sound = np.random.default_rng(8).standard_normal(RATE * 5) * 1e-5
    places = [round((0.2 + 0.3 * n) * RATE) for n in range(14)]
    swell = 1 - np.exp(-np.arange(RATE) / (0.02 * RATE))
    for at in places:
        hit = _drum(62, 0.3, 0.4)
        hit = hit * swell[: len(hit)]
        sound[at : at + len(hit)] += hit[: len(sound) - at]
    plain = [p - (0.005 * RATE if n >= 8 else 0.0) for n, p in enumerate(places)]
    clear = np.array([20.0] * 8 + [0.0] * 6)
    beginning = shared_beginning(slowed(sound.astype(np.float32), RATE), plain, clear)
    assert beginning is not None
    seen = np.array(plain[8:])
    at = own_places(beginning, np.round(seen).astype(np.int64), seen, RATE)
    assert np.abs(at - places[8:]).max() < 0.001 * RATE


def test_another_drum_in_the_same_mic_begins_otherwise() -> None:
    """A kick and a higher tom that bleed into a tom's mic are told from its own hits."""
    rng = np.random.default_rng(12)
    sound = rng.standard_normal(RATE * 8) * 1e-5
    places = [round((0.2 + 0.3 * n) * RATE) for n in range(24)]
    for n, at in enumerate(places):
        hz = 140 if n < 12 else (62 if n % 2 else 205)
        hit = _drum(hz, 0.12, 0.4 if n < 12 else 0.1)
        sound[at : at + len(hit)] += hit[: len(sound) - at]
    plain = [float(p) for p in places[:12]]
    beginning = shared_beginning(slowed(sound.astype(np.float32), RATE), plain, np.full(12, 20.0))
    assert beginning is not None
    _, alike = by_shape(beginning, np.array(places), RATE)
    assert alike[:12].min() > 0.95
    assert alike[12:].max() < ALIKE + 0.05


def test_too_few_hits_share_no_shape() -> None:
    sound, places = _masked_take(0.006)
    assert (
        shared_beginning(slowed(sound, RATE), [float(p) for p in places[:4]], np.full(4, 30.0))
        is None
    )
    assert shared_beginning(slowed(sound, RATE), [], np.zeros(0)) is None


def test_near_the_edges_of_the_sound_nothing_is_told() -> None:
    sound, places = _masked_take(0.006)
    beginning = shared_beginning(slowed(sound, RATE), [float(p) for p in places], CLEAR)
    assert beginning is not None
    outside = np.array([len(sound) + RATE])
    assert np.isnan(by_shape(beginning, outside, RATE)[1]).all()
    plain = np.array([len(sound) + 5.0])
    assert own_places(beginning, outside, plain, RATE).tolist() == plain.tolist()


@pytest.mark.parametrize(
    ("song", "piece", "least"),
    [
        (SWUNG, "snare", 0.95),
        (("hush", 77, 6), "kick", 0.9),
        (FAST, "kick", 0.97),
        (LONG, "tom_1", 0.85),
    ],
)
def test_hard_kits_are_heard(played: Played, song: Song, piece: str, least: float) -> None:
    """Ghosts none of which stands clear of the hat (a third of them lie under
    kick and hat at once), a kick without a mic inside it, a double kick,
    toms that are rare."""
    found = [h.time_s for h in played.facts(song).hits if h.piece == piece]
    true = [h["time_s"] for h in played.session(song).truth["hits"] if h["piece"] == piece]
    free, matched = list(found), 0
    for t in true:
        near = min(free, key=lambda f: abs(f - t), default=None)
        if near is not None and abs(near - t) <= 0.005:
            free.remove(near)
            matched += 1
    assert 2 * matched / (len(true) + len(found)) >= least


def test_a_snare_that_never_falls_alone_does_not_take_the_kicks_for_itself() -> None:
    """Kicks in sixteenths, every eighth with a snare, whose mic is full of them and now and then hears
    their slow attack first. Nothing is learned, unless it is known that they are no snares."""
    rng, count = np.random.default_rng(3), 320
    in_snare = 0.9 * np.array([0.5, 0.9, 0.9, 0.8, 0.5, 0.3])
    a_kick = np.concatenate([[1.0, 0.8, 0.3, 0.1, 0.05, 0.02], in_snare])
    a_snare = np.array([1e-3, 3e-3, 4e-3, 6e-3, 4e-3, 3e-3, 0.2, 0.8, 1.0, 1.0, 0.7, 0.4])
    level = 10 ** (rng.normal(0, 1.0, (2, count)) / 10)
    kick, snare = level[0], np.where(np.arange(count) % 8 == 0, level[1], 0.0)
    colour = 10 ** (rng.normal(0, 0.8, (2, 2 * BANDS, count)) / 10)
    started = a_kick[:, None] * colour[0] * kick + a_snare[:, None] * colour[1] * snare + 1e-6
    events = Events(started, np.full(started.shape, 1e-6))
    at = 1000 + rng.normal(0, 40, count)
    ahead = np.where(rng.random(count) < 0.3, -29, 40)
    begins = Onsets(
        np.stack([at, at + ahead]),
        np.stack([kick, 0.54 * kick + snare]),
        np.full((2, count), 100.0),
        RATE,
    )
    own = {"kick": [0], "snare": [1]}
    alone = learn_signatures(events, own, [], begins)
    told = learn_signatures(events, own, [], begins, {"snare": snare == 0})
    assert alone.hits[alone.pieces.index("kick")] == 0
    assert told.hits[told.pieces.index("kick")] == count


def test_a_drum_that_overheads_know_is_struck_whatever_explains_it(
    session: Session, monkeypatch: pytest.MonkeyPatch
) -> None:
    """As where bleed is so loud that another drum's signature takes all of a snare's mic."""
    struck = signatures.who_is_struck

    def without_snare(*args: Any) -> dict[str, Any]:
        return {p: events for p, events in struck(*args).items() if p != "snare"}

    monkeypatch.setattr(signatures, "who_is_struck", without_snare)
    listened = listen(session.mics, session.rate)
    assert listened is not None
    assert "snare" in listened.signatures.pieces
    close = {m: x for m, x in session.mics.items() if "overhead" not in m}
    alone = listen(close, session.rate)
    assert alone is not None
    assert "snare" not in alone.signatures.pieces
