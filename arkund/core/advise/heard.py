"""What judgement of sums listens to, and the hits in it: a minute from the first hit on, by which
stages are dialled, and some parts of the song, end to end, by which their results are looked at.

Of the parts the first holds the loudest hit, since peaks are what loudness stands against; the
others are chosen so that every piece of the kit is struck a few times. What is typical of a song
they do not show: dialled by them, ghosts come to stand too far under accents.
"""

import threading
from collections import Counter, OrderedDict
from collections.abc import Hashable, Sequence

import numpy as np
from numpy.typing import NDArray

from arkund.core.advise.study import Study
from arkund.core.graph.building import build
from arkund.core.graph.nodes import Node
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import is_shell, piece_family
from arkund.core.render.engine import STRETCH_S
from arkund.core.shape.sides import louder_side

Span = tuple[int, int]
SPANS, SPAN_S = 4, STRETCH_S

LONGEST_HEARD_S = 60.0

ENOUGH = 4
"""So many hits of a piece are looked for."""

FLAM_MS, NO_GAP_MS = 60.0, 500.0
"""Hits no farther apart are one; where there are no gaps, one of so much is supposed."""

KEPT = 8
_spans: "OrderedDict[Hashable, list[Span]]" = OrderedDict()
_turn = threading.Lock()


def recorded_mix(study: Study) -> Node:
    """The kit as recorded."""
    node: Node = study.remember(
        "recorded", lambda: build(study.sheet, study.library, "recorded").output
    )
    return node


def spans_of(study: Study) -> list[Span]:
    """The parts of the song, in samples and in its order. They rest on the recording and its
    hits, and the last few are kept."""

    def find() -> list[Span]:
        recorded = recorded_mix(study)
        key = (recorded.key, tuple((h.time_s, h.piece, h.kind) for h in study.hits))
        with _turn:
            known = _spans.get(key)
        if known is None:
            mix = study.engine.read_apart(recorded, 0, study.sheet.frames)
            known = _chosen(mix, study.hits, study.rate)
        with _turn:
            _spans[key] = known
            while len(_spans) > KEPT:
                _spans.popitem(last=False)
        return known

    found: list[Span] = study.remember("spans", find)
    return found


def heard(study: Study, node: Node, *, is_beside: bool = True) -> NDArray[np.float32]:
    """A sum or what is behind it from the first hit on, `LONGEST_HEARD_S` at most; on one core
    where others are judged ``beside`` it."""
    start = _start(study)
    stop = min(start + round(LONGEST_HEARD_S * study.rate), study.sheet.frames)
    return study.read(node, start, stop, is_beside=is_beside)


def _start(study: Study) -> int:
    first = study.hits[0].time_s if study.hits else 0.0
    return max(round((first - 0.2) * study.rate), 0)


def laid(hits: Sequence[Hit], spans: Sequence[Span], rate: int) -> list[tuple[float, Hit]]:
    """Hits that are heard whole in spans, each with its time in s where these are laid end to end."""
    out, at = [], 0.0
    for first, last in spans:
        begin, end = first / rate, last / rate
        out += [(at + h.time_s - begin, h) for h in hits if begin + 0.01 <= h.time_s < end - 0.15]
        at += end - begin
    return out


def shell_times(study: Study, families: Sequence[str] = ()) -> list[float]:
    """Shells' hits without ghosts, of some families where they are given, in the song, in s."""
    return [h.time_s for h in study.hits if _is_plain(h, families)]


def heard_times(study: Study, families: Sequence[str] = ()) -> list[float]:
    """The same as they fall in `heard`."""
    start = _start(study) / study.rate
    times = [time - start for time in shell_times(study, families)]
    return [time for time in times if time < LONGEST_HEARD_S - 0.5]


def _is_plain(hit: Hit, families: Sequence[str]) -> bool:
    within = piece_family(hit.piece) in families if families else is_shell(hit.piece)
    return within and hit.kind != "ghost"


def gap_ms(times: Sequence[float], percentile: float) -> float:
    """Gap between hits (in s) in ms: of all gaps the one at a percentile."""
    gaps = np.diff(np.sort(times)) * 1000
    gaps = gaps[gaps > FLAM_MS]
    return float(np.percentile(gaps, percentile)) if len(gaps) else NO_GAP_MS


def _chosen(mix: NDArray[np.float32], hits: Sequence[Hit], rate: int) -> list[Span]:
    """The spans of a recording ``(frames, 2)``."""
    frames, length = len(mix), SPAN_S * rate
    if frames <= SPANS * length:
        return [(0, frames)]
    peak = int(np.argmax(louder_side(mix)))
    starts = list(range(0, frames - length + 1, length))
    counts = {start: _counts(hits, (start, start + length), rate) for start in starts}
    chosen = [min(peak // length * length, starts[-1])]
    while len(chosen) < SPANS:
        free = [s for s in starts if s not in chosen]
        if not free:
            break
        have = sum((counts[c] for c in chosen), Counter())
        # What is rare first: a tom that is struck three times weighs as much as thirty kicks.
        chosen.append(
            max(
                free,
                key=lambda s: sum(
                    min(count, max(ENOUGH - have[piece], 0)) for piece, count in counts[s].items()
                ),
            )
        )
    return sorted((start, start + length) for start in chosen)


def _counts(hits: Sequence[Hit], span: Span, rate: int) -> "Counter[str]":
    """How often each shell is struck in a span, and the snare's ghosts."""
    struck = [hit for _, hit in laid(hits, [span], rate) if is_shell(hit.piece)]
    return Counter("ghost" if h.kind == "ghost" else h.piece for h in struck)
