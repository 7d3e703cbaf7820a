"""Ear drills: the staircase and its threshold on simulated listeners, and what each question changes."""

import itertools

import numpy as np
import pytest

from arkund.core.advise.study import Study
from arkund.core.ears.skills import SKILLS, Question, skill_named
from arkund.core.ears.staircase import (
    FEWEST,
    Range,
    Trial,
    chance,
    next_size,
    scale_at,
    threshold_of,
)
from arkund.core.errors import ArkundError

WITHIN = Range(6.0, 0.1, 12.0)


def _trials(*answers: tuple[float, bool]) -> list[Trial]:
    return [Trial(size, right) for size, right in answers]


def test_two_right_answers_make_it_smaller_and_a_wrong_one_larger() -> None:
    assert next_size([], WITHIN) == 6.0
    assert next_size(_trials((6, True)), WITHIN) == 6.0
    assert next_size(_trials((6, True), (6, True)), WITHIN) == 3.0
    assert next_size(_trials((6, True), (6, True), (3, True)), WITHIN) == 3.0
    turned = _trials((6, True), (6, True), (3, False))
    assert next_size(turned, WITHIN) == 6.0


def test_steps_get_finer_as_it_turns_and_stay_within_the_range() -> None:
    sizes, trials = [], list[Trial]()
    for right in [True, True, False] * 6:
        trials.append(Trial(next_size(trials, WITHIN), right))
        sizes.append(trials[-1].size)
    ratios = [max(a, b) / min(a, b) for a, b in itertools.pairwise(sizes) if a != b]
    assert ratios[0] == 2.0
    assert ratios[-1] == pytest.approx(2**0.25)
    low = _trials(*[(0.1, True)] * 2)
    assert next_size(low, WITHIN) == 0.1
    assert next_size(_trials((12.0, False)), WITHIN) == 12.0


@pytest.mark.parametrize("threshold", [0.4, 1.0, 2.5])
def test_forty_answers_find_a_simulated_listeners_threshold(threshold: float) -> None:
    scale, found = scale_at(threshold), []
    for seed in range(60):
        rng, trials = np.random.default_rng(seed), list[Trial]()
        for _ in range(40):
            size = next_size(trials, WITHIN)
            trials.append(Trial(size, bool(rng.random() < chance(size, scale))))
        found.append(threshold_of(trials, WITHIN))
    assert np.median(found) == pytest.approx(threshold, rel=0.1)
    # One listener of forty answers is told by a third either way, four times out of five.
    assert np.percentile(np.array(found) / threshold, 10) > 0.65
    assert np.percentile(np.array(found) / threshold, 90) < 1.55


def test_few_answers_tell_no_threshold() -> None:
    assert threshold_of(_trials(*[(1.0, True)] * (FEWEST - 1)), WITHIN) is None
    assert threshold_of(_trials(*[(1.0, True)] * FEWEST), WITHIN) is not None


def test_chance_is_a_half_for_nothing_and_the_threshold_is_seven_in_ten() -> None:
    assert chance(0.0, 1.0) == 0.5
    assert chance(2.0, scale_at(2.0)) == pytest.approx(0.5**0.5)
    assert chance(1e6, 1.0) == pytest.approx(0.98)


@pytest.mark.parametrize("values", [(0, 1, 2), (1, 0, 2), (1, 2, 3), (3, 1, 2)])
def test_a_range_is_in_order(values: tuple[float, float, float]) -> None:
    with pytest.raises(ArkundError):
        Range(*values)


def _sounds(study: Study, question: Question) -> list[np.ndarray]:
    sounds = []
    for patch, gain in zip(question.patches, question.gains_db, strict=True):
        there = study.tried(patch) if patch else study
        sound = there.engine.read(there.graph.node(question.node), 0, 8 * study.sheet.rate)
        sounds.append(np.asarray(sound) * 10 ** (gain / 20))
    return sounds


def test_each_question_changes_what_it_asks_about_by_as_much_as_it_says(study: Study) -> None:
    louder = skill_named("louder").made(study.sheet, "kick_in", 3.0, 0)
    quiet, loud = _sounds(study, louder)
    assert 20 * np.log10(np.abs(loud).max() / np.abs(quiet).max()) == pytest.approx(3.0, abs=1e-3)
    eq = skill_named("eq").made(study.sheet, "snare_top", 6.0, 2)
    assert "400 Hz" in eq.asks
    flat, lifted = (np.abs(np.fft.rfft(s.reshape(-1))) for s in _sounds(study, eq))
    hertz = np.fft.rfftfreq(8 * study.sheet.rate, 1 / study.sheet.rate)
    near, far = (np.abs(hertz - 400) < 15), (hertz > 6000) & (hertz < 8000)
    gain = 20 * np.log10(lifted[near].sum() / flat[near].sum())
    assert gain == pytest.approx(6.0, abs=0.3)
    assert 20 * np.log10(lifted[far].sum() / flat[far].sum()) == pytest.approx(0.0, abs=0.2)
    late = skill_named("late").made(study.sheet, "snare_bottom", 2.0, 0)
    assert late.patches[1]["mics.snare_bottom.delay_samples"] == pytest.approx(
        study.sheet.mics["snare_bottom"].delay_samples + 0.002 * study.sheet.rate
    )
    flipped = skill_named("polarity").made(study.sheet, "snare_bottom", 24.0, 0)
    as_is, other = _sounds(study, flipped)
    assert not np.allclose(as_is, other)
    soft = skill_named("attack").made(study.sheet, "snare_top", 6.0, 0)
    before, after = _sounds(study, soft)
    assert np.abs(after).max() < 0.8 * np.abs(before).max()


def test_polarity_and_lateness_are_asked_of_mics_that_share_a_drum(study: Study) -> None:
    of = {skill.name: skill.mics(study.sheet) for skill in SKILLS}
    assert set(of["late"]) == {"kick_in", "kick_out", "snare_top", "snare_bottom"}
    assert "overhead_l" in of["louder"]
    assert "overhead_l" not in of["eq"]
    with pytest.raises(ArkundError, match="no drill “x”"):
        skill_named("x")
