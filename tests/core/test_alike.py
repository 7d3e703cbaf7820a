"""Tom hits that are found because they sound as known ones do, and bleed that is not."""

import numpy as np
import pytest
from numpy.typing import NDArray

from arkund.core.hits.choose.alike import with_alike
from arkund.core.hits.hit import Hit, hit_id

RATE = 48000
TOM, KICK = 0, 1
OWN = {"tom_1": [TOM], "kick": [KICK]}


def _drum(hz: float, decay_s: float) -> NDArray[np.float64]:
    t = np.arange(RATE // 2) / RATE
    return np.sin(2 * np.pi * hz * t) * np.exp(-t / decay_s) * np.minimum(t / 0.0004, 1.0)


def _mics(
    toms: list[float], kicks: list[float], tom_bleed: float = 0.2, kick_bleed: float = 0.2
) -> list[NDArray[np.float32]]:
    """A tom's mic and a kick's, each hearing the other drum 1.2 ms later."""
    rng = np.random.default_rng(3)
    out = [0.001 * rng.standard_normal(RATE * 14) for _ in range(2)]
    for times, one, levels in (
        (toms, _drum(140, 0.2), (1.0, tom_bleed)),
        (kicks, _drum(58, 0.1), (kick_bleed, 1.0)),
    ):
        for at in times:
            gain = rng.uniform(0.6, 1.0)
            for mic, level in enumerate(levels):
                first = round((at + (0.0012 if level < 1 else 0.0)) * RATE)
                out[mic][first : first + len(one)] += gain * level * one
    return [x.astype(np.float32) for x in out]


def _hits(piece: str, times: list[float], sure: float = 0.95) -> list[Hit]:
    return [Hit(hit_id(piece, t), piece, t, 100, "plain", sure, 0.0) for t in times]


KICKS = [0.5 + n for n in range(12)]


def test_a_fill_that_rings_on_and_a_hit_under_a_kick_are_found() -> None:
    fill = [3.25, 3.40, 3.55, 8.5]
    known = [6.2, 7.3, 9.25]
    mics = _mics(fill + known, KICKS)
    found = with_alike([*_hits("kick", KICKS), *_hits("tom_1", known)], OWN, mics, RATE)
    new = [h.time_s for h in found if h.piece == "tom_1" and h.confidence < 0.9]
    assert new == pytest.approx(fill, abs=0.002)
    assert [h for h in found if h.piece == "kick"] == _hits("kick", KICKS)
    assert found == sorted(found, key=lambda h: (h.time_s, h.piece))


def test_a_tom_of_which_one_hit_is_known_or_none_is_surely_is_left_as_it_is() -> None:
    mics = _mics([2.2, 3.3, 4.4], KICKS)
    for known in (_hits("tom_1", [2.2]), _hits("tom_1", [2.2, 3.3], sure=0.6)):
        assert with_alike(known, OWN, mics, RATE) == known


def test_known_hits_that_are_a_kick_s_bleed_bring_no_others() -> None:
    """The tom rests; two of twelve kicks that its mic hears are listed as its own."""
    mics = _mics([], KICKS, kick_bleed=0.8)
    listed = [*_hits("kick", KICKS), *_hits("tom_1", [KICKS[2] + 0.0012, KICKS[7] + 0.0012])]
    found = with_alike(listed, OWN, mics, RATE)
    assert len([h for h in found if h.piece == "tom_1"]) == 2


def test_softer_than_known_ones_by_much_is_left_to_finer_judgement() -> None:
    mics = _mics([6.2, 7.3, 9.25], KICKS)
    soft = _drum(140, 0.2) * 0.1
    mics[TOM][round(4.2 * RATE) :][: len(soft)] += soft.astype(np.float32)
    known = _hits("tom_1", [6.2, 7.3, 9.25])
    assert with_alike(known, OWN, mics, RATE) == known
