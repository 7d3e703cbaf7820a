"""Parts of the song, laid end to end, on which changes are measured before they are proposed.

The first holds the loudest stroke, since peaks are what loudness stands against; the others are
chosen so that every piece of the kit is struck a few times.
"""

from collections import Counter
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from arkund.core.advise.goal import Figure, Goal, card_of, figures, strokes_in, strokes_of
from arkund.core.advise.study import Study
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import sort_pieces
from arkund.core.measure.loudness import true_peak_dbtp
from arkund.core.measure.punch import Card, Strokes, punch_card
from arkund.core.mix.building import build
from arkund.core.mix.channels import DRUM_BUS
from arkund.core.mix.engine import STRETCH_S, Engine
from arkund.core.mix.nodes import Node
from arkund.core.process.limiter import Limiter
from arkund.core.shape.sides import louder_side

Span = tuple[int, int]
SPANS, SPAN_S = 4, STRETCH_S

ENOUGH, FEWEST = 4, 2
"""So many strokes of a piece are looked for; a piece that has fewer than `FEWEST` is not judged."""


class Excerpt:
    """The parts, their strokes and their card as recorded, and that of the whole song."""

    def __init__(self, study: Study, goal: Goal) -> None:
        self.goal, rate = goal, study.rate
        recorded = build(study.sheet, study.library, "recorded").output
        mix = study.engine.read_apart(recorded, 0, study.sheet.frames)
        self.whole_strokes = strokes_of(study)
        self.whole_before = card_of(study, recorded=True)
        self.spans = _spans(mix, study.hits, rate)
        self.strokes = _strokes(study.hits, self.spans, rate, self.whole_strokes)
        self.before = punch_card(
            np.concatenate([mix[first:last] for first, last in self.spans]), rate, self.strokes
        )
        self._offsets: dict[str, float] = {}

    def card(self, study: Study, held_db: float | None = None, *, is_beside: bool = False) -> Card:
        """The card of the parts as a study has them. With ``held_db`` the drum bus's limiter is set
        to take so much off their true peak. One that is made
        beside others (``is_beside``) takes one core."""
        engine = study.engine.only(self.spans)
        if not is_beside:
            _warm(engine, study, self.spans)
        sound = _sound(engine, study, self.spans, held_db, is_beside=is_beside)
        return punch_card(sound, study.rate, self.strokes)

    def whole_card(self, study: Study, held_db: float | None = None) -> Card:
        """The card of the whole song, likewise."""
        whole = [(0, study.sheet.frames)]
        _warm(study.engine, study, whole)
        sound = _sound(study.engine, study, whole, held_db)
        return punch_card(sound, study.rate, self.whole_strokes)

    def learn(self, whole: Card, part: Card) -> None:
        """What the whole song gains less or more than the part is taken to stay as it is."""
        here = {f.name: f.gained for f in figures(self.before, part, self.goal)}
        self._offsets = {
            f.name: f.gained - here[f.name]
            for f in figures(self.whole_before, whole, self.goal)
            if f.name in here
        }

    def wanted(self, card: Card) -> list[Figure]:
        """The figures that have a goal, of a card of the part as the whole song would show them."""
        return [
            replace(f, now=f.now + self._offsets.get(f.name, 0.0))
            for f in figures(self.before, card, self.goal)
            if f.wanted is not None or f.within is not None
        ]


def _spans(mix: NDArray[np.float32], hits: Sequence[Hit], rate: int) -> list[Span]:
    """Spans in samples, in the song's order."""
    frames, length = len(mix), SPAN_S * rate
    if frames <= SPANS * length:
        return [(0, frames)]
    loud = louder_side(mix)
    peak = int(np.argmax(loud))
    starts = list(range(0, frames - length + 1, length))
    counts = {start: _counts(hits, (start, start + length), rate) for start in starts}
    chosen = [min(peak // length * length, starts[-1])]
    while len(chosen) < SPANS:
        free = [s for s in starts if s not in chosen]
        if not free:
            break
        have = sum((counts.get(c, Counter()) for c in chosen), Counter())
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
    found = strokes_in(hits, (span[0] / rate, span[1] / rate), 1)
    return Counter(
        {piece: len(times) for piece, times in found.shells.items()} | {"ghost": len(found.ghosts)}
    )


def _strokes(hits: Sequence[Hit], spans: Sequence[Span], rate: int, judged: Strokes) -> Strokes:
    """The strokes of all spans as they fall where these are laid end to end, of the pieces that are
    judged in the whole song."""
    shells: dict[str, list[float]] = {}
    ghosts: list[float] = []
    every: list[float] = []
    laid = 0.0
    for first, last in spans:
        found = strokes_in(hits, (first / rate, last / rate), 1)
        for piece, times in found.shells.items():
            shells.setdefault(piece, []).extend(laid + t for t in times)
        ghosts += [laid + t for t in found.ghosts]
        every += [laid + t for t in found.every]
        laid += (last - first) / rate
    enough = {
        piece: shells[piece]
        for piece in sort_pieces(shells)
        if len(shells[piece]) >= FEWEST and piece in judged.shells
    }
    return Strokes(enough, ghosts if len(ghosts) >= FEWEST and judged.ghosts else (), every)


def _sound(
    engine: Engine,
    study: Study,
    spans: Sequence[Span],
    held_db: float | None,
    *,
    is_beside: bool = False,
) -> NDArray[np.float32]:
    chain = study.graph.chains[DRUM_BUS]
    limiter = next(iter(study.sheet.drum_bus.stages(Limiter)), None)
    if limiter is None or held_db is None:
        return _laid(engine, chain.end, spans, is_beside)
    sound = _laid(engine, chain.before(limiter.id), spans, is_beside)
    ceiling = float(np.clip(true_peak_dbtp(sound) - held_db, -24, 0))
    process = limiter.model_copy(update={"ceiling_db": ceiling}).process(study.rate)
    late = np.concatenate([sound, np.zeros((process.latency, 2), np.float32)])
    return process.run(late, process.at_rest(2))[process.latency :]


def _warm(engine: Engine, study: Study, spans: Sequence[Span]) -> None:
    """The kit's chains rendered where they will be read."""
    with ThreadPoolExecutor(2) as pool:
        engine.ahead(study.graph.levels(), spans, pool)


def _laid(
    engine: Engine, node: Node, spans: Sequence[Span], is_beside: bool
) -> NDArray[np.float32]:
    """A node's sound over spans, end to end."""
    if is_beside:
        return np.concatenate([engine.read(node, first, last) for first, last in spans])
    if len(spans) == 1:
        return engine.read_apart(node, *spans[0])
    with ThreadPoolExecutor(2) as pool:
        return np.concatenate(list(pool.map(lambda span: engine.read(node, *span), spans)))
