"""Takes scored, the cheapest path, joins placed and rendered without a click."""

import itertools
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import soundfile as sf

from arkund.core.errors import SheetError
from arkund.core.graph.building import build
from arkund.core.graph.hits import sounding_hits, sounding_unlisted
from arkund.core.graph.joining import Passage, Spliced
from arkund.core.graph.nodes import File, Gated
from arkund.core.hits.hit import Hit, hit_id
from arkund.core.render.cache import TileCache
from arkund.core.render.engine import Engine
from arkund.core.sheet.channels import groups_for, new_mic
from arkund.core.sheet.lanes import Library
from arkund.core.sheet.patches import apply_patch
from arkund.core.sheet.sheet import Sheet, Source, Take
from arkund.core.timing.comp import (
    AHEAD_S,
    Cell,
    Part,
    cheapest_path,
    parts_of,
    place_join,
    score,
    subdivision,
    warn,
)
from arkund.core.timing.grid import Grid

RATE = 48000
GRID = Grid(120.0)
PARTS = [Part("verse", 1, 4), Part("chorus", 5, 4)]


def _hit(piece: str, time_s: float, level: float = 0.0, kind: str = "plain") -> Hit:
    return Hit(hit_id(piece, time_s), piece, time_s, 100, kind, 1.0, level)


def _groove(rng: np.random.Generator, spread_ms: float, late_ms: float = 0.0) -> list[Hit]:
    """Eight bars of kick, snare and hat at 120 BPM."""
    hits = []
    for bar in range(8):
        for beat in range(4):
            at = bar * 2.0 + beat * 0.5
            hits.append(
                _hit(
                    "kick" if beat % 2 == 0 else "snare", at + rng.normal(late_ms, spread_ms) / 1000
                )
            )
            for eighth in (0, 0.25):
                hits.append(_hit("hat", at + eighth + rng.normal(0, spread_ms) / 1000, -6))
    return sorted(hits, key=lambda h: h.time_s)


def _by(cells: list[Cell], take: int) -> Cell:
    return next(c for c in cells if c.take == take)


def test_spread_is_measured_around_the_drummer_s_own_place() -> None:
    """Ten ms late throughout is a feel, not a fault; strays are."""
    rng = np.random.default_rng(1)
    takes = {
        1: _groove(rng, 2.0, late_ms=10),
        2: _groove(rng, 2.0, late_ms=10),
        3: _groove(rng, 9.0, late_ms=10),
    }
    row = score(takes, GRID, PARTS)[0]
    assert _by(row, 1).spread_ms == pytest.approx(2.0, abs=1.0)
    assert _by(row, 3).spread_ms > 2.5 * _by(row, 1).spread_ms
    assert _by(row, 3).cost > _by(row, 1).cost


def test_a_dropped_and_an_added_hit_are_counted_where_they_are() -> None:
    rng = np.random.default_rng(2)
    one, two, three = (_groove(rng, 2.0) for _ in range(3))
    dropped = next(h for h in two if h.piece == "snare" and h.time_s > 9)
    two = [h for h in two if h is not dropped]
    three = [*three, _hit("tom_1", 3.13)]
    rows = score({1: one, 2: two, 3: three}, GRID, PARTS)
    counts = {(part, c.take): (c.missing, c.extra) for part, row in enumerate(rows) for c in row}
    assert counts[1, 2] == (1, 0)
    assert counts[0, 3] == (0, 1)
    assert sum(m + e for m, e in counts.values()) == 2
    assert "snare dropped" in _by(rows[1], 2).reason


def test_with_two_takes_nobody_is_right() -> None:
    rng = np.random.default_rng(3)
    one, two = _groove(rng, 2.0), _groove(rng, 2.0)
    two = [h for h in two if not (h.piece == "snare" and 2 < h.time_s < 3)]
    assert [c.missing for row in score({1: one, 2: two}, GRID, PARTS) for c in row] == [0, 0, 0, 0]


def test_another_cymbal_is_priced() -> None:
    rng = np.random.default_rng(4)
    takes = {n: _groove(rng, 2.0) for n in (1, 2, 3)}
    takes[2] = [h for h in takes[2] if h.piece != "hat" or h.time_s < 7.9]
    rows = score(takes, GRID, PARTS)
    assert [c.rides for c in rows[1]] == ["hat", "other", "hat"]
    assert _by(rows[1], 2).cost > _by(rows[1], 1).cost + 1.5


def test_triplets_are_told_from_sixteenths() -> None:
    beats = np.arange(32) * 0.5
    shuffle = np.sort(np.concatenate([beats, beats + 0.5 * 2 / 3]))
    straight = np.sort(np.concatenate([beats, beats + 0.25]))
    assert subdivision(shuffle, GRID) == 3
    assert subdivision(straight, GRID) == 4
    assert subdivision(np.zeros(0), GRID) == 4


def test_a_song_without_sections_goes_by_eight_bars() -> None:
    parts = parts_of([], 19)
    assert [(p.start_bar, p.bars) for p in parts] == [(1, 8), (9, 8), (17, 3)]


def _cells(costs: np.ndarray) -> list[list[Cell]]:
    return [
        [Cell(t + 1, 0, 0, 0, 0, "hat", float(c), "", ()) for t, c in enumerate(row)]
        for row in costs
    ]


@pytest.mark.parametrize("seed", range(8))
def test_the_path_is_the_cheapest_of_all(seed: int) -> None:
    """Against every path there is."""
    rng = np.random.default_rng(seed)
    costs, prices = rng.uniform(0, 5, (5, 3)), rng.uniform(0, 4, (5, 4, 4))

    def total(path: tuple[int, ...]) -> float:
        cost = sum(costs[n, t - 1] for n, t in enumerate(path))
        return cost + sum(
            prices[n, path[n - 1], path[n]] for n in range(1, 5) if path[n] != path[n - 1]
        )

    found = cheapest_path(_cells(costs), lambda n, a, b: prices[n, a, b])
    best = min(itertools.product((1, 2, 3), repeat=5), key=total)
    assert tuple(found) == best


def test_no_part_no_path() -> None:
    assert cheapest_path([], lambda n, a, b: 0.0) == []


QUIET = (-60.0, 0.0)


def test_a_join_hides_before_the_strongest_common_hit() -> None:
    before = [_hit("kick", 7.5), _hit("hat", 7.75), _hit("snare", 8.003), _hit("kick", 8.5, -9)]
    after = [_hit("kick", 7.54), _hit("hat", 7.75), _hit("snare", 7.996), _hit("kick", 8.5, -9)]
    at, hidden, ring, _ = place_join(before, after, 8.0, 0.6, lambda t: QUIET)
    assert hidden == "snare"
    assert at == pytest.approx(7.996 - AHEAD_S)
    assert ring == -60


def test_a_join_keeps_out_of_a_ringing_cymbal() -> None:
    """The stronger hit stands in a crash's ring, the other just before it does not."""
    hits = [_hit("kick", 7.5, -3), _hit("snare", 8.0, 0)]
    ring = lambda t: (-2.0, 1.4) if t > 7.8 else QUIET  # noqa: E731
    _, hidden, level, _ = place_join(hits, hits, 8.0, 0.6, ring)
    assert (hidden, level) == ("kick", -60)


def test_a_join_that_nothing_hides_stands_at_the_border_and_says_so() -> None:
    at, hidden, *_ = place_join([_hit("kick", 6.0)], [_hit("kick", 6.0)], 8.0, 0.5, lambda t: QUIET)
    assert (at, hidden) == (8.0 - AHEAD_S, "")


def test_cutting_a_cymbal_is_named_with_its_length() -> None:
    assert warn(-30.0, 1.0, 2, "hat") == ""
    text = warn(-5.0, 1.4, 2, "hat")
    assert text == "A cymbal rings out of take 2 into a hat: heard for about 1.4 s."


# Joins in the audio


@pytest.fixture
def two_takes(tmp_path: Path) -> tuple[Sheet, Library, dict[str, np.ndarray]]:
    """Two takes of two mics; the second mic is the first, 37 samples later. Take 2 runs 1000
    samples ahead of the song."""
    rng = np.random.default_rng(6)
    sounds, paths = {}, {}
    takes = []
    for number, offset in ((1, 0), (2, 1000)):
        rumble = np.cumsum(rng.standard_normal(RATE * 4 + 2000)) * 1e-3
        rumble -= np.convolve(rumble, np.ones(4000) / 4000, "same")
        rumble += 0.3 * np.sin(2 * np.pi * 180 * np.arange(len(rumble)) / RATE + number)
        sources = {}
        for mic, delay in (("kick_in", 0), ("kick_out", 37)):
            sound = np.roll(rumble, delay).astype(np.float32) * 0.5
            sha = f"{number}{mic}".encode().hex().ljust(64, "0")
            paths[sha] = tmp_path / f"{number}{mic}.wav"
            sf.write(str(paths[sha]), sound, RATE, subtype="FLOAT")
            sounds[f"{number}{mic}"] = sound
            sources[mic] = Source(sha256=sha)
        takes.append(Take(number=number, sources=sources, offset=offset, hits=f"{number}" * 64))
    lists = {
        "1" * 64: [_hit("kick", 1.0), _hit("kick", 3.0)],
        "2" * 64: [_hit("kick", 1.0 + 1000 / RATE), _hit("kick", 3.0 + 1000 / RATE)],
    }
    mics = {m: new_mic(m) for m in ("kick_in", "kick_out")}
    sheet = Sheet(
        rate=RATE, frames=RATE * 4, takes=tuple(takes), mics=mics, groups=groups_for(mics)
    )
    return sheet, Library(lambda sha: paths[sha], lambda digest: lists[digest]), sounds


JOINED = {"comp": [{"take": 1, "at": 0}, {"take": 2, "at": 96000, "fade_ms": 2.0}]}


def test_each_side_of_a_join_is_its_take_bit_for_bit(
    two_takes: tuple[Sheet, Library, dict[str, np.ndarray]],
) -> None:
    sheet, library, sounds = two_takes
    joined = apply_patch(sheet, JOINED)
    engine = Engine(RATE, sheet.frames, TileCache())
    out = engine.read(build(joined, library).mics["kick_in"].source, 0, sheet.frames)
    assert np.array_equal(out[: 96000 - 96], sounds["1kick_in"][: 96000 - 96])
    assert np.array_equal(out[96000:], sounds["2kick_in"][97000 : sheet.frames + 1000])


def test_what_the_lists_lack_opens_a_gate_too_and_follows_the_takes(
    two_takes: tuple[Sheet, Library, dict[str, np.ndarray]],
) -> None:
    sheet, plain, _ = two_takes
    heard = {"a" * 64: {"kick": [0.5, 3.5]}, "b" * 64: {"kick": [1.0 + 1000 / RATE + 0.02, 2.5]}}
    takes = tuple(
        t.model_copy(update={"analysis": d}) for t, d in zip(sheet.takes, heard, strict=True)
    )
    clean = {
        "mics.kick_in.clean.on": True,
        "mics.kick_in.clean.hold_ms": 20,
        "mics.kick_in.clean.release_ms": 20,
        "mics.kick_in.clean.range_db": -60,
    }
    joined = apply_patch(sheet.model_copy(update={"takes": takes}), JOINED | clean)
    library = replace(plain, unlisted_of=heard.__getitem__)
    # Of the first take what lies before the join, of the second what lies after it; not what is
    # a listed hit, or hardly anything else.
    late = 2.5 - 1000 / RATE
    found = [
        round(h.time_s, 3)
        for h in sounding_unlisted(joined, library, sounding_hits(joined, library))
    ]
    assert found == [0.5, round(late, 3)]
    gate = build(joined, library).mics["kick_in"].clean
    shut = build(joined, plain).mics["kick_in"].clean
    assert isinstance(gate, Gated)
    assert isinstance(shut, Gated)
    engine = Engine(RATE, sheet.frames, TileCache())
    at = np.array([0.505, 1.005, late + 0.005, 3.005, 1.5]) * RATE
    assert gate.shape(engine).at(at).tolist() == [0.0, 0.0, 0.0, 0.0, -60.0]
    assert shut.shape(engine).at(at).tolist() == [-60.0, 0.0, -60.0, 0.0, -60.0]


def test_a_join_does_not_click_and_keeps_the_mics_in_step(
    two_takes: tuple[Sheet, Library, dict[str, np.ndarray]],
) -> None:
    """The largest second difference within 2 ms of the seam is at most 1.5 times the 99.9th
    percentile of the 50 ms around; the second mic stays 37 samples behind on both sides."""
    sheet, library, _ = two_takes
    graph = build(apply_patch(sheet, JOINED), library)
    engine = Engine(RATE, sheet.frames, TileCache())
    one, two = (engine.read(graph.mics[m].source, 0, sheet.frames) for m in ("kick_in", "kick_out"))
    bend = np.abs(np.diff(one.astype(np.float64), 2))
    seam = bend[96000 - 192 : 96000 + 96].max()
    around = np.percentile(bend[96000 - 2400 : 96000 + 2400], 99.9)
    assert seam <= 1.5 * around
    for start in (20000, 120000):
        a, b = one[start : start + 40000], two[start : start + 40000]
        lags = [float(np.dot(a[100:-100], b[100 + k : len(b) - 100 + k])) for k in range(60)]
        assert int(np.argmax(lags)) == 37


def test_any_span_over_a_join_equals_the_whole(
    two_takes: tuple[Sheet, Library, dict[str, np.ndarray]],
) -> None:
    sheet, library, _ = two_takes
    node = build(apply_patch(sheet, JOINED), library).mics["kick_in"].source
    engine = Engine(RATE, sheet.frames, TileCache())
    whole = engine.read(node, 0, sheet.frames)
    for start, stop in ((95900, 95950), (95904, 96000), (95999, 96001), (90000, 99000), (-50, 20)):
        part = engine.read(node, start, stop)
        expected = np.concatenate(
            [np.zeros(max(-start, 0), np.float32), whole[max(start, 0) : stop]]
        )
        assert np.array_equal(part[max(-start, 0) :], expected[max(-start, 0) :])


def test_a_crossfade_of_strangers_keeps_its_power(tmp_path: Path) -> None:
    rng = np.random.default_rng(7)
    nodes = []
    for n in range(2):
        sf.write(str(tmp_path / f"{n}.wav"), rng.standard_normal(RATE) * 0.1, RATE, subtype="FLOAT")
        nodes.append(File(tmp_path / f"{n}.wav", str(n) * 64, "mono"))
    fade = 20000
    node = Spliced((Passage(nodes[0], 0, 0, 1), Passage(nodes[1], 40000, 0, fade)))
    out = Engine(RATE, RATE, TileCache()).read(node, 0, RATE)
    inside, before = out[20000:40000].std(), out[:20000].std()
    assert inside == pytest.approx(before, rel=0.03)


def test_hits_follow_the_take_that_sounds_in_the_song_s_time(
    two_takes: tuple[Sheet, Library, dict[str, np.ndarray]],
) -> None:
    sheet, library, _ = two_takes
    joined = apply_patch(sheet, JOINED)
    assert [round(h.time_s, 4) for h in sounding_hits(joined, library)] == [1.0, 3.0]
    only_two = apply_patch(sheet, {"comp": [{"take": 2, "at": 0}]})
    assert [round(h.time_s, 4) for h in sounding_hits(only_two, library)] == [1.0, 3.0]
    assert only_two.take.number == 2
    assert sheet.take.number == 1


@pytest.mark.parametrize(
    ("comp", "words"),
    [
        ([{"take": 1, "at": 5}], "begins at sample 0"),
        ([{"take": 1, "at": 0}, {"take": 7, "at": 9}], "no take 7"),
        ([{"take": 1, "at": 0}, {"take": 2, "at": 0}], "in order"),
    ],
)
def test_a_comp_that_makes_no_sense_is_refused(
    two_takes: tuple[Sheet, Library, dict[str, np.ndarray]], comp: list, words: str
) -> None:
    with pytest.raises(SheetError, match=words):
        apply_patch(two_takes[0], {"comp": comp})


def test_a_sheet_without_a_comp_renders_as_before(
    two_takes: tuple[Sheet, Library, dict[str, np.ndarray]],
) -> None:
    sheet, library, _ = two_takes
    assert isinstance(build(sheet, library).mics["kick_in"].source, File)
    shifted = replace_offset(sheet)
    assert isinstance(build(shifted, library).mics["kick_in"].source, Spliced)


def replace_offset(sheet: Sheet) -> Sheet:
    first = sheet.takes[0].model_copy(update={"offset": 10})
    return sheet.model_copy(update={"takes": (first, *sheet.takes[1:])})
