"""The punch card by its definitions, and the moves of a first pass against it."""

from collections.abc import Callable
from functools import cache

import numpy as np
import pytest

from arkund.core.advise import density, levers, moves
from arkund.core.advise.first_pass import Step, steps
from arkund.core.advise.goal import GOALS, Goal, card_of, figures
from arkund.core.advise.school import SCHOOLS, school_of
from arkund.core.advise.study import Study
from arkund.core.measure.punch import Card, Shell, Strokes, punch_card
from arkund.core.mix.channels import DRUM_BUS
from arkund.core.mix.pairs import completed
from arkund.core.mix.patches import apply_patch
from arkund.core.process.limiter import Limiter
from arkund.core.process.saturation import Saturation
from arkund.core.shape import saturation

RATE = 48000
KICK_S, SNARE_S = (1.0, 3.0, 5.0), (2.0, 4.0, 6.0)


def _mix(kick_attack: float = 0.5, kick_body: float = 0.25) -> np.ndarray:
    """Kicks of a 60 Hz tone, louder for their first 10 ms, and snares of a 400 Hz tone."""
    out = np.zeros(RATE * 8)
    time = np.arange(round(0.2 * RATE)) / RATE
    for at in KICK_S:
        size = np.where(time < 0.01, kick_attack, kick_body)
        out[round(at * RATE) :][: len(time)] += size * np.sin(2 * np.pi * 60 * time)
    for at in SNARE_S:
        size = np.where(time < 0.01, 0.4, 0.1)
        out[round(at * RATE) :][: len(time)] += size * np.sin(2 * np.pi * 400 * time)
    return out.astype(np.float32)


def _card(mix: np.ndarray, ghosts: tuple[float, ...] = ()) -> Card:
    every = sorted([*KICK_S, *SNARE_S, *ghosts])
    return punch_card(mix, RATE, Strokes({"kick": KICK_S, "snare": SNARE_S}, ghosts, every))


def test_a_strokes_figures_are_what_was_put_in() -> None:
    card = _card(_mix())
    snare = card.shells["snare"]
    # A tone's RMS is 3.01 dB under its peak; of the 11 ms one is silence.
    assert snare.attack_dbfs == pytest.approx(20 * np.log10(0.4) - 3.01 - 0.41, abs=0.1)
    assert snare.body_dbfs == pytest.approx(20 * np.log10(0.1) - 3.01, abs=0.1)
    assert snare.attack_to_body_db == pytest.approx(snare.attack_dbfs - snare.body_dbfs, abs=0.05)
    assert card.shells["kick"].low_dbfs == pytest.approx(20 * np.log10(0.25) - 3.01, abs=1.6)
    assert snare.low_dbfs < -30
    assert card.shells["kick"].ring_db == pytest.approx(
        20 * np.log10(0.25) - 3.01 + 10 * np.log10(0.5) - card.shells["kick"].attack_dbfs, abs=0.2
    )


def test_louder_alone_changes_no_figure() -> None:
    quiet, loud = (_card(_mix() * np.float32(gain)) for gain in (1.0, 0.3))
    assert loud.loudness_at_peak_lu == pytest.approx(quiet.loudness_at_peak_lu, abs=0.02)
    for piece in ("kick", "snare"):
        assert loud.attack_db(piece) == pytest.approx(quiet.attack_db(piece), abs=0.02)
        assert loud.low_at_peak_db(piece) == pytest.approx(quiet.low_at_peak_db(piece), abs=0.02)
    first = next(iter(figures(quiet, loud, GOALS["size"])))
    assert first.missing() == pytest.approx(1, abs=0.05)


def test_more_attack_is_more_attack_over_body() -> None:
    plain, more = _card(_mix()), _card(_mix(kick_attack=1.0))
    gained = more.shells["kick"].attack_to_body_db - plain.shells["kick"].attack_to_body_db
    assert gained == pytest.approx(6, abs=0.3)
    assert more.shells["snare"].attack_to_body_db == pytest.approx(
        plain.shells["snare"].attack_to_body_db, abs=0.01
    )


def test_ghosts_lie_under_accents() -> None:
    mix = _mix()
    mix[round(7.0 * RATE) :][: RATE // 10] = 0.04 * np.sin(
        2 * np.pi * 400 * np.arange(RATE // 10) / RATE
    )
    assert _card(mix, (7.0,)).ghosts_under_db == pytest.approx(20, abs=0.1)
    assert _card(mix).ghosts_under_db == 0


def _missed(before: Card, now: Card, goal: Goal) -> dict[str, float]:
    """By how much each figure misses the goal, those that do."""
    every = {f.name: f.missing() for f in figures(before, now, goal)}
    return {name: missing for name, missing in every.items() if missing > 0}


def _plain(**figures_: float) -> Card:
    kick = Shell(
        -10 + figures_.get("kick", 0),
        -20,
        figures_.get("body", 10),
        -15 + figures_.get("low", 0),
        -30,
    )
    return Card(
        -20 + figures_.get("loud", 0),
        -2,
        18,
        {"kick": kick, "snare": Shell(-9, -19, 10, -40, -30)},
        figures_.get("ghosts", 12),
    )


def test_what_misses_the_goal_is_named_with_how_much() -> None:
    before = _plain()
    assert set(_missed(before, before, GOALS["punch"])) == {
        "loudness at equal true peak",
        "kick attack",
        "kick attack over body",
        "snare attack",
        "snare attack over body",
        "kick low end at equal true peak",
    }
    missing = _missed(before, _plain(loud=3), GOALS["punch"])
    assert missing["loudness at equal true peak"] == pytest.approx(1)
    assert missing["kick attack"] == pytest.approx(4)  # 3 dB of loudness and the goal of 1
    assert _missed(before, before, GOALS["size"]) == {
        "loudness at equal true peak": pytest.approx(1)
    }
    far = _missed(before, _plain(loud=1, kick=1, low=1, ghosts=16), GOALS["size"])
    assert far["ghosts under accents"] == pytest.approx(1)


def test_the_drive_bends_the_typical_peak_by_what_was_asked() -> None:
    for typical in (-20.0, -8.0):
        for bent in (1.0, 3.0):
            drive = density.drive_db(typical, bent)
            level = np.array([10 ** (typical / 20)])
            setup = saturation.Settings(saturation.SOFT, drive, True)
            out = saturation.bent(level, setup)
            assert 20 * np.log10(level / out)[0] == pytest.approx(bent, abs=0.01)


def test_rows_under_the_buses_first_names_are_read() -> None:
    rows = SCHOOLS["tight"].model_dump() | {"parallel": "punch_sustain"}
    assert school_of(rows) == SCHOOLS["tight"]


@pytest.fixture(scope="module")
def passed(study: Study) -> Callable[[str], Study]:
    """The study after a school's first pass, each made once."""
    return cache(lambda school: _passed(study, school))


def _passed(study: Study, school: str) -> Study:
    current = [study]
    for step in steps(lambda: current[0], SCHOOLS[school], lambda f: False):
        if isinstance(step, Step) and not step.finding.id.startswith("edit."):
            sheet = current[0].sheet
            then = apply_patch(sheet, completed(sheet, step.finding.proposal))
            current[0] = Study(then, study.engine, study.library, study.takes)
    return current[0]


@pytest.mark.parametrize("school", ["tight", "open"])
def test_a_first_pass_makes_the_kit_hit_harder(
    study: Study, passed: Callable[[str], Study], school: str
) -> None:
    """At equal loudness and at equal peak, on a seed that no constant was chosen on."""
    after = passed(school)
    wanted = GOALS[SCHOOLS[school].goal]
    missed = _missed(card_of(study, recorded=True), card_of(after), wanted)
    assert {name: value for name, value in missed.items() if value > 0.5} == {}
    drum_bus = after.sheet.drum_bus
    assert [type(s).__name__ for s in drum_bus.chain[-2:]] == ["Saturation", "Limiter"]
    limiter = drum_bus.first(Limiter)
    assert limiter is not None
    into = after.graph.chains[DRUM_BUS].before(limiter.id)
    peak = density.true_peak_dbtp(after.engine.read(into, 0, after.sheet.frames))
    assert peak - limiter.ceiling_db <= density.HELD_DB[SCHOOLS[school].goal] + 0.05
    assert all(after.sheet.groups[g].first(Saturation) for g in ("kick", "snare"))
    # What was done is not proposed again.
    assert all(not module.find(after, DRUM_BUS, SCHOOLS[school]) for module in density.BUS_MODULES)


def test_moves_serve_what_is_missing_and_stay_within_bounds(
    study: Study, passed: Callable[[str], Study]
) -> None:
    """From a kit whose kick was pulled down after its pass: the moves bring it back."""
    after = passed("tight")
    weak = after.tried({"groups.kick.fader_db": -14.0})
    before = card_of(study, recorded=True)
    mended = weak
    for finding in moves.find(weak, SCHOOLS["tight"]):
        mended = mended.tried(finding.proposal)
    was, now = (_missed(before, card_of(s), GOALS["punch"]) for s in (weak, mended))
    assert "kick" in {name.split()[0] for name in was} <= {"kick", "loudness"}
    assert sum(now.values()) < sum(was.values()) * 2 / 3
    for mic in mended.sheet.mics.values():
        for stage in mic.chain:
            assert getattr(stage, "attack_db", 0.0) <= levers.LARGEST_ATTACK_DB
