"""A song's form is found from its hits: borders, likeness, names and what speaks for them."""

from dataclasses import replace
from itertools import pairwise

import numpy as np
import pytest

from arkund.core.hits.hit import Hit
from arkund.core.timing.form import Found, bar_rows, find_form
from arkund.core.timing.grid import Grid
from benchmarks.forms import Score, drawn, listed

GRID = Grid(120.0)
BAR_S = 2.0
VERSE = {"kick": (0, 8), "snare": (4, 12), "hat": tuple(range(0, 16, 2))}
CHORUS = {"kick": (0, 3, 6, 8, 11), "snare": (4, 12), "ride": tuple(range(0, 16, 2))}


def played(form: list[tuple[dict[str, tuple[int, ...]], int]], velocity: int = 100) -> list[Hit]:
    out, bar = [], 0
    for pattern, bars in form:
        for _ in range(bars):
            for piece, steps in pattern.items():
                for step in steps:
                    at = (bar + step / 16) * BAR_S
                    out.append(Hit(f"{piece}{at}", piece, at, velocity, "plain", 1.0, 0.0))
            bar += 1
    return out


def test_borders_letters_and_names_of_a_plain_song() -> None:
    hits = played([({"hat": (0, 4, 8, 12)}, 2), (VERSE, 8), (CHORUS, 8), (VERSE, 8), (CHORUS, 8)])
    levels = np.concatenate([np.full(2, -6.0), *(np.full(8, db) for db in (0, 2, 0, 2))])
    found = find_form(hits, GRID, 34, levels)
    assert [(p.first, p.bars) for p in found] == [(1, 2), (3, 8), (11, 8), (19, 8), (27, 8)]
    assert [p.name for p in found] == ["intro", "verse", "chorus", "verse", "chorus"]
    assert "ride ridden instead of hat" in found[2].evidence


def test_a_crash_and_a_fill_are_told_as_evidence() -> None:
    fill = {**VERSE, "tom_1": tuple(range(8, 16)), "snare": tuple(range(4, 12))}
    hits = played([(VERSE, 7), (fill, 1), (CHORUS, 8)])
    hits.append(Hit("c", "crash_1", 8 * BAR_S + 0.01, 120, "accent", 1.0, 0.0))
    assert find_form(hits, GRID, 16)[1].evidence[:3] == (
        "another pattern",
        "a crash on its first beat",
        "a fill before it",
    )


def test_a_verse_that_comes_back_with_another_cymbal_is_still_alike() -> None:
    again = {("ride" if p == "hat" else p): steps for p, steps in VERSE.items()}
    busy = {**CHORUS, "snare": (2, 4, 10, 12)}
    found = find_form(played([(VERSE, 8), (busy, 8), (again, 8), (busy, 8)]), GRID, 32)
    assert [p.letter for p in found] == ["A", "B", "A", "B"]


def test_a_hit_a_little_before_the_bar_line_belongs_to_the_bar() -> None:
    early = [replace(h, time_s=h.time_s + 0.09) for h in played([({"kick": (0,)}, 4)])]
    rows, _ = bar_rows(early, Grid(120.0, 4, 4, 0.1), 4)
    assert (rows[:, 0, 0] > 0.7).all()


@pytest.mark.parametrize(("hits", "bars"), [([], 8), (played([(VERSE, 1)]), 1)])
def test_little_is_one_section_or_none(hits: list[Hit], bars: int) -> None:
    assert [(p.first, p.bars) for p in find_form(hits, GRID, bars)] == ([(1, 1)] if hits else [])


def test_sections_have_no_gaps_whatever_is_played() -> None:
    rng = np.random.default_rng(3)
    for _ in range(20):
        bars = int(rng.integers(1, 60))
        times = rng.uniform(-1, bars * BAR_S + 3, int(rng.integers(1, 200)))
        pieces = rng.choice(["kick", "snare", "hat", "crash_1", "cowbell"], len(times))
        hits = [
            Hit(
                str(n),
                str(piece),
                float(t),
                int(rng.integers(1, 128)),
                "plain",
                float(rng.random()),
                0.0,
            )
            for n, (piece, t) in enumerate(zip(pieces, times, strict=True))
        ]
        found = find_form(hits, GRID, bars, rng.uniform(-80, 0, bars))
        assert found[0].first == 1
        assert all(a.first + a.bars == b.first for a, b in pairwise(found))
        assert found[-1].first + found[-1].bars == bars + 1


def test_drawn_songs_are_told_from_lists_with_gaps() -> None:
    """The whole figure stands in docs/accuracy.md; this holds twenty of its songs."""
    score, count = Score(), 0
    for seed in range(2000, 2020):
        song = drawn(seed)
        parts: list[Found] = find_form(listed(song, seed), song.grid, song.bars)
        score.add(song, parts)
        count += len(parts)
    assert score.f > 0.85
    assert score.paired > 0.85
    assert count > 60
