"""The parts of the song (`core/advise/heard.py`) on which changes are measured before they are
proposed: their card, and what the whole song shows otherwise."""

from collections.abc import Sequence
from dataclasses import replace

from arkund.core.advise.goal import Figure, Goal, card_of, figures, hits_of
from arkund.core.advise.heard import Span, laid, recorded_mix, spans_of
from arkund.core.advise.study import Study
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import is_shell, sort_pieces
from arkund.core.measure.punch import Card, Hits, punch_card

FEWEST = 2
"""A piece that is struck less in the parts is not judged by them."""


class Excerpt:
    """The parts, their hits and their card as recorded, and that of the whole song."""

    def __init__(self, study: Study, goal: Goal) -> None:
        self.goal, self.spans = goal, spans_of(study)
        self.whole_hits = hits_of(study)
        self.whole_before = card_of(study, recorded=True)
        self.hits = _hits(study.hits, self.spans, study.rate, self.whole_hits)
        before = study.mixed(recorded_mix(study), self.spans, is_beside=True)
        self.before = punch_card(before, study.rate, self.hits)
        self._offsets: dict[str, float] = {}

    def card(self, study: Study, held_db: float | None = None, *, is_beside: bool = False) -> Card:
        """The card of the parts as a study has them. With ``held_db`` the drum bus's limiter is set
        to take so much off their true peak. One that is made
        beside others (``is_beside``) takes one core."""
        sound = study.mix(self.spans, held_db=held_db, is_beside=is_beside)
        return punch_card(sound, study.rate, self.hits)

    def whole_card(self, study: Study, held_db: float | None = None) -> Card:
        """The card of the whole song, likewise."""
        return punch_card(study.mix(held_db=held_db), study.rate, self.whole_hits)

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
            if f.has_goal
        ]


def _hits(hits: Sequence[Hit], spans: Sequence[Span], rate: int, judged: Hits) -> Hits:
    """The hits of all spans as they fall where these are laid end to end, of the pieces that are
    judged in the whole song."""
    shells: dict[str, list[float]] = {}
    ghosts: list[float] = []
    every: list[float] = []
    cymbals: list[float] = []
    for time, hit in laid(hits, spans, rate):
        every.append(time)
        if not is_shell(hit.piece):
            cymbals.append(time)
        if hit.kind != "ghost" and is_shell(hit.piece):
            shells.setdefault(hit.piece, []).append(time)
        elif hit.kind == "ghost" and hit.piece == "snare":
            ghosts.append(time)
    enough = {
        piece: shells[piece]
        for piece in sort_pieces(shells)
        if len(shells[piece]) >= FEWEST and piece in judged.shells
    }
    return Hits(
        enough,
        ghosts if len(ghosts) >= FEWEST and judged.ghosts else (),
        every,
        cymbals if judged.cymbals else (),
    )
