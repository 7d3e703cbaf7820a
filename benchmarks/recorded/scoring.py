"""Hits found in recordings of recorded hits against their truth."""

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import close_mics, parse_mic_name, piece_family
from benchmarks import gating
from benchmarks.recorded.recording import Recording

TOLERANCE_S = 0.005
NO_MIC_S = 0.010
SPAN_S = 0.030
LONGEST_HOLE_S = 0.12
"""A roll with a longer hole in it is not one roll."""


@dataclass
class Score:
    """Right, true and found counts by group, and by (pattern, group)."""

    groups: dict[str, list[tuple[int, int, int]]] = field(default_factory=lambda: defaultdict(list))
    patterns: dict[tuple[str, str], list[tuple[int, int, int]]] = field(
        default_factory=lambda: defaultdict(list)
    )
    few: list[tuple[int, int, int]] = field(default_factory=list)
    spans: list[bool] = field(default_factory=list)
    confidence: list[tuple[float, bool]] = field(default_factory=list)
    gates: list[gating.Gated] = field(default_factory=list)

    def add(self, pattern: str, group: str, row: tuple[int, int, int]) -> None:
        self.groups[group].append(row)
        self.patterns[pattern, group].append(row)

    def take_in(self, other: "Score") -> None:
        """All that another score counted."""
        for group, found in other.groups.items():
            self.groups[group] += found
        for key, found in other.patterns.items():
            self.patterns[key] += found
        self.few += other.few
        self.spans += other.spans
        self.confidence += other.confidence
        self.gates += other.gates


def f_measure(rows: Sequence[tuple[int, int, int]]) -> float:
    """2 right / (true + found), 1 where nothing is true or found."""
    good, true, found = (sum(r[i] for r in rows) for i in range(3))
    return 2 * good / (true + found) if true + found else 1.0


def score(pattern: str, recording: Recording, hits: Sequence[Hit], total: Score) -> None:
    """Add one recording's hits to the score.

    Hits of rolls count as spans. A grace note within 30 ms of its hit may be a hit of its
    own or its hit's grace: neither is held against the list.
    """
    alone = not any(parse_mic_name(m).is_close for m in recording.mics)
    for piece in sorted(
        {h["piece"] for h in recording.hits} | {h.piece for h in hits} | _miced(recording)
    ):
        has_mic = bool(close_mics(recording.mics, piece))
        family = piece_family(piece)
        if alone and family == "tom":
            continue
        true = [
            h for h in recording.hits if h["piece"] == piece and h["kind"] not in ("roll", "grace")
        ]
        spared = [
            h["time_s"] for h in recording.hits if h["piece"] == piece and h["kind"] == "grace"
        ]
        own = [h for h in hits if h.piece == piece]
        spans = [(b, e) for p, b, e in recording.spans if p == piece]
        total.spans += [_rolled(own, b, e) for b, e in spans]
        own = [h for h in own if not any(b - SPAN_S <= h.time_s <= e + SPAN_S for b, e in spans)]
        pairs = matches(
            [h["time_s"] for h in true],
            [h.time_s for h in own],
            TOLERANCE_S if has_mic else NO_MIC_S,
        )
        matched = {j for _, j in pairs}
        own = [h for j, h in enumerate(own) if j in matched or not _near(h.time_s, spared)]
        row = (len(pairs), len(true), len(own))
        group = family if has_mic else f"{family} without a mic"
        if alone:
            group = f"{family}, one mic"
        total.add(pattern, group, row)
        if family == "tom" and len(true) <= 4:
            total.few.append(row)
        if family == "snare" and has_mic:
            ghosts = {i for i, h in enumerate(true) if h["kind"] == "ghost"}
            if ghosts:
                got = sum(i in ghosts for i, _ in pairs)
                stray = len(own) - len(pairs)
                total.add(pattern, "ghosts", (got, len(ghosts), got + stray))
        right = {j for _, j in pairs}
        all_own = [h for h in hits if h.piece == piece]
        total.confidence += [
            (h.confidence, h.id in {all_own[j].id for j in right}) for h in all_own if h in own
        ]


def _miced(recording: Recording) -> set[str]:
    return {p for p in ("tom_1", "tom_2", "tom_3") if close_mics(recording.mics, p)}


def matches(
    true: Sequence[float], found: Sequence[float], within_s: float
) -> list[tuple[int, int]]:
    """Pairs (true, found) of times within a distance, each used once, nearest first."""
    near = sorted(
        (abs(found[j] - t), i, j)
        for i, t in enumerate(true)
        for j in range(*np.searchsorted(found, [t - within_s, t + within_s]))
    )
    used_true: set[int] = set()
    used_found: set[int] = set()
    pairs = []
    for _, i, j in near:
        if i not in used_true and j not in used_found:
            used_true.add(i)
            used_found.add(j)
            pairs.append((i, j))
    return pairs


def _near(time_s: float, others: Sequence[float]) -> bool:
    return any(abs(time_s - other) <= TOLERANCE_S for other in others)


def _rolled(own: Sequence[Hit], begin: float, end: float) -> bool:
    """Whether a roll is found as one: begin and end within 30 ms, no hole in it."""
    times = np.array([h.time_s for h in own if begin - SPAN_S <= h.time_s <= end + SPAN_S])
    if len(times) < 2:
        return False
    near = abs(times[0] - begin) <= SPAN_S and abs(times[-1] - end) <= SPAN_S
    return bool(near and np.diff(times).max() <= LONGEST_HOLE_S)


def rows(total: Score) -> list[tuple[str, str, str, bool | None]]:
    """Rows of the accuracy table."""
    bars = {
        "kick": 0.99,
        "snare": 0.99,
        "tom": 0.97,
        "ghosts": 0.95,
        "hat": 0.95,
        "ride": 0.95,
        "crash without a mic": 0.8,
        "ride without a mic": 0.8,
        "kick, one mic": 0.9,
        "snare, one mic": 0.9,
    }
    out: list[tuple[str, str, str, bool | None]] = []
    for group in sorted(total.groups):
        f, bar = f_measure(total.groups[group]), bars.get(group)
        out.append(
            (
                f"recorded hits, {group}: F",
                f"{f:.3f}",
                f"≥ {bar}" if bar else "–",
                f >= bar if bar else None,
            )
        )
        by = {p: f_measure(r) for (p, g), r in total.patterns.items() if g == group}
        worst = min(by, key=lambda p: by[p])
        least = 0.95 if group in ("kick", "snare") else None
        out.append(
            (
                f"… worst pattern ({worst})",
                f"{by[worst]:.3f}",
                f"≥ {least}" if least else "–",
                by[worst] >= least if least else None,
            )
        )
    missed = sum(t - g for g, t, _ in total.few)
    made_up = sum(f - g for g, _, f in total.few)
    out.append(
        (
            "toms struck up to four times: missed, made up",
            f"{missed}, {made_up}",
            "0, 0",
            missed + made_up == 0,
        )
    )
    if total.gates:
        what = "recorded hits, "
        out += [gating.cut_row(total.gates, what), *gating.rows(total.gates, what)]
    if total.spans:
        share = float(np.mean(total.spans))
        out.append(("rolls found as spans", f"{share:.3f} of {len(total.spans)}", "–", None))
    return out


def said(met: bool | None) -> str:
    """How a row says whether its bar is met."""
    return "–" if met is None else "yes" if met else "**no**"


def calibration(total: Score) -> list[tuple[str, int, float]]:
    """By steps of confidence: the step, how many hits, the share that is right."""
    steps = [(0.0, 0.3), (0.3, 0.5), (0.5, 0.7), (0.7, 0.85), (0.85, 0.95), (0.95, 1.01)]
    out = []
    for low, high in steps:
        inside: list[Any] = [right for c, right in total.confidence if low <= c < high]
        if inside:
            out.append((f"{low:.2f}–{min(high, 1.0):.2f}", len(inside), float(np.mean(inside))))
    return out
