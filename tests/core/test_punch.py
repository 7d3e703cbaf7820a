"""The punch card by its definitions, and the moves of a first pass against it."""

from collections.abc import Callable
from dataclasses import replace
from functools import cache

import numpy as np
import pytest

from arkund.core.advise import levers, moves
from arkund.core.advise.bus import density
from arkund.core.advise.first_pass import Step, steps
from arkund.core.advise.goal import GOALS, Figure, Goal, card_of, figures
from arkund.core.advise.school import SCHOOLS, school_of
from arkund.core.advise.study import Study
from arkund.core.measure.clear import Ghosts
from arkund.core.measure.punch import Card, Hits, Shell, punch_card
from arkund.core.process.limiter import Limiter
from arkund.core.process.saturation import Saturation
from arkund.core.shape import saturation
from arkund.core.sheet.channels import DRUM_BUS
from arkund.core.sheet.pairs import completed
from arkund.core.sheet.patches import apply_patch

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
    return punch_card(mix, RATE, Hits({"kick": KICK_S, "snare": SNARE_S}, ghosts, every))


def test_a_hits_figures_are_what_was_put_in() -> None:
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


GHOSTS_S = (1.5, 2.5, 3.5, 4.5, 7.0)


def _with_ghosts(gain_db: float = 0.0, ring_db: float = -200.0) -> Card:
    """`_mix` with ghosts 20 dB under the snare's accents, moved by some dB, the first two of them on a ring so
    loud against them."""
    mix = _mix()
    time = np.arange(RATE // 10) / RATE
    for at in GHOSTS_S:
        ghost = 0.04 * 10 ** (gain_db / 20) * np.sin(2 * np.pi * 400 * time)
        mix[round(at * RATE) :][: len(time)] += ghost.astype(np.float32)
    for at in GHOSTS_S[:2]:
        ring = 0.04 * 10 ** (ring_db / 20) * np.sin(2 * np.pi * 150 * time)
        mix[round((at - 0.05) * RATE) :][: len(time)] += ring.astype(np.float32)
    return _card(mix, GHOSTS_S)


def test_ghosts_lie_under_accents() -> None:
    plain = _with_ghosts()
    assert plain.ghosts.under_db(plain.ghosts) == pytest.approx(20, abs=0.1)
    assert _with_ghosts(3.0).ghosts.under_db(plain.ghosts) == pytest.approx(17, abs=0.1)
    assert _card(_mix()).ghosts.under_db(_card(_mix()).ghosts) is None


def test_only_ghosts_that_stand_clear_and_alone_are_measured() -> None:
    was, lifted = _with_ghosts(0.0, 6.0), _with_ghosts(4.0, 16.0)
    assert lifted.ghosts.under_db(was.ghosts) == pytest.approx(16, abs=0.1)
    kicks = [*KICK_S, *(t - 0.02 for t in GHOSTS_S[:3])]
    hits = Hits({"kick": kicks, "snare": SNARE_S}, GHOSTS_S)
    few = punch_card(_mix(), RATE, hits)
    assert len(few.ghosts.levels_dbfs) == 2
    assert few.ghosts.under_db(few.ghosts) is None


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
        Ghosts(np.full(3, -9 - figures_.get("ghosts", 12)), np.full(3, 20.0), -9.0),
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


HATS_S = tuple(np.arange(0.49, 7.5, 0.25))
"""Eighths: of four one falls with kick or snare, and the next 240 ms after it."""


def _hats(gain_db: Callable[[float], float], ring_db: float = -200.0) -> Card:
    """`_mix` with short bright hats, each by ``gain_db`` of its time, and with a bright ring after every hit
    of the snare, so loud against a hat."""
    out = _mix().astype(np.float64)
    for at in SNARE_S:
        span = out[round(at * RATE) :][: round(0.3 * RATE)]
        span += 0.05 * 10 ** (ring_db / 20) * np.sin(2 * np.pi * 7500 * np.arange(len(span)) / RATE)
    time = np.arange(round(0.03 * RATE)) / RATE
    for at in HATS_S:
        hat = 0.05 * 10 ** (gain_db(at) / 20) * np.sin(2 * np.pi * 9000 * time)
        out[round(at * RATE) :][: len(time)] += hat
    shells = {"kick": KICK_S, "snare": SNARE_S}
    return punch_card(out.astype(np.float32), RATE, Hits(shells, cymbals=HATS_S))


def test_cymbals_that_fall_after_kick_and_snare_alone_pump() -> None:
    was, softer = _hats(lambda at: 0.0), _hats(lambda at: -3.0)
    pumped = _hats(lambda at: -4.0 if at > 1.0 and 0.2 < at % 1.0 < 0.25 else 0.0)
    assert len(was.cymbals.levels_dbfs) == len(HATS_S) - 6
    assert pumped.cymbals.is_pressed.sum() == 6
    assert pumped.cymbals.pumping_db(was.cymbals) == pytest.approx(4.0, abs=0.2)
    assert softer.cymbals.pumping_db(was.cymbals) == pytest.approx(0.0, abs=0.1)
    assert pumped.cymbals.spread_db(was.cymbals) == pytest.approx(4.0, abs=0.2)
    assert softer.cymbals.spread_db(was.cymbals) == pytest.approx(0.0, abs=0.1)
    assert was.cymbals.is_clear.all()
    levels = was.cymbals_over_snare_db, softer.cymbals_over_snare_db
    assert None not in levels
    assert levels[1] == pytest.approx((levels[0] or 0.0) - 3.0, abs=0.1)


def test_a_drum_s_ring_that_is_lowered_under_cymbals_is_no_pumping() -> None:
    was, gated = _hats(lambda at: 0.0, 6.0), _hats(lambda at: 0.0, -20.0)
    is_ringing = ~was.cymbals.is_clear
    assert 0 < is_ringing.sum() <= was.cymbals.is_pressed.sum()
    moved = gated.cymbals.levels_dbfs - was.cymbals.levels_dbfs
    assert (moved[is_ringing] < -6).all()
    assert gated.cymbals.spread_db(was.cymbals) == pytest.approx(0.0, abs=0.2)
    assert gated.cymbals.pumping_db(was.cymbals) is None


def test_noise_is_what_sounds_between_hits_and_mono_loses_what_cancels() -> None:
    noise = 10 ** (-60 / 20) * np.random.default_rng(3).standard_normal(RATE * 8)
    card = _card(_mix() + noise.astype(np.float32))
    assert card.noise_dbfs == pytest.approx(-60, abs=0.5)
    assert card.noise_under_db == pytest.approx(card.loudness_lufs + 60, abs=0.5)
    mix = _mix()
    wide = np.stack([mix, np.zeros_like(mix)], axis=1)
    same, one_side, opposed = (
        _card(m) for m in (np.stack([mix] * 2, 1), wide, wide - wide[:, ::-1])
    )
    assert same.mono_loss_db == pytest.approx(0.0, abs=0.01)
    assert one_side.mono_loss_db == pytest.approx(3.01, abs=0.01)
    assert opposed.mono_loss_db > 60


def test_toms_noise_and_mono_have_goals_too() -> None:
    was, kick = _plain(), _plain().shells["kick"]
    sunk = replace(kick, attack_dbfs=-13, low_dbfs=-18.5, attack_to_body_db=10)
    before = replace(was, shells={"tom_1": kick}, noise_dbfs=-70, mono_loss_db=1)
    after = replace(was, shells={"tom_1": sunk}, noise_dbfs=-60, mono_loss_db=2.5)
    missed = _missed(before, after, replace(GOALS["size"], loudness_lu=0.0))
    assert missed == {
        "tom 1 attack": pytest.approx(2),
        "tom 1 low end at equal loudness": pytest.approx(1.5),
        "noise against the mix": pytest.approx(2),
        "lost in mono": pytest.approx(0.5),
    }


def test_a_wish_is_said_in_words() -> None:
    said = [
        Figure("x", "dB", 0, 0, wanted=1.5).wish,
        Figure("x", "dB", 0, 0, wanted=-2.0).wish,
        Figure("x", "dB", 0, 0, within=3.0).wish,
        Figure("x", "ms", 0, 0, most=0.125).wish,
        Figure("x", "ms", 0, 0, most=0.0).wish,
    ]
    assert said == [
        "+1.5 dB or more",
        "−2 dB or more",
        "within 3 dB",
        "+0.12 ms or less",
        "no more than recorded",
    ]
    assert not Figure("x", "dB", 0, 0).has_goal


def test_what_is_shown_as_met_is_met() -> None:
    just, short = (Figure("x", "dB", 0, gain, wanted=1.0) for gain in (0.96, 0.94))
    assert (just.is_met, short.is_met) == (True, False)
    assert Figure("x", "dB", 0, -9).is_met


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
    # The ceiling goes along, as in a pass.
    for finding in moves.ceiling(mended, SCHOOLS["tight"], density.held_db(weak, SCHOOLS["tight"])):
        mended = mended.tried(finding.proposal)
    was, now = (_missed(before, card_of(s), GOALS["punch"]) for s in (weak, mended))
    assert "kick" in {name.split()[0] for name in was} <= {"kick", "loudness"}
    assert sum(now.values()) < sum(was.values()) * 2 / 3
    for mic in mended.sheet.mics.values():
        for stage in mic.chain:
            assert getattr(stage, "attack_db", 0.0) <= levers.LARGEST_ATTACK_DB


@pytest.mark.parametrize(
    ("missing", "dense", "held"), [(-1.0, False, 0), (1.0, False, 1.0), (5.0, True, 1.86)]
)
def test_a_sparing_school_does_only_what_its_loudness_asks_for(
    study: Study, monkeypatch: pytest.MonkeyPatch, missing: float, dense: bool, held: float
) -> None:
    sparing = SCHOOLS["open"]
    assert sparing.is_sparing
    monkeypatch.setattr(density, "_missing_lu", lambda study, school: missing)
    assert bool(density.find(study, "snare", sparing)) is dense
    assert bool(density.find_glue(study, DRUM_BUS, sparing)) is dense
    assert bool(density.find_bend(study, DRUM_BUS, sparing)) is dense
    quiet = study.tried({f"groups.{group}.fader_db": -14.0 for group in study.sheet.groups})
    limited = density.find_limit(quiet, DRUM_BUS, sparing)
    assert bool(limited) is (held > 0)
    for finding in limited:
        change = finding.gain["true_peak_dbtp"]
        assert change.now - change.then == pytest.approx(held, abs=0.11)
        then = quiet.tried(finding.proposal)
        assert density.held_db(then, sparing) == pytest.approx(held, abs=0.11)
    assert not SCHOOLS["tight"].is_sparing
    assert density.held_db(study, SCHOOLS["tight"]) == density.HELD_SHARE * 4.0


def test_how_much_loudness_is_missing_is_measured(study: Study) -> None:
    limiter = {"kind": "limiter", "ceiling_db": card_of(study).true_peak_dbtp - 6}
    held = study.tried({"drum_bus.chain.s9": limiter, "drum_bus.fader_db": 0.0})
    as_it_is, louder = (density._missing_lu(s, SCHOOLS["open"]) for s in (study.tried({}), held))
    assert as_it_is == pytest.approx(GOALS["size"].loudness_lu + density.BEYOND_LU, abs=0.7)
    assert louder < as_it_is - 2
