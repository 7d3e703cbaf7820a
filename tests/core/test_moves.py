"""Levers, the excerpt they are tried on, and what is left out because of its own result."""

from dataclasses import replace

import numpy as np
import pytest

from arkund.core.advise import looking_back, moves
from arkund.core.advise.by_stage import causes_of, matters_most
from arkund.core.advise.excerpt import Excerpt
from arkund.core.advise.finding import Finding
from arkund.core.advise.goal import GOALS, card_of, figures
from arkund.core.advise.heard import ENOUGH, SPAN_S, SPANS
from arkund.core.advise.levers import ATTACK, FUNDAMENTAL, TILT, Lever, Target, levers_of, moved
from arkund.core.advise.looking_back import look_back
from arkund.core.advise.school import SCHOOLS
from arkund.core.advise.study import Study
from arkund.core.measure.loudness import true_peak_dbtp
from arkund.core.process.limiter import Limiter
from arkund.core.process.transient import Transient
from arkund.core.sheet.channels import DRUM_BUS
from arkund.core.sheet.patches import apply_patch, read_path

GOAL = GOALS["punch_size"]


@pytest.fixture(scope="module")
def excerpt(study: Study) -> Excerpt:
    return Excerpt(study, GOAL)


def test_a_target_moves_on_its_grid_within_its_ends() -> None:
    target = Target(-3.0, 0.7, 0.5, -9, 2)
    assert target.moved(0) == -3
    assert target.moved(2) == -1.5
    assert (target.moved(40), target.moved(-40)) == (2, -9)


def test_levers_that_share_a_stage_put_it_in_once_with_both_values(study: Study) -> None:
    levers = [one for one in levers_of(study) if one.name.startswith("kick")]
    patch = moved(levers, {"kick fundamental": 3.0, "kick attack band": 2.0, "kick fader": -1.0})
    sheet = apply_patch(study.sheet, patch)
    assert list(patch) == ["groups.kick.fader_db", f"groups.kick.chain.{TILT}"]
    assert sheet.groups["kick"].chain[0].id == TILT
    at = f"groups.kick.chain.{TILT}.bands.{{}}.{{}}".format
    assert [read_path(sheet, at(b, "gain_db")) for b in (FUNDAMENTAL, ATTACK)] == [3.0, 2.0]
    assert read_path(sheet, at(FUNDAMENTAL, "on"))
    one = apply_patch(study.sheet, moved(levers, {"kick fundamental": 3.0}))
    assert not read_path(one, at(ATTACK, "on"))
    assert moved(levers, {}) == {}


def test_every_lever_says_something_that_the_sheet_takes(study: Study) -> None:
    for lever in levers_of(study):
        for by_db in (lever.low, lever.high, lever.probe_db):
            assert apply_patch(study.sheet, lever.patch(by_db)) != study.sheet or by_db == 0
        assert lever.low <= lever.probe_db <= lever.high


def test_the_excerpt_holds_the_loudest_hit_and_every_piece(study: Study, excerpt: Excerpt) -> None:
    rate = study.rate
    mix = np.abs(study.engine.read(study.graph.sum, 0, study.sheet.frames)).max(axis=1)
    assert len(excerpt.spans) == SPANS
    assert all(last - first == round(SPAN_S * rate) for first, last in excerpt.spans)
    assert all(a[1] <= b[0] for a, b in zip(excerpt.spans, excerpt.spans[1:], strict=False))
    peak = int(np.argmax(mix))
    assert any(first <= peak < last for first, last in excerpt.spans)
    for piece, times in excerpt.whole_hits.shells.items():
        assert len(excerpt.hits.shells.get(piece, ())) >= min(2, len(times), ENOUGH), piece
    # Where the spans are laid end to end, a hit stands where its sound is.
    laid = np.concatenate([mix[first:last] for first, last in excerpt.spans])
    for piece in ("kick", "snare"):
        at = np.round(np.array(excerpt.hits.shells[piece]) * rate).astype(int)
        after, before = (
            np.median([laid[a + d : a + d + 480].max() for a in at]) for d in (0, -960)
        )
        assert after > 2 * before, piece


def test_what_the_whole_song_shows_otherwise_is_added(study: Study, excerpt: Excerpt) -> None:
    part = excerpt.card(study)
    whole = replace(excerpt.whole_card(study), loudness_lufs=part.loudness_lufs + 2)
    excerpt.learn(whole, part)
    shown = {f.name: f.gained for f in excerpt.wanted(part)}
    wanted = {f.name: f.gained for f in figures(excerpt.whole_before, whole, GOAL)}
    assert shown == pytest.approx({name: wanted[name] for name in shown})
    excerpt.learn(part, part)


@pytest.mark.parametrize(
    "patch",
    [
        {},
        {"drum_bus.fader_db": -3.0},
        {"drum_bus.chain.s9": {"kind": "limiter", "ceiling_db": -12}, "drum_bus.fader_db": -3.0},
        {
            "drum_bus.chain.s9": {"kind": "limiter", "ceiling_db": -12},
            "over.d1": {"path": "drum_bus.chain.s9.ceiling_db", "bars": "3-5", "value": -18},
        },
        {
            "drum_bus.chain.s8": {"kind": "limiter", "ceiling_db": -12},
            "drum_bus.chain.s9": {"kind": "saturation", "drive_db": 9},
        },
    ],
)
def test_the_mix_is_what_comes_out_of_the_drum_bus(study: Study, patch: dict[str, object]) -> None:
    """Whether its limiter is rendered with the rest or by itself."""
    after = study.tried(patch)
    wanted = after.engine.read(after.graph.output, 0, after.sheet.frames)
    np.testing.assert_allclose(after.mix(), wanted, atol=1e-5)


def test_a_mix_is_held_by_as_much_as_was_asked(study: Study) -> None:
    limited = study.tried({"drum_bus.chain.s9": {"kind": "limiter", "ceiling_db": 0.0}})
    peak = true_peak_dbtp(study.mix())
    assert true_peak_dbtp(limited.mix(held_db=5.0)) == pytest.approx(peak - 5, abs=0.1)


LOUD = {f"groups.{g}.fader_db": 12.0 for g in ("kick", "snare", "toms", "cymbals")}
DRIVE = {"kind": "saturation", "curve": "soft", "drive_db": 3.0, "output_db": 9.0}
GLUE = {"kind": "compressor", "threshold_db": -30.0, "ratio": 2.0}


@pytest.mark.parametrize(
    ("before", "moved"),
    [
        ({}, "drum_bus.chain.level"),
        ({"drum_bus.chain.c": GLUE}, "drum_bus.chain.c.makeup_db"),
        (
            {"drum_bus.chain.c": GLUE, "drum_bus.chain.d": DRIVE | {"after": "c"}},
            "drum_bus.chain.d.output_db",
        ),
    ],
)
def test_a_mix_too_loud_for_the_limiter_is_lowered_before_it(
    study: Study, before: dict[str, object], moved: str
) -> None:
    """It takes as much as the school allows and no more, though its ceiling is at most 0 dBTP."""
    last = max((path.rpartition(".")[2] for path in before), default="")
    limiter = {"kind": "limiter", "ceiling_db": 0.0, "after": last}
    loud = study.tried({**LOUD, **before}).tried({"drum_bus.chain.s9": limiter})
    reaches = true_peak_dbtp(loud.mixed(loud.graph.chains[DRUM_BUS].before("s9")))
    assert reaches > 3.0
    (found,) = moves.ceiling(loud, SCHOOLS["tight"], 1.5)
    assert moved in found.proposal
    after = loud.tried(dict(found.proposal))
    now = true_peak_dbtp(after.mixed(after.graph.chains[DRUM_BUS].before("s9")))
    kept = after.sheet.drum_bus.first(Limiter)
    assert kept is not None
    assert (kept.ceiling_db, now) == (0.0, pytest.approx(1.5, abs=0.1))
    # What was tried on the part is what comes of it, but for its level.
    tried, made = loud.mix(held_db=1.5), after.mix()
    gain = np.float32(10 ** ((now - reaches) / 20))
    np.testing.assert_allclose(made, tried * gain, atol=0.01)


def _finding(patch: dict[str, object]) -> Finding:
    return Finding("eq", "high_pass", next(iter(patch)), "Something.", {}, 0.9, patch)


def test_what_costs_the_kick_its_low_end_is_left_out_and_the_rest_stays(
    study: Study, excerpt: Excerpt
) -> None:
    """A high-pass at 200 Hz on all that hears the kick, beside one that costs nothing."""
    kick = [m for m in study.sheet.mics if m.startswith("kick")]
    harm = _finding(
        {
            f"mics.{m}.chain.eq.high_pass.{k}": v
            for m in kick
            for k, v in (("on", True), ("frequency_hz", 200.0), ("slope_db_oct", 24))
        }
    )
    harmless = _finding({"mics.hat.chain.eq.high_pass.on": True})
    kept = look_back(study, [harm, harmless], excerpt, "eq")
    assert [f.subject for f in kept.stay] == [harmless.subject]
    assert [f.subject for f in kept.left_out] == [harm.subject]
    assert "Skipped: it would cost" in kept.left_out[0].reason


def test_what_is_done_alike_to_all_mics_of_a_drum_may_go_together(
    study: Study, excerpt: Excerpt
) -> None:
    """Neither high-pass alone is the cause: without one of them the other still costs as much."""
    harm = [
        _finding(
            {
                f"mics.{m}.chain.eq.high_pass.{k}": v
                for k, v in (("on", True), ("frequency_hz", 200.0), ("slope_db_oct", 24))
            }
        )
        for m in study.sheet.mics
        if m.startswith("kick")
    ]
    assert len(harm) > 1
    kept = look_back(study, harm, excerpt, "eq")
    assert not kept.stay
    reasons = [f.reason for f in kept.left_out]
    assert len(reasons) == len(harm)
    assert all("Skipped:" in reason for reason in reasons)


@pytest.mark.parametrize(("school", "stays"), [("tight", True), ("open", False)])
def test_a_school_that_gives_no_attack_back_lets_less_of_it_go(
    study: Study, school: str, stays: bool
) -> None:
    excerpt = Excerpt(study, GOALS[SCHOOLS[school].goal])
    mics = [m for m in study.sheet.mics if m.startswith("kick")]
    for lower in np.arange(-0.1, -9.0, -0.1):
        change = _finding({f"mics.{m}.fader_db": float(lower) for m in mics})
        card = excerpt.card(looking_back.with_changes(study, [change]))
        lost = -next(f.gained for f in excerpt.wanted(card) if f.name == "kick attack")
        if lost >= 0.5:
            break
    assert lost == pytest.approx(0.5, abs=0.1)
    assert (change in look_back(study, [change], excerpt, "align").stay) is stays


def test_a_cut_that_costs_too_much_is_made_by_half_where_that_is_enough(
    study: Study, excerpt: Excerpt
) -> None:
    """The first of ever deeper cuts that costs more than is let pass."""
    kick = [m for m in study.sheet.mics if m.startswith("kick")]
    for gain in np.arange(-2.0, -24.0, -1.0):
        cut = _finding(
            {
                f"mics.{m}.chain.eq.bands.b1.{k}": v
                for m in kick
                for k, v in (
                    ("on", True),
                    ("frequency_hz", 65.0),
                    ("gain_db", float(gain)),
                    ("q", 0.7),
                )
            }
        )
        (made,) = look_back(study, [cut], excerpt, "eq").stay
        if made is not cut:
            break
    halves = [v for path, v in made.proposal.items() if path.endswith("gain_db")]
    assert halves == [gain / 2] * len(kick)
    assert "Halved: the whole of it would cost" in made.reason


def test_in_a_finished_kit_nothing_may_fall_though_it_stands_above_the_recording(
    study: Study, excerpt: Excerpt
) -> None:
    """Attack that a kit under way may give up again, for later stations restore it."""
    gained = study.tried({"mics.kick_in.fader_db": 6.0, "mics.kick_out.fader_db": 6.0})
    costs = _finding({"mics.kick_in.fader_db": 4.0, "mics.kick_out.fader_db": 4.0})
    assert look_back(gained, [costs], excerpt, "eq").stay == [costs]
    finished = gained.tried({"drum_bus.chain.s9": {"kind": "limiter", "ceiling_db": 0.0}})
    (lost,) = look_back(finished, [costs], excerpt, "eq").left_out
    assert "dB of kick attack" in lost.reason


def test_what_costs_nothing_is_all_made(study: Study, excerpt: Excerpt) -> None:
    made = [_finding({"mics.hat.chain.eq.high_pass.on": True}), _finding({"mics.hat.mute": False})]
    assert look_back(study, made, excerpt, "eq").stay == made


def test_what_matters_most_is_what_is_missed_most(study: Study, excerpt: Excerpt) -> None:
    """A drum bus that limits by 8 dB gives loudness; nothing else is in use."""
    louder = study.tried({"drum_bus.chain.s9": {"kind": "limiter", "ceiling_db": -18.0}})
    (most,) = matters_most(louder, SCHOOLS["natural"], excerpt)
    assert (most.kind, most.figure) == ("drum bus", "loudness at equal true peak")
    gained = excerpt.card(louder).loudness_at_peak_lu - excerpt.card(study).loudness_at_peak_lu
    assert most.gives == pytest.approx(gained, abs=0.06)


def test_a_lever_without_a_move_changes_nothing() -> None:
    lever = Lever("kick fader", "kick", -4, 6, {"groups.kick.fader_db": Target(-2.0)})
    assert lever.patch(0.1) == {}
    assert lever.patch(1.0) == {"groups.kick.fader_db": -1.0}
    # Nor where a value stands between the steps of its grid.
    glue = Lever("glue", "drum_bus", -4, 6, {"threshold_db": Target(-28.7, -1, 0.5, -60, 0)})
    assert glue.patch(0.0) == {}
    assert glue.patch(1.0) == {"threshold_db": -29.5}


def test_the_cause_of_a_missed_figure_is_what_would_mend_it(study: Study) -> None:
    """A transient shaper that takes the kick's attack, beside an equaliser that does next to nothing."""
    dulled = {"kind": Transient.model_fields["kind"].default, "attack_db": -9.0, "sustain_db": 9.0}
    mics = study.close("kick")
    shut = study.tried({f"mics.{mic}.chain.s8": dulled for mic in mics})
    before = card_of(shut, recorded=True)
    missed = [f for f in figures(before, card_of(shut), GOAL) if f.name == "kick attack over body"]
    assert missed[0].missing() > 1
    cause = causes_of(shut, SCHOOLS["natural"], missed)["kick attack over body"]
    assert (cause.kind, cause.station) == (f"{Transient.label} of the mics", "dynamics")
