"""The moves that bring a kit to the school's goal, each measured before it is proposed.

What each lever (`core/advise/levers.py`) does to the figures of the card (`core/advise/goal.py`) is
measured on a part of the song, a little of each. From these slopes follows how far to move them all
so that the figures meet the goal with as little as possible; what comes of that is measured, the
slopes are mended by it, and it is kept only where the card is nearer. In the end the whole song is
asked. The limiter's ceiling goes along, so that it never takes more than the school allows.
"""

from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.advise.bus.density import held_db
from arkund.core.advise.excerpt import Excerpt
from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.goal import GOALS, LOUDNESS, NAME, PUMPING, Figure, hits_of
from arkund.core.advise.levers import Lever, levers_of, moved
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.kit.roles import label
from arkund.core.measure.loudness import true_peak_dbtp
from arkund.core.measure.punch import Card
from arkund.core.process.compressor import Compressor
from arkund.core.process.equaliser import Equaliser
from arkund.core.process.limiter import Limiter
from arkund.core.process.saturation import Saturation
from arkund.core.process.stage import Stage
from arkund.core.sheet.channels import DRUM_BUS, Channel, stage_path
from arkund.core.sheet.paths import Patch

MARGIN = 0.35
"""What is wanted beyond the goal, since a part of the song is measured."""

MOST_TRIES = 6
"""So many ways of moving all levers are tried on the part, and half as many once more after the
whole song was asked."""

MOST_ASKED = 4
"""So often the whole song is asked, at most."""

FARTHEST_DB = 4.0
"""How far a lever goes in one try: slopes hold for a little."""

NEAR_DB = 0.5
"""A figure that is met by less has its levers too: other moves may cost it that."""

SURE = 0.15
"""What is wanted beyond the goal in the whole song, since another meter may show a little less."""

BY_HITS = 0.3
"""So much more is wanted of an attack, which is of 11 ms around hits whose times are known to a millisecond or two,
and of pumping, which is of cymbals' hits: some of these are not known."""

LEAST_NEARER_DB, LEAST_MOVE_DB = 0.1, 0.4

MOVED = 0.04
"""What a dB of a move costs against squared dB that are missed: of two ways the smaller, and none
that gives next to nothing."""

Array = NDArray[np.float64]


def _short(figure: Figure, margin: float) -> float:
    """By how much a figure misses its goal with a margin; 0 or less where it does not."""
    leans_on_hits = figure.name.endswith(" attack") or figure.name == PUMPING
    by_hits = BY_HITS if leans_on_hits and figure.has_goal else 0.0
    return figure.missing(margin + by_hits)


def _missed(figures: Sequence[Figure], margin: float) -> float:
    """By how much all goals together are missed, in dB."""
    return sum(max(_short(f, margin), 0.0) for f in figures)


@dataclass(frozen=True)
class _Way:
    """Levers moved by so many dB each, and the card that comes of it."""

    by_db: Array
    patch: Patch
    card: Card
    figures: Sequence[Figure]

    @property
    def gained(self) -> Array:
        return np.array([f.gained for f in self.figures])

    @property
    def missing(self) -> float:
        """By how much all goals together are missed, in dB."""
        return _missed(self.figures, MARGIN)


class _Search:
    """Moves of all levers together, from slopes that are measured first and mended by each try."""

    def __init__(self, study: Study, school: School, part: Excerpt) -> None:
        self.study, self.held_db = study, held_db(study, school)
        self.part = part
        # The whole song first: what the part leaves in the cache is what is needed next.
        whole, card = (look(study, self.held_db) for look in (part.whole_card, part.card))
        part.learn(whole, card)
        figures = part.wanted(card)
        near = {f.name for f in figures if _short(f, MARGIN + NEAR_DB) > 0}
        self.levers = [
            lever for lever in levers_of(study) if not lever.only_for or near & set(lever.only_for)
        ]
        self.start = self.best = _Way(np.zeros(len(self.levers)), {}, card, figures)
        self.farthest_db = FARTHEST_DB
        self.slopes = np.zeros((len(figures), len(self.levers)))

    def run(self) -> None:
        """Learns the slopes and goes as near to the goal as the levers bring the kit; then asks the
        whole song, and goes on from there. What comes nearest in the whole song is the best."""
        # A kit that is there already is left alone.
        if not _missed(self.best.figures, 0.0):
            return
        self.slopes = self._learnt(self.start)
        self._tries(MOST_TRIES)
        nearest, least = self.start, np.inf
        for number in range(MOST_ASKED):
            if self.best is self.start:
                break
            asked = self._asked()
            missed = _missed(asked.figures, SURE)
            if missed < least:
                nearest, least = asked, missed
            if not missed or number == MOST_ASKED - 1:
                break
            self.farthest_db = FARTHEST_DB / 2
            # What is still missed lies far from where the slopes were measured.
            self.slopes = self._learnt(asked)
            self.best, self.start = asked, self._seen(self.start)
            self._tries(MOST_TRIES // 2)
            if self.best is asked:
                break
        self.best = nearest

    def _asked(self) -> _Way:
        """The best way with the figures of the whole song."""
        whole = self.part.whole_card(self.study.tried(self.best.patch), self.held_db)
        self.part.learn(whole, self.best.card)
        return self._seen(self.best)

    def _tries(self, count: int) -> None:
        for _ in range(count):
            if not self.best.missing:
                return
            way = self._way(self._next())
            step, came = way.by_db - self.best.by_db, way.gained - self.best.gained
            length = float(step @ step)
            if length < 0.05:
                return
            # Broyden's update: the slopes that explain what came of this step.
            self.slopes += np.outer(came - self.slopes @ step, step) / length
            if way.missing < self.best.missing - LEAST_NEARER_DB:
                self.best = way
            else:
                self.farthest_db /= 2

    def _way(self, by_db: Array, *, is_beside: bool = False) -> _Way:
        names = [lever.name for lever in self.levers]
        patch = moved(self.levers, dict(zip(names, by_db, strict=True)))
        card = self.part.card(self.study.tried(patch), self.held_db, is_beside=is_beside)
        return _Way(by_db, patch, card, self.part.wanted(card))

    def _seen(self, way: _Way) -> _Way:
        return replace(way, figures=self.part.wanted(way.card))

    def _learnt(self, here: _Way) -> Array:
        """Change of each figure (rows) for one dB of each lever (columns), as they stand."""

        def column(number: int) -> Array:
            lever, by_db = self.levers[number], here.by_db.copy()
            probe = lever.probe_db
            if not lever.low <= by_db[number] + probe <= lever.high:
                probe = -probe
            by_db[number] += probe
            return (self._way(by_db, is_beside=True).gained - here.gained) / probe

        with ThreadPoolExecutor(2) as pool:
            return np.stack(list(pool.map(column, range(len(self.levers)))), axis=1)

    def _next(self) -> Array:
        """Where the slopes say that the goals are met with the least of moves."""
        here = self.best
        low = np.array([lever.low for lever in self.levers])
        high = np.array([lever.high for lever in self.levers])
        low = np.maximum(low, here.by_db - self.farthest_db)
        high = np.minimum(high, here.by_db + self.farthest_db)
        signs = np.array(
            [
                1.0
                if f.most is not None
                else (np.sign(f.gained) or 1.0)
                if f.within is not None
                else -1.0
                for f in here.figures
            ]
        )
        missing = np.array([_short(f, MARGIN) for f in here.figures])

        def cost(by_db: Array) -> tuple[float, Array]:
            short = np.maximum(missing + signs * (self.slopes @ (by_db - here.by_db)), 0.0)
            # What is moved costs its dB, not their square: few levers far rather than all a little.
            size = np.sqrt(by_db**2 + 0.01)
            # Squared up to a dB, then linear: what is out of reach does not drag all else along.
            near = np.minimum(short, 1.0)
            value = float(np.sum(near * (2 * short - near))) + MOVED * float(size.sum())
            return value, 2 * self.slopes.T @ (signs * near) + MOVED * by_db / size

        found = scipy.optimize.minimize(
            cost, here.by_db, jac=True, method="L-BFGS-B", bounds=list(zip(low, high, strict=True))
        )
        return np.where(np.abs(found.x) < LEAST_MOVE_DB, 0.0, found.x)


def find(study: Study, school: School, part: Excerpt | None = None) -> list[Finding]:
    """The moves that bring the card to the school's goal; none where it is there already. ``part``
    is what they are tried on, where that is known."""
    if not hits_of(study).shells:
        return []
    search = _Search(study, school, part or Excerpt(study, GOALS[school.goal]))
    search.run()
    if search.best is search.start or not search.best.patch:
        return []
    return _findings(search, school)


def _findings(search: _Search, school: School) -> list[Finding]:
    """The moves, one finding for each piece that they serve and one for the rest."""
    by_db = dict(zip((lever.name for lever in search.levers), search.best.by_db, strict=True))
    served: dict[str, list[Lever]] = {}
    for lever in search.levers:
        if lever.patch(by_db[lever.name]):
            served.setdefault(lever.serves, []).append(lever)
    return [_finding(search, school, piece, own, by_db) for piece, own in served.items()]


def _finding(
    search: _Search, school: School, piece: str, own: list[Lever], by_db: Mapping[str, float]
) -> Finding:
    prefix = f"{label(piece)} " if piece != DRUM_BUS else LOUDNESS
    pairs = [
        (was, now)
        for was, now in zip(search.start.figures, search.best.figures, strict=True)
        if now.name.startswith(prefix)
    ]
    gained = ", ".join(
        f"{now.gained:+.1f} {now.unit} of {now.name} ({was.gained:+.1f} before)"
        for was, now in pairs
    )
    moves = " and ".join(f"{lever.name} {by_db[lever.name]:+.1f} dB" for lever in own)
    said = f"{gained or 'The goal'} against the recording: {moves}."
    gain = {
        was.name.replace(" ", "_"): Change(round(was.gained, 1), round(now.gained, 1))
        for was, now in pairs
    }
    return Finding(
        NAME,
        "goal",
        piece,
        spoken(said),
        {k: c.now for k, c in gain.items()},
        0.8,
        dict(moved(own, by_db)),
        gain,
        row="goal",
        school=school.name,
    )


def ceiling(study: Study, school: School, held: float) -> list[Finding]:
    """The limiter's ceiling for what reaches it now, over the whole song, where it takes so many dB. Where that
    would be above 0 dBTP, less reaches it."""
    limiter = study.sheet.drum_bus.first(Limiter)
    if limiter is None or not limiter.on:
        return []
    node = study.graph.chains[DRUM_BUS].before(limiter.id)
    peak = true_peak_dbtp(study.mixed(node))
    over = max(round(peak - held, 1), 0.0)
    wanted = round(float(np.clip(peak - over - held, -24, 0)), 1)
    if abs(wanted - limiter.ceiling_db) < 0.1 and not over:
        return []
    lowered = f"Lowered by {over:.1f} dB before it, a" if over else "A"
    path = f"{stage_path(DRUM_BUS, limiter)}.ceiling_db"
    return [
        Finding(
            NAME,
            "ceiling",
            DRUM_BUS,
            spoken(
                f"The loudest hit now reaches the limiter at {peak:.1f} dBTP. {lowered} ceiling of "
                f"{wanted:.1f} takes {peak - over - wanted:.1f} dB off."
            ),
            {"true_peak_dbtp": round(peak, 1)},
            0.9,
            {**(_less_before(study.sheet.drum_bus, limiter, over) if over else {}), path: wanted},
            {"true_peak_dbtp": Change(round(peak, 1), wanted)},
            row="goal",
            school=school.name,
        )
    ]


LEVEL = "level"
"""The equaliser without bands that sets what reaches the limiter where no stage before it has an output."""

OUTPUTS: Mapping[type[Stage], str] = {
    Saturation: "output_db",
    Compressor: "makeup_db",
    Equaliser: "output_db",
}


def _less_before(bus: Channel, limiter: Limiter, by_db: float) -> Patch:
    """So many dB less into the limiter, by the output of the last stage before it that has one."""
    before = bus.chain[: [stage.id for stage in bus.chain].index(limiter.id)]
    last = next((s for s in reversed(before) if not s.is_transparent), None)
    name = OUTPUTS.get(type(last)) if last else None
    if last and name:
        lowest = next(m.ge for m in type(last).model_fields[name].metadata if hasattr(m, "ge"))
        value = round(getattr(last, name) - by_db, 1)
        if value >= lowest:
            return {f"{stage_path(DRUM_BUS, last)}.{name}": value}
    after = before[-1].id if before else ""
    kind = Equaliser.model_fields["kind"].default
    return {
        f"{DRUM_BUS}.chain.{LEVEL}": {
            "kind": kind,
            "bands": [],
            "output_db": -by_db,
            "after": after,
        }
    }
