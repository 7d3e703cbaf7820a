"""What each figure of evidence and each rule gains, on worlds left out.

A figure is left out by being *not known* to the trees as they ship; a rule by being put out of work. What
gains less than a thousandth of F has no place in the finder.
"""

from collections.abc import Iterator, Sequence
from concurrent.futures import Executor
from contextlib import contextmanager
from typing import Any

import numpy as np

from arkund.core.hits import detect
from arkund.core.hits.choose import choosing
from arkund.core.hits.choose.choosing import told
from arkund.core.hits.choose.hits import first_shares
from arkund.core.hits.listening import listen
from arkund.core.hits.weigh.weighing import FIRST_NAMES, Weighed, weighed
from arkund.core.kit.roles import piece_family
from benchmarks.recorded.scoring import matches
from benchmarks.worlds.drawn import recorded
from benchmarks.worlds.scoring import TOLERANCE_S, Tally, score, times_of
from benchmarks.worlds.world import World

FAMILIES = ("kick", "snare", "tom", "hat", "ride")
Counts = dict[str, tuple[int, int, int]]
"""Right, true and found hits by family."""


def f_of(counts: Sequence[Counts]) -> dict[str, float]:
    """Pooled F-measure by family."""
    out = {}
    for family in FAMILIES:
        right, true, found = np.sum([c.get(family, (0, 0, 0)) for c in counts], axis=0).tolist()
        out[family] = 2 * right / max(true + found, 1)
    return out


def without_figures(world: World) -> dict[str, Counts]:
    """One world told by the first weighing without each figure; under an empty name with all."""
    recording = recorded(world)
    listened = listen(recording.mics, recording.rate)
    out: dict[str, Counts] = {name: {} for name in ("", *FIRST_NAMES)}
    for piece in listened.pieces if listened else []:
        assert listened is not None
        found = weighed(listened.heard(piece), listened.signatures)
        true = [
            h["time_s"]
            for h in recording.hits
            if h["piece"] == piece and h["kind"] not in ("grace", "roll")
        ]
        for name, counts in out.items():
            family = piece_family(piece)
            row = _told(piece, _without(found, name), recording.rate, true)
            counts[family] = tuple(np.add(counts.get(family, (0, 0, 0)), row).tolist())
    return out


def _without(found: Weighed, name: str) -> Weighed:
    if not name:
        return found
    rows = found.evidence.copy()
    rows[:, FIRST_NAMES.index(name)] = np.nan
    return Weighed(found.place, found.level_db, rows)


def _told(piece: str, found: Weighed, rate: int, true: Sequence[float]) -> tuple[int, int, int]:
    kept = told(piece, found, first_shares(piece, found), rate)
    times = [float(found.place[i]) / rate for i in kept]
    return len(matches(true, times, TOLERANCE_S)), len(true), len(times)


RULES: dict[str, tuple[Any, str, Any]] = {
    "all rules": (choosing, "LIKELY", choosing.LIKELY),
    "seldom hit toms must once be sure": (choosing, "SELDOM", 0),
    "witnessed by mic and overheads": (choosing, "WITNESSED_NEW_DB", 1e9),
    "rivals together": (choosing, "TOGETHER", 1e9),
    "known from afar": (choosing, "KNOWN_FROM_AFAR", 1e9),
    "a softer one must be likelier": (choosing, "SOFTER", 0.0),
    "the dull part is less exact": (choosing, "LESS_EXACT", 0.0),
    "after grace notes": (choosing, "GRACE_SURE", 1e9),
    "toms that echo others": (detect, "without_echoes", lambda by_piece: by_piece),
    "rolls": (detect, "with_rolls", lambda hits, *_: hits),
    "the floor": (detect, "added_to", lambda hits, *_: list(hits)),
}
"""Each rule by a name: where it stands, and what puts it out of work."""


@contextmanager
def _without_rule(name: str) -> Iterator[None]:
    module, attribute, instead = RULES[name]
    kept = getattr(module, attribute)
    setattr(module, attribute, instead)
    try:
        yield
    finally:
        setattr(module, attribute, kept)


def without_rules(world: World) -> dict[str, dict[str, Tally]]:
    """One world's tallies by family, as detected without each rule."""
    recording = recorded(world)
    out: dict[str, dict[str, Tally]] = {}
    for name in RULES:
        with _without_rule(name):
            found = score(recording, times_of(detect.detect_hits(recording.mics, recording.rate)))
        out[name] = {}
        for piece, tally in found.pieces.items():
            family = piece_family(piece)
            out[name][family] = out[name].get(family, Tally()) + tally
    return out


def figures_table(pool: Executor, worlds: Sequence[World]) -> str:
    """What each figure gains by family, the most useful first."""
    found = list(pool.map(without_figures, worlds))
    by_name = {name: f_of([one[name] for one in found]) for name in found[0]}
    return _table(by_name, by_name.pop(""), "figure")


def rules_table(pool: Executor, worlds: Sequence[World]) -> str:
    """What each rule gains by family, the most useful first."""
    found = list(pool.map(without_rules, worlds))
    by_name = {
        name: {
            family: sum((one[name].get(family, Tally()) for one in found), Tally()).f
            for family in FAMILIES
        }
        for name in RULES
    }
    return _table(by_name, by_name.pop("all rules"), "rule")


def _table(by_name: dict[str, dict[str, float]], whole: dict[str, float], what: str) -> str:
    gains = {
        name: {family: whole[family] - f for family, f in fs.items()}
        for name, fs in by_name.items()
    }
    lines = [
        f"| {what} | {' | '.join(FAMILIES)} |",
        "|---" * (len(FAMILIES) + 1) + "|",
        f"| with all | {' | '.join(f'{whole[f]:.3f}' for f in FAMILIES)} |",
    ]
    for name in sorted(gains, key=lambda n: -max(gains[n].values())):
        cells = " | ".join(f"{gains[name][f]:+.4f}" for f in FAMILIES)
        lines.append(f"| without {name} | {cells} |")
    return "\n".join(lines)
