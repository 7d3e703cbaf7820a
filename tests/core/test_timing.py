"""Timing by its definitions: lines, rules, feel, slices, seams, drifting tempo."""

from dataclasses import replace

import numpy as np
import pytest
from numpy.typing import NDArray

from arkund.core.graph.joining import Moved
from arkund.core.hits.hit import Hit
from arkund.core.timing.corrections import corrected
from arkund.core.timing.drift import drifting
from arkund.core.timing.grid import Change, Grid
from arkund.core.timing.meant import lines_near, meant_lines, swing_of
from arkund.core.timing.moves import ALL, KICK, edit_list, moved_hits
from arkund.core.timing.quantise import (
    Rule,
    Wish,
    best_division,
    magnet_s,
    place_events,
    share_to_move,
)
from arkund.core.timing.stretch import Anchor, Slice, plan, seam_ratio, stands_out
from arkund.core.timing.together import gather, played_apart, unheard_ms
from benchmarks.timing import InMemory

RATE = 48000
GRID = Grid(120.0)
NO_WISH = Wish({}, {})


def hit(piece: str, at: float, **other: object) -> Hit:
    values = {"velocity": 100, "kind": "plain", "confidence": 1.0, "level_db": -3.0} | other
    return Hit(f"{piece}{at:.4f}", piece, at, **values)  # type: ignore[arg-type]


def groove(bars: int, late: dict[str, float], seed: int = 1, spread_ms: float = 0.0) -> list[Hit]:
    """Eighths on the hat, kick on one and three, snare on two and four, each as late as said."""
    rng = np.random.default_rng(seed)
    out = []
    for eighth in range(bars * 8):
        at = eighth * 0.25
        pieces = ["hat"] + (["kick"] if eighth % 4 == 0 else ["snare"] if eighth % 4 == 2 else [])
        for piece in pieces:
            off = late.get(piece, 0.0) + rng.normal(0, spread_ms) / 1000
            out.append(hit(piece, round(max(at + off, 0.0), 6)))
    return sorted(out, key=lambda h: h.time_s)


def rendered(
    sound: NDArray[np.float32], slices: list[Slice], start: int = 0, stop: int | None = None
) -> NDArray[np.float32]:
    node = Moved(
        None,
        "x",
        tuple(s.at for s in slices),
        tuple(s.offset for s in slices),  # type: ignore[arg-type]
        tuple(s.fade for s in slices),
    )
    return node.render(InMemory(sound, RATE), start, len(sound) if stop is None else stop)  # type: ignore[arg-type]


def ringing(hits: list[float], seconds: float, hz: float, seed: int = 4) -> NDArray[np.float32]:
    """Hits with a click and a ring, over a little noise."""
    rng = np.random.default_rng(seed)
    out = rng.standard_normal(round(seconds * RATE)) * 1e-4
    for at in hits:
        n = np.arange(min(RATE, len(out) - round(at * RATE))) / RATE
        hit = np.sin(2 * np.pi * hz * n) * np.exp(-n / 0.25)
        hit += rng.standard_normal(len(n)) * np.exp(-n / 0.003)
        out[round(at * RATE) : round(at * RATE) + len(n)] += 0.3 * hit
    return out.astype(np.float32)


# The grid


def test_places_and_times_are_each_other_s_inverse_over_tempo_and_meter_changes() -> None:
    grid = Grid(100.0, 4, 4, 0.5, (Change(3, 120.0, 3, 4), Change(5, 90.0, 6, 8)))
    quarters = np.linspace(-1, 30, 200)
    assert np.allclose(grid.quarters_at(grid.seconds_of(quarters)), quarters, atol=1e-9)
    # Two bars of four at 100, two of three at 120, then six eighths at 90.
    assert grid.bar_start_s(3) == pytest.approx(0.5 + 8 * 0.6)
    assert grid.bar_start_s(5) == pytest.approx(0.5 + 8 * 0.6 + 6 * 0.5)
    assert grid.bar_start_s(6) == pytest.approx(0.5 + 8 * 0.6 + 6 * 0.5 + 3 * 60 / 90)
    assert grid.bar_at(grid.bar_start_s(5.5)) == pytest.approx(5.5)
    assert grid.place(grid.bar_start_s(4) + 0.5) == "4.2.00"
    assert grid.meter_at(4.9) == (3, 4)
    assert grid.bpm_at(7) == 90


def test_a_drifting_tempo_is_followed_and_a_steady_one_left() -> None:
    """A song that speeds up by 6 % and back, against truth; hits with 5 ms of spread."""
    rng = np.random.default_rng(8)
    bpms = 100 * (1 + 0.06 * np.sin(np.linspace(0, np.pi, 40)))
    starts = np.concatenate([[0.3], 0.3 + np.cumsum(240 / bpms)])
    hits = [
        hit("kick", float(starts[b] + k / 8 * (starts[b + 1] - starts[b]) + rng.normal(0, 0.005)))
        for b in range(40)
        for k in range(8)
    ]
    found = drifting(Grid(103.5, first_downbeat_s=0.3), hits, 40)
    got = np.array([found.bar_start_s(b) for b in range(1, 41)])
    assert np.max(np.abs(got - starts[:40])) < 0.008
    steady = drifting(GRID, groove(16, {}), 16)
    assert max(abs(c.bpm - 120) for c in steady.changes) < 0.05


# What was meant


def test_a_hit_far_from_its_line_is_read_from_its_repeats() -> None:
    """A sixteenth played 70 ms late lies nearer to the next line; twenty repeats say otherwise."""
    regular = [hit("snare", bar * 2.0 + 0.125 + 0.03) for bar in range(20)]
    stray = hit("snare", 20 * 2.0 + 0.125 + 0.066)
    assert lines_near(GRID.quarters_at(np.array([stray.time_s])), "1/16")[0] == 80.5
    meant = meant_lines([*regular, stray], GRID, "1/16")
    assert meant.lines[-1] == 80.25
    assert meant.clear.all()


def test_another_take_says_what_a_fill_meant_and_without_one_it_is_asked() -> None:
    fill = hit("tom_1", 8.0 + 0.0625)
    alone = meant_lines([fill], GRID, "1/16")
    assert not alone.clear[0]
    other = [hit("tom_1", 8.0 + 0.01)]
    told = meant_lines([fill], GRID, "1/16", others=[other, other])
    assert told.clear[0]
    assert told.lines[0] == 16.0


def test_swing_is_read_and_its_lines_lie_there() -> None:
    played = [hit("hat", b * 0.5 + (0.5 * 0.64 if k else 0)) for b in range(30) for k in (0, 1)]
    assert swing_of(played, GRID, "1/8") == pytest.approx(0.64, abs=0.005)
    lines = lines_near(np.array([0.02, 0.60, 0.95, 4.7]), "1/8", 2 / 3)
    assert np.allclose(lines, [0, 2 / 3, 1, 4 + 2 / 3])
    assert best_division(groove(8, {}), GRID) == "1/8"
    assert best_division([hit("hat", k / 6) for k in range(60)], GRID) == "1/8t"


# Rules


def test_exact_puts_leading_hits_on_the_line_and_feel_keeps_their_place() -> None:
    played = groove(12, {"snare": 0.012, "hat": -0.004}, spread_ms=3)
    exact = place_events(played, GRID, [Rule(1, 12, "exact", "1/8")], NO_WISH)
    for p in exact:
        assert abs(p.to_s / 0.25 - round(p.to_s / 0.25)) < 1e-3
    feel = place_events(played, GRID, [Rule(1, 12, "feel", "1/8")], NO_WISH)
    snares = [p.to_s % 0.25 for p in feel if p.event.lead.piece == "snare"]
    assert np.ptp(snares) <= 4e-4  # less than 0.2 ms is not moved
    assert np.median(snares) == pytest.approx(0.012, abs=0.002)


@pytest.mark.parametrize("strength", [0.0, 0.4, 1.0])
def test_strength_goes_so_much_of_the_way(strength: float) -> None:
    played = groove(8, {"snare": 0.02})
    placed = place_events(played, GRID, [Rule(1, 8, "exact", "1/8", strength)], NO_WISH)
    left = [p.to_s % 0.25 for p in placed if p.event.lead.piece == "snare"]
    assert left == pytest.approx([0.02 * (1 - strength)] * len(left), abs=3e-4)


def test_the_window_leaves_alone_what_is_near_enough() -> None:
    played = groove(8, {"snare": 0.02, "hat": 0.006})
    placed = place_events(played, GRID, [Rule(1, 8, "exact", "1/8", window_ms=10)], NO_WISH)
    shifts = {p.event.lead.piece: p.shift_s for p in placed}
    assert shifts["hat"] == 0
    assert shifts["snare"] == pytest.approx(-0.02)


def test_a_rule_holds_in_its_bars_only_and_the_later_one_wins() -> None:
    played = groove(8, {"snare": 0.02})
    rules = [Rule(3, 4, "exact", "1/8"), Rule(4, 1, "exact", "1/8", 0.5)]
    for p in place_events(played, GRID, rules, NO_WISH):
        if p.event.lead.piece != "snare":
            continue
        bar = int(GRID.bar_at(p.from_s))
        wanted = {3: -0.02, 4: -0.01, 5: -0.02, 6: -0.02}.get(bar, 0.0)
        assert p.shift_s == pytest.approx(wanted, abs=1e-6)


def test_what_is_said_of_one_hit_overrides_and_neighbours_never_swap() -> None:
    played = groove(4, {})
    snare = next(h for h in played if h.piece == "snare")
    told = place_events(played, GRID, [Rule(1, 4, "exact", "1/8")], Wish({snare.id: 0.53}, {}))
    assert next(p for p in told if snare in p.event.hits).to_s == 0.53
    # A hat that a far line would draw over its neighbour stays and is asked about.
    close = [hit("hat", 1.0), hit("hat", 1.08)]
    lines = Wish({}, {close[1].id: 1.5})
    placed = place_events(close, GRID, [Rule(1, 4, "exact", "1/16")], lines)
    assert placed[1].shift_s == 0
    assert not placed[1].clear


def test_past_saving_is_a_matter_of_share_and_way() -> None:
    wild = groove(12, {}, spread_ms=25)
    placed = place_events(wild, GRID, [Rule(1, 12, "exact", "1/8")], NO_WISH)
    share, way = share_to_move(placed)
    assert share > 0.4
    assert way > 12
    neat = place_events(groove(12, {}, spread_ms=3), GRID, [Rule(1, 12, "exact", "1/8")], NO_WISH)
    assert share_to_move(neat)[0] == 0


def test_the_magnet_draws_within_its_reach_only() -> None:
    assert magnet_s(1.008, GRID, "1/16", 0.5, 0.012) == 1.0
    assert magnet_s(1.03, GRID, "1/16", 0.5, 0.012) == 1.03


# Hits together


def test_events_gather_what_falls_together_and_the_snare_leads() -> None:
    events = gather(
        [
            hit("kick", 1.0),
            hit("snare", 1.012),
            hit("hat", 1.02),
            hit("kick", 1.05),
            hit("hat", 2.0, confidence=0.2),
        ]
    )
    assert [e.pieces for e in events] == [("kick", "snare", "hat"), ("kick",)]
    assert events[0].lead.piece == "snare"
    assert events[0].starts_s == 1.0
    pairs = played_apart(events)
    assert [(a.kind, a.gap_ms, a.remedy) for a in pairs] == [
        ("snare + kick", -12.0, "alone"),
        ("snare + hat", 8.0, "midpoint"),
    ]
    assert unheard_ms(20) > unheard_ms(10) > unheard_ms(2) == 0.0


# Slices


def test_hits_are_carried_whole_and_land_where_they_were_sent() -> None:
    """Each hit's first 12 ms and the 3 ms before it are the source's samples, shifted."""
    times = [0.5, 1.0, 1.5, 1.62, 2.3, 3.0]
    shifts = [0, 480, -900, 700, -2400, 0]
    sound = ringing(times, 4.0, 180)
    both = np.stack([sound, sound], 1)
    anchors = [
        Anchor(round(t * RATE), round(t * RATE), s) for t, s in zip(times, shifts, strict=True)
    ]
    slices = plan(anchors, lambda a, b: InMemory(both, RATE).read(None, a, b), RATE, len(sound))
    out = rendered(sound, slices)
    for anchor in anchors:
        a, b = anchor.at - 144, anchor.at + round(0.012 * RATE)
        assert np.array_equal(out[a + anchor.shift : b + anchor.shift], sound[a:b])
    for s in slices[1:]:
        for edge in (s.at, s.at - s.fade):
            assert seam_ratio(out, edge, RATE) <= 1.5
    # Any span equals the whole, and after the last hit the sound is back in place.
    assert np.array_equal(rendered(sound, slices, 31_111, 99_999), out[31_111:99_999])


def test_a_tick_of_the_source_s_own_is_no_seam_s() -> None:
    assert stands_out(1.6, 1.0)
    assert not stands_out(1.6, 1.55)
    assert not stands_out(1.4, 0.0)


@pytest.mark.parametrize("gap_ms", [0.5, 2.0, 4.0, 8.0, 15.0])
@pytest.mark.parametrize("steps", [(300, -200), (-300, 500), (700, 699)])
def test_hits_that_leave_no_way_between_them_are_cut_before_the_later_one(
    gap_ms: float, steps: tuple[int, int]
) -> None:
    """A flam's two hits that go different ways: the later one is there, whole, in its place."""
    times = [0.5, 0.5 + gap_ms / 1000, 1.2]
    sound = ringing(times, 2.0, 180)
    both = np.stack([sound, sound], 1)
    places = [round(t * RATE) for t in times]
    anchors = [Anchor(at, at, s) for at, s in zip(places, (*steps, 0), strict=True)]
    slices = plan(anchors, lambda a, b: InMemory(both, RATE).read(None, a, b), RATE, len(sound))
    assert [s.at for s in slices] == sorted({s.at for s in slices})
    out = rendered(sound, slices)
    later = places[1]
    hit = slice(later + steps[1], later + steps[1] + round(0.003 * RATE))
    assert np.array_equal(out[hit], sound[later : later + round(0.003 * RATE)])
    assert np.isfinite(out).all()


def test_a_ring_goes_on_through_a_splice() -> None:
    """A tom ringing at 180 Hz is stretched by 6 ms: its level sags by under 1 dB at the seam."""
    sound = ringing([0.2], 2.0, 180)
    both = np.stack([sound, 0 * sound], 1)
    anchors = [Anchor(9600, 9600, 0), Anchor(48000, 48000, 288)]
    slices = plan(anchors, lambda a, b: InMemory(both, RATE).read(None, a, b), RATE, len(sound))
    out = rendered(sound, slices)
    at, period = slices[1].at, RATE // 180
    level = [
        np.sqrt(np.mean(out[n : n + period] ** 2)) for n in (at - 4 * period, at - period // 2)
    ]
    decay = np.exp(-3.5 * period / RATE / 0.25)
    assert abs(20 * np.log10(level[1] / (level[0] * decay))) < 1.0


def test_all_mics_keep_their_delay_and_the_kick_may_go_alone() -> None:
    played = groove(4, {"kick": 0.0, "snare": 0.0})
    kick_late = hit("kick", 2.512)
    played = sorted(
        [*(h for h in played if h.time_s != 2.5), hit("snare", 2.5), kick_late],
        key=lambda h: h.time_s,
    )
    sound = ringing([h.time_s for h in played if h.piece != "hat"], 9.0, 150)
    both = np.stack([sound, np.roll(sound, 300)], 1)
    guide = InMemory(both, RATE)
    placed = place_events(played, GRID, [], Wish({played[5].id: played[5].time_s + 0.01}, {}, 6.0))
    edits = edit_list(
        placed,
        {ALL: lambda a, b: guide.read(None, a, b), KICK: lambda a, b: guide.read(None, a, b)},
        RATE,
        len(sound),
    )
    assert edits is not None
    assert set(edits.tracks) == {ALL, KICK}
    near, far = (rendered(both[:, c].copy(), list(edits.tracks[ALL])) for c in (0, 1))
    for m in edits.moves:
        if m.pieces == ("hat",):
            continue  # silent in this sound
        at = m.at + round(m.shift_s * RATE)
        lags = np.arange(280, 321)
        product = [float(near[at : at + 1200] @ far[at + k : at + k + 1200]) for k in lags]
        assert abs(int(lags[np.argmax(product)]) - 300) <= 1
    alone = [m for m in edits.moves if m.kick_s]
    assert [m.kick_s for m in alone] == pytest.approx([-0.006], abs=1e-4)
    after = moved_hits(played, edits, RATE)
    assert next(h for h in after if h.id == kick_late.id).time_s == pytest.approx(2.506, abs=1e-4)


def test_hits_stay_where_their_sound_was_not_put() -> None:
    played = groove(12, {"snare": 0.012})
    sound = ringing([h.time_s for h in played], 25.0, 200.0)
    guide = InMemory(np.stack([sound, sound], 1), RATE)
    placed = place_events(played, GRID, [Rule(1, 12, "exact", "1/8")], NO_WISH)
    guides = {ALL: lambda a, b: guide.read(None, a, b)}
    whole = edit_list(placed, guides, RATE, len(sound))
    some = edit_list(placed, guides, RATE, len(sound), (10 * RATE, 12 * RATE))
    assert whole is not None
    assert some is not None
    everywhere, as_put = (
        moved_hits(played, whole, RATE),
        moved_hits(played, some, RATE, as_put=True),
    )
    assert moved_hits(played, some, RATE) == everywhere
    assert moved_hits(played, whole, RATE, as_put=True) == everywhere
    for was, there, here in zip(played, everywhere, as_put, strict=True):
        is_near = 7.4 < was.time_s < 14.6
        assert here == (there if is_near else was) or not 7.6 < was.time_s < 14.4
    assert any(a != b for a, b in zip(played, as_put, strict=True))
    assert any(a != b for a, b in zip(everywhere, as_put, strict=True))


class Named:
    """A reader whose sounds are named by their span."""

    rate = RATE

    def over(self, node: object, start: int, stop: int) -> str:
        return f"{node} {start} {stop}"


def test_a_moved_sound_is_named_by_the_slices_that_are_heard() -> None:
    def named(slices: list[Slice], start: int, stop: int) -> str:
        columns = [tuple(getattr(s, c) for s in slices) for c in ("at", "offset", "fade")]
        node = Moved("snare", "x", *columns)  # type: ignore[arg-type]
        return node.key_over(Named(), start, stop)  # type: ignore[arg-type]

    before = [Slice(0, 0, 1), Slice(1000, 50, 400), Slice(5000, 0, 400), Slice(9000, 20, 300)]
    after = [Slice(0, 0, 1), Slice(1010, 55, 300), Slice(5020, 0, 500), Slice(9000, 30, 300)]
    assert named(before, 5100, 8600) == named(after, 5100, 8600)
    assert named(before, 0, 600) == named(after, 0, 600)
    for start, stop in ((0, 800), (2000, 3000), (4700, 4800), (4900, 6000), (8650, 8800)):
        assert named(before, start, stop) != named(after, start, stop)


def test_nothing_to_move_is_no_edit() -> None:
    placed = place_events(groove(4, {}), GRID, [Rule(1, 4, "exact", "1/8")], NO_WISH)
    assert edit_list(placed, {}, RATE, RATE) is None


# Corrections


def test_corrections_take_away_change_and_add_without_touching_the_list() -> None:
    from arkund.core.sheet.sheet import Correction

    listed = [hit("snare", 1.0, confidence=0.4), hit("tom_1", 2.0), hit("kick", 3.0)]
    before = [replace(h) for h in listed]
    changes = {
        listed[0].id: Correction(piece="tom_1", kind="ghost"),
        listed[1].id: Correction(gone=True),
        "new": Correction(piece="snare", time_s=2.5, kind="accent"),
        "nowhere": Correction(piece="snare"),
    }
    out = corrected(listed, changes)
    assert [(h.piece, h.time_s, h.kind) for h in out] == [
        ("tom_1", 1.0, "ghost"),
        ("snare", 2.5, "accent"),
        ("kick", 3.0, "plain"),
    ]
    assert out[0].confidence == 1.0
    assert listed == before


def test_splices_keep_off_what_ticks_by_itself() -> None:
    """Between two hits a steady hum goes on, with a tick in it that no list knows: neither end
    of a fade may fall beside it."""
    rng = np.random.default_rng(6)
    length = RATE
    hum = 0.05 * np.sin(2 * np.pi * 97 * np.arange(length) / RATE)
    sound = (hum + 1e-4 * rng.standard_normal(length)).astype(np.float32)
    ticks = [round(at * RATE) for at in (0.36, 0.41, 0.46, 0.52)]
    for at in ticks:
        sound[at : at + 3] += np.float32([0.02, -0.03, 0.01])

    def guide(a: int, b: int) -> np.ndarray:
        out = np.zeros((b - a, 2), np.float32)
        low, high = max(a, 0), min(b, length)
        out[low - a : high - a] = sound[low:high, None]
        return out

    slices = plan(
        [
            Anchor(round(0.2 * RATE), round(0.2 * RATE), 0),
            Anchor(round(0.7 * RATE), round(0.7 * RATE), 300),
        ],
        guide,
        RATE,
        length,
    )
    assert len(slices) >= 2
    for s, before in zip(slices[1:], slices, strict=False):
        for end in (s.at, s.at - s.fade):
            for offset in (s.offset, before.offset):
                near = min(abs(end + offset - t) for t in ticks)
                assert near > 0.002 * RATE, (end, offset)
