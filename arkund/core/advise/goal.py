"""The school's goal in figures: what the punch card (`core/measure/punch.py`) shall gain over the
recording, what it gained, and what each kind of stage does to it."""

import threading
from collections import OrderedDict
from collections.abc import Hashable, Sequence
from dataclasses import dataclass

from arkund.core.advise.finding import Finding, spoken
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.graph.building import build
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import is_shell, label, piece_family, sort_pieces
from arkund.core.measure.punch import Card, Hits, punch_card
from arkund.core.process.limiter import Limiter
from arkund.core.sheet.channels import DRUM_BUS
from arkund.core.sheet.sheet import Sheet

NAME = "goal"
STATION = "bus"
LED_BY = ("kick", "snare")
"""The pieces whose attack makes a kit hit."""


@dataclass(frozen=True)
class Goal:
    """What is wanted over the recording: loudness at equal true peak in LU; of kick and snare
    attack at equal loudness and attack over body, of toms both likewise; the kick's low end at equal
    true peak; how far the low end of kick and toms may fall at equal loudness; how far ghosts may move,
    hits of cymbals apart and under kick and snare; how far noise may rise and mono may lose more; all
    in dB."""

    loudness_lu: float
    attack_db: float
    attack_to_body_db: float
    tom_attack_to_body_db: float
    low_db: float
    tom_attack_db: float = -1.0
    least_low_db: float = -2.0
    ghosts_db: float | None = None
    cymbals_spread_db: float = 6.0
    cymbals_pumping_db: float = 2.0
    noise_db: float = 8.0
    mono_db: float = 1.0


GOALS = {
    "punch": Goal(4.0, 1.0, 1.5, 0.0, 1.0),
    "punch_size": Goal(2.5, 0.5, 1.0, 0.0, 0.0, ghosts_db=3.0),
    "size": Goal(1.0, 0.0, -1.0, 0.0, 0.0, ghosts_db=3.0),
}

LOUDNESS = "loudness at equal true peak"
LOW_LEVEL = "low end at equal loudness"
KICK_LOW, KICK_LOW_LEVEL = "kick low end at equal true peak", f"kick {LOW_LEVEL}"
GHOSTS = "ghosts under accents"
APART, PUMPING = "cymbals moved apart", "pumping of cymbals"
NOISE, MONO = "noise against the mix", "lost in mono"


def hits_of(study: Study, span_s: tuple[float, float] | None = None) -> Hits:
    """The hits that a card is made of, in the whole song or as they fall in a part of it."""
    return hits_in(study.hits, span_s or (0.0, study.sheet.frames / study.rate))


def hits_in(hits: Sequence[Hit], span_s: tuple[float, float], fewest: int = 3) -> Hits:
    """The hits between two times in s, as they fall from the first on; pieces that are struck
    less than ``fewest`` times are left out."""
    first, last = span_s
    inside = [h for h in hits if first + 0.01 <= h.time_s < last - 0.15]
    shells: dict[str, list[float]] = {}
    for h in inside:
        if is_shell(h.piece) and h.kind != "ghost":
            shells.setdefault(h.piece, []).append(h.time_s - first)
    ghosts = [h.time_s - first for h in inside if h.piece == "snare" and h.kind == "ghost"]
    enough = {p: shells[p] for p in sort_pieces(shells) if len(shells[p]) >= fewest}
    every = [h.time_s - first for h in inside]
    cymbals = [h.time_s - first for h in inside if not is_shell(h.piece)]
    return Hits(
        enough,
        ghosts if len(ghosts) >= fewest else (),
        every,
        cymbals if len(cymbals) >= fewest else (),
    )


CARDS_KEPT = 16
_cards: "OrderedDict[Hashable, Card]" = OrderedDict()
_turn = threading.Lock()


def card_of(study: Study, *, recorded: bool = False) -> Card:
    """The card of the whole song as it is, or as recorded; the last few are kept, for the recording's
    is asked for again and again while the sheet changes."""

    def measure() -> Card:
        graph = build(study.sheet, study.library, "recorded") if recorded else study.graph
        hits = hits_of(study)
        key = (graph.output.key, study.engine.family, hits.as_key)
        with _turn:
            known = _cards.get(key)
        if known is None:
            mix = (
                study.engine.read_apart(graph.output, 0, study.sheet.frames)
                if recorded
                else study.mix()
            )
            known = punch_card(mix, study.rate, hits)
        with _turn:
            _cards[key] = known
            _cards.move_to_end(key)
            while len(_cards) > CARDS_KEPT:
                _cards.popitem(last=False)
        return known

    card: Card = study.remember(("card", recorded), measure)
    return card


MET = 0.05
"""A goal that is missed by no more is met: figures are shown to a tenth."""


@dataclass(frozen=True)
class Figure:
    """A figure of the card as recorded and now, and what it shall gain at least (``wanted``) or at ``most``;
    where it is to stay near what it was, ``within`` so many dB."""

    name: str
    unit: str
    recorded: float
    now: float
    wanted: float | None = None
    within: float | None = None
    most: float | None = None

    @property
    def has_goal(self) -> bool:
        """Whether a school asks anything of it."""
        return not (self.wanted is self.within is self.most is None)

    @property
    def gained(self) -> float:
        """What it is more than as recorded."""
        return self.now - self.recorded

    def missing(self, margin: float = 0.0) -> float:
        """By how much the goal is missed; 0 or less where it is met or there is none."""
        if self.within is not None:
            return abs(self.gained) - self.within + margin
        if self.most is not None:
            return self.gained - self.most + margin
        return self.wanted + margin - self.gained if self.wanted is not None else 0.0

    @property
    def is_met(self) -> bool:
        """Whether the goal is met, as far as figures are shown; yes where there is none."""
        return self.missing() <= MET

    @property
    def wish(self) -> str:
        """What is asked of its gain, in words."""
        if self.within is not None:
            return f"within {self.within:g} {self.unit}"
        if self.most == 0:
            return "no more than recorded"
        if self.most is not None:
            return f"{_signed(self.most)} {self.unit} or less"
        return f"{_signed(self.wanted or 0.0)} {self.unit} or more"


def _signed(gain: float) -> str:
    return f"{gain:+.2g}".replace("-", "−") if gain else "0"


def figures(before: Card, now: Card, goal: Goal) -> list[Figure]:
    """The card against the goal, figure by figure."""
    loud = Figure(
        LOUDNESS, "LU", before.loudness_at_peak_lu, now.loudness_at_peak_lu, goal.loudness_lu
    )
    out = [loud, Figure("crest", "dB", before.crest_db, now.crest_db)]
    for piece, shell in now.shells.items():
        if piece not in before.shells:
            continue
        then, called = before.shells[piece], label(piece)
        leads, is_tom = piece in LED_BY, piece_family(piece) == "tom"
        out += [
            Figure(
                f"{called} attack",
                "dB",
                *_attack(before, now, piece),
                goal.attack_db if leads else goal.tom_attack_db if is_tom else None,
            ),
            Figure(
                f"{called} attack over body",
                "dB",
                then.attack_to_body_db,
                shell.attack_to_body_db,
                goal.attack_to_body_db if leads else goal.tom_attack_to_body_db if is_tom else None,
            ),
            Figure(
                f"{called} low end at equal true peak",
                "dB",
                before.low_at_peak_db(piece),
                now.low_at_peak_db(piece),
                goal.low_db if piece == "kick" else None,
            ),
            Figure(
                f"{called} {LOW_LEVEL}",
                "dB",
                before.low_at_loudness_db(piece),
                now.low_at_loudness_db(piece),
                goal.least_low_db if piece == "kick" or is_tom else None,
            ),
            Figure(f"{called} ring under attack", "dB", then.ring_db, shell.ring_db),
        ]
    ghosts = before.ghosts.under_db(before.ghosts), now.ghosts.under_db(before.ghosts)
    if ghosts[0] is not None and ghosts[1] is not None:
        out.append(Figure(GHOSTS, "dB", ghosts[0], ghosts[1], within=goal.ghosts_db))
    return [*out, *_of_cymbals(before, now, goal), *_of_all(before, now, goal)]


OF_ALL = ("crest", GHOSTS, "cymbals over snare", APART, PUMPING, NOISE, MONO)
OF_SHELLS = (
    "attack",
    "attack over body",
    "low end at equal true peak",
    LOW_LEVEL,
    "ring under attack",
)


def unit_of(name: str) -> str:
    """Unit of a figure of the card by its name: ``"snare attack"``; empty for what is none."""
    if name == LOUDNESS:
        return "LU"
    is_known = name in OF_ALL or name.endswith(tuple(f" {end}" for end in OF_SHELLS))
    return "dB" if is_known else ""


def _attack(before: Card, now: Card, piece: str) -> tuple[float, float]:
    """A shell's attack before and now, by its hits as listed or as if they were late: whichever gained less."""
    known = zip(before.attacks_db(piece), now.attacks_db(piece), strict=True)
    return min(known, key=lambda pair: pair[1] - pair[0])


def _of_cymbals(before: Card, now: Card, goal: Goal) -> list[Figure]:
    """Their level, and how unequally their hits moved."""
    then, cymbals = before.cymbals, now.cymbals
    if not len(cymbals.levels_dbfs) or len(then.levels_dbfs) != len(cymbals.levels_dbfs):
        return []
    out = []
    levels = before.cymbals_over_snare_db, now.cymbals_over_snare_db
    if levels[0] is not None and levels[1] is not None:
        out.append(Figure("cymbals over snare", "dB", levels[0], levels[1]))
    spread = cymbals.spread_db(then)
    out.append(Figure(APART, "dB", 0.0, spread, most=goal.cymbals_spread_db))
    pumping = cymbals.pumping_db(then)
    if pumping is not None:
        out.append(Figure(PUMPING, "dB", 0.0, pumping, within=goal.cymbals_pumping_db))
    return out


def _of_all(before: Card, now: Card, goal: Goal) -> list[Figure]:
    """Noise and mono."""
    noise = (-before.noise_under_db, -now.noise_under_db)
    folded = (before.mono_loss_db, now.mono_loss_db)
    return [
        Figure(NOISE, "dB", *noise, most=goal.noise_db),
        Figure(MONO, "dB", *folded, most=goal.mono_db),
    ]


def is_finished(sheet: Sheet) -> bool:
    """Whether the kit has been brought to its end: a limiter is on on its drum bus."""
    return any(stage.on for stage in sheet.drum_bus.stages(Limiter))


def costs_a_goal(study: Study, tried: Study, school: School) -> bool:
    """Whether the whole song's card misses a goal with a try that it meets without."""
    then, goal = card_of(study, recorded=True), GOALS[school.goal]
    before = {f.name for f in figures(then, card_of(study), goal) if f.is_met}
    return any(f.name in before and not f.is_met for f in figures(then, card_of(tried), goal))


def find_short(study: Study, subject: str, school: School) -> list[Finding]:
    """Figures of a finished kit that miss the school's goal, for the engineer to settle."""
    if not is_finished(study.sheet):
        return []
    both = card_of(study, recorded=True), card_of(study)
    return [
        Finding(
            NAME,
            "short",
            f.name.replace(" ", "_"),
            spoken(
                f"{f.name} changed by {f.gained:+.1f} {f.unit} against the recording. "
                f"{school.name} wants {f.wish}."
            ),
            {"gained": round(f.gained, 1)},
            0.9,
            {},
            {},
            row="goal",
            school=school.name,
        )
        for f in figures(*both, GOALS[school.goal])
        if not f.is_met
    ]


def _reads(sheet: Sheet, subject: str) -> list[object]:
    return [sheet.mics, sheet.groups, sheet.buses, sheet.drum_bus, sheet.over]


MODULE = Module(NAME, STATION, 1, lambda sheet: [DRUM_BUS], _reads, find_short)
