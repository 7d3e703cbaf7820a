"""A snare weighed a second time, against what the first weighing is sure of."""

from types import SimpleNamespace
from typing import cast

import numpy as np
import pytest
from numpy.typing import NDArray

from arkund.core.hits.choose.again import ENOUGH, HARDLY, LIKE, SURE, with_likeness
from arkund.core.hits.hear.agreed import shaped
from arkund.core.hits.hear.slowed import slowed
from arkund.core.hits.weigh.evidence import NAMES
from arkund.core.hits.weigh.weighing import PLACE, Heard, Weighed

RATE = 48_000
HITS_S, KICKS_S = np.arange(1, 14) * 0.4, np.arange(1, 14) * 0.4 + 0.2
HIDDEN = 6
"""Under this kick lies a hit that the first weighing gives little."""


def _ring(hz: tuple[float, ...]) -> NDArray[np.float64]:
    t = np.arange(round(0.12 * RATE)) / RATE
    out: NDArray[np.float64] = np.exp(-t / 0.03) * sum(np.sin(2 * np.pi * f * t) for f in hz)
    return out


def _heard() -> Heard:
    rng = np.random.default_rng(5)
    sound = 1e-4 * rng.standard_normal(round(6 * RATE))
    snare, kick = _ring((330.0, 870.0, 1900.0)), _ring((95.0, 420.0, 1150.0))
    for at in (*HITS_S, KICKS_S[HIDDEN]):
        sound[round(at * RATE) :][: len(snare)] += 0.2 * 10 ** (rng.normal(0, 1) / 20) * snare
    for at in KICKS_S:
        sound[round(at * RATE) :][: len(kick)] += 0.2 * 10 ** (rng.normal(0, 1) / 20) * kick
    body = shaped(slowed(sound.astype(np.float32), RATE))
    heard = SimpleNamespace(piece="snare", rate=RATE, shaped=body)
    return cast(Heard, heard)


def _found(level_db: float) -> Weighed:
    place = np.sort(np.concatenate([HITS_S, KICKS_S])) * RATE
    rows = np.zeros((len(place), len(NAMES) + len(PLACE)), np.float32)
    return Weighed(place, np.full(len(place), level_db), rows)


def _shares() -> NDArray[np.float64]:
    out = np.tile([SURE + 0.1, HARDLY / 2], len(HITS_S))
    out[2 * HIDDEN + 1] = 0.3
    return out


@pytest.mark.parametrize(("level_db", "kind"), [(0.0, "loud"), (-15.0, "soft")])
def test_what_is_hidden_is_like_the_hits_and_a_kick_is_not(level_db: float, kind: str) -> None:
    found = with_likeness(_heard(), _found(level_db), _shares())
    assert found is not None
    assert found.evidence.shape[1] == len(NAMES) + len(PLACE) + len(LIKE)
    column = {name: found.evidence[:, -len(LIKE) :][:, n] for n, name in enumerate(LIKE)}
    hits, kicks = column[f"like {kind} hits"][::2], column[f"like {kind} hits"][1::2]
    assert hits.min() > 0.95
    assert kicks[HIDDEN] > np.delete(kicks, HIDDEN).max() + 0.2
    bleed = column["like bleed"][1::2]
    assert np.delete(bleed, HIDDEN).min() > 0.95
    assert bleed[HIDDEN] < 0.9
    other = "soft" if kind == "loud" else "loud"
    assert np.isnan(column[f"like {other} hits"]).all()


def test_places_far_from_one_another_have_no_rivals() -> None:
    found = with_likeness(_heard(), _found(0.0), _shares())
    assert found is not None
    for name in ("more like soft by", "more like loud by"):
        assert np.isnan(found.evidence[:, -len(LIKE) + LIKE.index(name)]).all()


def test_without_enough_sure_hits_there_is_no_second_weighing() -> None:
    shares = _shares()
    shares[0 : 2 * (len(HITS_S) - ENOUGH + 1) : 2] = 0.6
    assert with_likeness(_heard(), _found(0.0), shares) is None
    shares[0] = SURE
    assert with_likeness(_heard(), _found(0.0), shares) is not None
