"""Pairs of mics on one drum on the card: how far apart they stand, and their low end together."""

import numpy as np
import pytest

from arkund.core.advise.align import shifts, solved
from arkund.core.advise.align.in_step import pair_figures
from arkund.core.advise.align.solved import solution
from arkund.core.advise.goal import Figure
from arkund.core.advise.school import SCHOOLS
from arkund.core.advise.study import Study
from arkund.core.units import samples_to_ms


def _by_name(study: Study) -> dict[str, Figure]:
    return {f.name: f for f in pair_figures(study)}


def _pair(study: Study) -> tuple[str, float]:
    """The snare's pair, by its figure's name, and its delay in samples."""
    pair = next(
        p for p in study.facts.pairs if (p.mic, p.reference) == ("snare_bottom", "snare_top")
    )
    assert pair.sure
    return "snare bottom and top", pair.delay_samples


def test_untouched_nothing_is_missed(study: Study) -> None:
    found = _by_name(study)
    assert {"kick out and in apart", "snare bottom and top apart"} <= set(found)
    assert all(f.gained == 0 and f.missing() <= 0 for f in found.values())


@pytest.mark.parametrize("samples", [-120.0, 60.0])
def test_a_drums_mics_pulled_apart_are_named_in_ms(study: Study, samples: float) -> None:
    name, delay = _pair(study)
    found = _by_name(study.tried({"mics.snare_bottom.delay_samples": samples}))[f"{name} apart"]
    assert found.now == pytest.approx(samples_to_ms(abs(delay + samples), study.rate), abs=0.01)
    assert found.missing() > 0.5


def test_shifted_as_a_body_nothing_changes(study: Study) -> None:
    both = {f"mics.{m}.delay_samples": 40.0 for m in ("snare_bottom", "snare_top")}
    name, _ = _pair(study)
    assert _by_name(study.tried(both))[f"{name} apart"].gained == pytest.approx(0.0)


def test_the_solution_brings_pairs_into_step(study: Study) -> None:
    shifts = solution(study, "overheads").shifts
    solved = study.tried({f"mics.{m}.delay_samples": round(s, 1) for m, s in shifts.items()})
    assert all(f.missing() <= 0 for f in pair_figures(solved) if f.unit == "ms")


def test_a_mic_turned_over_takes_the_low_end_away(study: Study) -> None:
    name, _ = _pair(study)
    key = f"{name}, low end together"
    sign = study.sheet.mics["snare_bottom"].polarity
    was = _by_name(study)[key]
    now = _by_name(study.tried({"mics.snare_bottom.polarity": -sign}))[key]
    assert abs(now.now - was.now) > 3
    assert now.wanted == -0.5


def test_a_pair_of_rooms_is_drawn_in_as_one(study: Study, monkeypatch: pytest.MonkeyPatch) -> None:
    """By as much as the one that is behind least: neither comes before the overheads."""
    rooms = study.with_role("room")
    assert len(rooms) == 2
    behind = dict(zip(rooms, [(410.0, 0.9), (385.0, 0.8)], strict=True))
    monkeypatch.setattr(solved, "behind_overheads", lambda study, mic: behind.get(mic))
    for mic in rooms:
        (found,) = shifts._room(study, mic, SCHOOLS["tight"])
        assert found.proposal == {f"mics.{mic}.delay_samples": -385.0}
    del behind[rooms[0]]
    (found,) = shifts._room(study, rooms[0], SCHOOLS["tight"])
    assert found.proposal == {f"mics.{rooms[0]}.delay_samples": -385.0}


@pytest.mark.parametrize("seed", range(6))
@pytest.mark.parametrize("alignment", ["overheads", "pairs"])
def test_the_same_solution_comes_out_whatever_was_done_before(
    study: Study, seed: int, alignment: str
) -> None:
    """Mics flipped, shifted, muted and pulled down at random: the sound as recorded decides."""
    rng = np.random.default_rng(seed)
    patch: dict[str, object] = {}
    for mic in rng.choice(study.mics, 6, replace=False):
        is_held = alignment == "overheads" and mic in study.with_role("overhead")
        if not is_held:
            patch[f"mics.{mic}.delay_samples"] = round(float(rng.uniform(-200, 200)), 1)
        patch[f"mics.{mic}.polarity"] = int(rng.choice([-1, 1]))
        patch[f"mics.{mic}.mute"] = bool(rng.random() < 0.3)
        patch[f"mics.{mic}.fader_db"] = round(float(rng.uniform(-20, 6)), 1)
    assert solution(study.tried(patch), alignment).shifts == solution(study, alignment).shifts
