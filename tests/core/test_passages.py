"""The passages by which a drum is judged."""

from arkund.core.hits.hit import Hit
from arkund.core.timing.grid import Grid
from arkund.core.timing.passages import Passage, passages

GRID = Grid(120.0)


def _hits(piece: str, *at: tuple[float, float]) -> list[Hit]:
    """Hits at (bar, level in dB); a bar lasts 2 s."""
    return [
        Hit(f"{piece}{n}", piece, 2.0 * (bar - 1), 90, "accent", 1.0, db)
        for n, (bar, db) in enumerate(at)
    ]


def test_a_tom_has_its_few_places() -> None:
    hits = [
        *_hits("tom_1", (8, 0.0), (8.5, -3.0), (16.75, -9.0), (30, -1.0)),
        *_hits("kick", (1, 0)),
    ]
    found = passages(hits, "tom_1", GRID, 32)
    assert found.places == (Passage(8, 9, 2), Passage(16, 17, 1), Passage(30, 31, 1))
    # One hit in bar 30 is as good as any: it is loudest that counts, then that it is heard to ring.
    assert found.loudest == Passage(8, 9, 2)
    assert found.densest == Passage(8, 9, 2)


def test_what_plays_throughout_is_cut_into_parts() -> None:
    throughout = [(bar, -6.0) for bar in range(1, 21)]
    busy = [(13 + n / 8, -3.0) for n in range(16)]
    soft = [(5 + n / 8, -20.0) for n in range(16)]
    found = passages(_hits("snare", *throughout, *busy, *soft), "snare", GRID, 20)
    assert [(p.first, p.last) for p in found.places] == [(1, 8), (9, 16), (17, 20)]
    assert found.loudest is not None
    assert (found.loudest.first, found.loudest.last) == (13, 14)
    assert found.softest is not None
    assert (found.softest.first, found.softest.last) == (5, 6)


def test_a_drum_that_is_never_struck_has_none() -> None:
    found = passages(_hits("kick", (1, 0)), "tom_1", GRID, 8)
    assert (found.places, found.loudest, found.softest) == ((), None, None)


def test_a_hit_in_the_last_bar_stays_within_the_song() -> None:
    found = passages(_hits("tom_1", (8.99, 0.0)), "tom_1", GRID, 8)
    assert found.places == (Passage(8, 8, 1),)
