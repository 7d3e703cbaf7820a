"""A song's form, from its hits: where sections begin, which of them are alike, and what says so."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import piece_family
from arkund.core.timing.grid import Grid

SLOTS = 16
"""Parts of a bar that hits fall into; one between two belongs to both in proportion."""

WEIGHTS = {
    "kick": 1.0,
    "snare": 1.0,
    "ghost": 0.4,
    "hat": 0.7,
    "ride": 0.7,
    "crash": 0.5,
    "tom": 0.5,
}
"""How much each kind of hit tells one bar from another."""

REACH = 4
"""Bars to each side of a border that are compared."""

CRASH, FILL, TOP, LEVEL = 0.25, 0.2, 0.3, 0.1
LEVEL_DB, FILL_MORE = 3.0, 1.5
"""What evidence besides the pattern adds to a border's weight: a crash on its first beat, more than `FILL_MORE` times
as many hits of snare and toms just before as usual, another cymbal ridden, and a change in level by `LEVEL_DB`."""

NEEDED = 0.25
"""Weight from which a border between sections of usual lengths stands."""

EIGHTS, FOURS, EVEN, ODD, SHORT = 0.06, 0.04, -0.06, -0.18, -0.25
"""What a length in bars adds: eights and fours are usual, under four bars hardly a section."""

SHORTEST, LONGEST = 2, 48
ALIKE, ALIKE_DB = 0.91, 3.0
"""Sections are alike from this cosine of their average bars on, if their levels differ by no more."""

NEARLY = 0.82
"""Two of one length that come once each are alike from this cosine on whichever cymbal is ridden, if neither has a
nearer like."""

QUIETEST_DB = 15.0
"""A bar so far under the middle one is as good as silent."""


@dataclass(frozen=True)
class Found:
    """A section: its ``first`` bar (1-based) and number of ``bars``, the ``letter`` that it shares with its like, a
    ``name`` that is proposed, the ``weight`` of its beginning (0 to about 2) and what speaks for it in words."""

    first: int
    bars: int
    letter: str
    name: str
    weight: float
    evidence: tuple[str, ...] = ()


def find_form(
    hits: Sequence[Hit], grid: Grid, bars: int, levels_db: NDArray[np.float64] | None = None
) -> list[Found]:
    """The sections of a song of so many bars, in order and without gaps. ``levels_db`` ``(bars,)`` is how loud each
    bar is, where that is known. None of a song without hits."""
    if bars < 1 or not len(hits):
        return []
    rows, crashes = bar_rows(hits, grid, bars)
    levels = np.zeros(bars) if levels_db is None else np.asarray(levels_db, np.float64)
    levels = np.maximum(levels, np.median(levels) - QUIETEST_DB)
    weight, evidence = _weights(rows, crashes, levels)
    starts = _chosen(weight)
    spans = list(zip(starts, [*starts[1:], bars], strict=True))
    letters = _letters(rows, levels, spans)
    names = _names(rows, levels, spans, letters)
    return [
        Found(a + 1, b - a, letter, name, round(float(weight[a]), 3), tuple(evidence[a]))
        for (a, b), letter, name in zip(spans, letters, names, strict=True)
    ]


def bar_rows(
    hits: Sequence[Hit], grid: Grid, bars: int
) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
    """What is played in each bar, ``(bars, kinds, SLOTS)`` by velocity, and which bars begin with a crash."""
    kinds = list(WEIGHTS)
    rows = np.zeros((bars, len(kinds), SLOTS))
    crashes = np.zeros(bars, bool)
    for hit in hits:
        at = grid.bar_at(hit.time_s)
        kind = _kind(hit)
        bar = int(np.floor(at + 0.5 / SLOTS)) - 1
        if kind is None or not 0 <= bar < bars:
            continue
        place = max((at - 1 - bar) * SLOTS, 0.0)
        slot, rest = int(place), place - int(place)
        share = hit.velocity / 127 * min(max(hit.confidence, 0.0), 1.0)
        rows[bar, kinds.index(kind), slot % SLOTS] += share * (1 - rest)
        rows[bar, kinds.index(kind), (slot + 1) % SLOTS] += share * rest
        if kind == "crash" and place < SLOTS / 8:
            crashes[bar] = True
    return rows, crashes


def _kind(hit: Hit) -> str | None:
    if hit.piece.startswith("crash"):
        return "crash"
    family = piece_family(hit.piece)
    if family == "snare":
        return "ghost" if hit.kind == "ghost" else "snare"
    return family if family in WEIGHTS else None


def _weights(
    rows: NDArray[np.float64], crashes: NDArray[np.bool_], levels: NDArray[np.float64]
) -> tuple[NDArray[np.float64], list[list[str]]]:
    """How much speaks for a border before each bar ``(bars,)``, and what, in words; all of it at the first bar."""
    bars = len(rows)
    alike = _alike(rows)
    usual = np.median(_busy(rows)) if bars else 0.0
    weight = np.zeros(bars)
    evidence: list[list[str]] = [["the song begins"], *([] for _ in range(bars - 1))]
    for bar in range(1, bars):
        before, after = slice(max(bar - REACH, 0), bar), slice(bar, min(bar + REACH, bars))
        own = (alike[before, before].mean() + alike[after, after].mean()) / 2
        new = max(float(own - alike[before, after].mean()), 0.0)
        weight[bar] = new
        if new > 0.15:
            evidence[bar].append("another pattern")
        if crashes[bar]:
            weight[bar] += CRASH
            evidence[bar].append("a crash on its first beat")
        if _busy(rows)[bar - 1] > FILL_MORE * max(usual, 0.5):
            weight[bar] += FILL
            evidence[bar].append("a fill before it")
        tops = [_ridden(rows[span]) for span in (before, after)]
        if tops[0] != tops[1]:
            weight[bar] += TOP
            evidence[bar].append(f"{tops[1] or 'nothing'} ridden instead of {tops[0] or 'nothing'}")
        step = float(levels[after].mean() - levels[before].mean())
        weight[bar] += LEVEL * min(abs(step) / LEVEL_DB, 1.0)
        if abs(step) > LEVEL_DB / 2:
            evidence[bar].append(f"{abs(step):.1f} dB {'louder' if step > 0 else 'softer'}")
    return weight, evidence


def _alike(rows: NDArray[np.float64]) -> NDArray[np.float64]:
    """Cosine of every two bars ``(bars, bars)``; two silent ones are alike."""
    flat = (rows * np.array(list(WEIGHTS.values()))[None, :, None]).reshape(len(rows), -1)
    size = np.sqrt(np.sum(flat**2, axis=1))
    silent = size < 1e-6
    unit = flat / np.maximum(size, 1e-6)[:, None]
    out: NDArray[np.float64] = unit @ unit.T
    out[np.ix_(silent, silent)] = 1.0
    return out


def _busy(rows: NDArray[np.float64]) -> NDArray[np.float64]:
    """Snare and toms in the second half of each bar ``(bars,)``."""
    kinds = list(WEIGHTS)
    shells = [kinds.index(k) for k in ("snare", "tom")]
    out: NDArray[np.float64] = rows[:, shells, SLOTS // 2 :].sum(axis=(1, 2))
    return out


def _ridden(rows: NDArray[np.float64]) -> str:
    """The cymbal that leads some bars; none where each is hit less than twice a bar."""
    kinds = list(WEIGHTS)
    amount = {k: float(rows[:, kinds.index(k)].sum()) / len(rows) for k in ("hat", "ride", "crash")}
    best = max(amount, key=lambda k: amount[k])
    return best if amount[best] >= 1.0 else ""


def _chosen(weight: NDArray[np.float64]) -> list[int]:
    """The borders (bars from 0 on) whose weights and the lengths between them give most, by dynamic programming."""
    bars = len(weight)
    best = np.full(bars + 1, -np.inf)
    came = np.zeros(bars + 1, int)
    best[0] = 0.0
    for end in range(1, bars + 1):
        for start in range(max(end - LONGEST, 0), end):
            at_edge = start == 0 or end == bars
            if end - start < SHORTEST and not at_edge:
                continue
            gain = weight[end] - NEEDED if end < bars else 0.0
            value = best[start] + gain + _of_length(end - start, at_edge)
            if value > best[end]:
                best[end], came[end] = value, start
    out, at = [], bars
    while at > 0:
        at = int(came[at])
        out.append(at)
    return out[::-1]


def _of_length(bars: int, at_edge: bool) -> float:
    """What a length adds; a song may begin and end as it likes."""
    if at_edge and bars < 4:
        return 0.0
    if bars < 4:
        return SHORT
    if bars % 8 == 0:
        return EIGHTS
    if bars % 4 == 0:
        return FOURS
    return EVEN if bars % 2 == 0 else ODD


def _letters(
    rows: NDArray[np.float64], levels: NDArray[np.float64], spans: Sequence[tuple[int, int]]
) -> list[str]:
    """A letter a section, the same for those that are alike, from A on."""
    means = np.stack([rows[a : max(b - 1, a + 1)].mean(axis=0) for a, b in spans])
    loud = np.array([levels[a:b].mean() for a, b in spans])
    alike = _alike(means)
    letters: list[str] = []
    for n in range(len(spans)):
        near = [m for m in range(n) if alike[n, m] >= ALIKE and abs(loud[n] - loud[m]) <= ALIKE_DB]
        if near:
            letters.append(letters[max(near, key=lambda m: alike[n, m])])
        else:
            used = len(set(letters))
            letters.append(chr(ord("A") + used % 26) + ("" if used < 26 else str(used // 26)))
    return _with_like_lengths(letters, _alike(_one_cymbal(means)), [b - a for a, b in spans])


def _one_cymbal(rows: NDArray[np.float64]) -> NDArray[np.float64]:
    """Hat and ride as one."""
    hat, ride = (list(WEIGHTS).index(kind) for kind in ("hat", "ride"))
    out = rows.copy()
    out[:, hat] += out[:, ride]
    out[:, ride] = 0.0
    return out


def _with_like_lengths(
    letters: list[str], alike: NDArray[np.float64], lengths: Sequence[int]
) -> list[str]:
    """Of the sections that come once, two of one length that are each other's nearest get one letter: a verse may
    come back with another cymbal."""
    once = [n for n, x in enumerate(letters) if letters.count(x) == 1]
    nearest = {
        n: max(
            (m for m in once if m != n and lengths[m] == lengths[n]),
            key=lambda m: alike[n, m],
            default=None,
        )
        for n in once
    }
    out = list(letters)
    for n, m in nearest.items():
        if m is not None and m < n and nearest[m] == n and alike[n, m] >= NEARLY:
            out[n] = out[m]
    order = list(dict.fromkeys(out))
    names = sorted(set(letters), key=letters.index)
    return [names[order.index(x)] for x in out]


def _names(
    rows: NDArray[np.float64],
    levels: NDArray[np.float64],
    spans: Sequence[tuple[int, int]],
    letters: Sequence[str],
) -> list[str]:
    """Chorus: of what comes again the loudest and densest; verse: what else comes again most often; a first or last
    section that comes once: intro and outro; the others by their letters."""
    again = [x for x in dict.fromkeys(letters) if letters.count(x) > 1]

    def strength(letter: str) -> float:
        inside = [n for n, x in enumerate(letters) if x == letter]
        density = np.mean([rows[slice(*spans[n])].sum(axis=(1, 2)).mean() for n in inside])
        return float(
            np.mean([levels[slice(*spans[n])].mean() for n in inside]) + 3 * np.log2(density + 1e-3)
        )

    names: dict[str, str] = {}
    if len(again) > 1:
        names[max(again, key=strength)] = "chorus"
        rest = [x for x in again if x not in names]
        names[max(rest, key=lambda x: (letters.count(x), -letters.index(x)))] = "verse"
    out = [names.get(letter, f"part {letter}") for letter in letters]
    for place, name in ((0, "intro"), (-1, "outro")):
        if letters.count(letters[place]) == 1 and len(letters) > 2:
            out[place] = name
    return out
