"""The moves that bring a kit to the school's goal, each measured before it is proposed.

A figure that falls short (`core/advise/goal.py`) asks for the move that serves it: faders of groups
for attack, a band at the fundamental for the low end, the transient shaper for attack over body,
drive, glue and returns for loudness. Moves are made on a part of the song, all at once, then singly
where they stand in each other's way; what does not bring the card nearer is not made. The limiter's
ceiling goes along, so that it never takes more than the school allows.
"""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from arkund.core.advise.density import HELD_DB, HELD_SHARE
from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.goal import (
    GOALS,
    KICK_LOW,
    KICK_LOW_LEVEL,
    LED_BY,
    LOUDNESS,
    NAME,
    Goal,
    Patch,
    card_of,
    figures,
    strokes_of,
)
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.kit.roles import label
from arkund.core.measure.landmarks import fundamental_hz
from arkund.core.measure.loudness import true_peak_dbtp
from arkund.core.measure.punch import Card, punch_card
from arkund.core.mix.building import build
from arkund.core.mix.channels import DRUM_BUS, OFF_DB, stage_path
from arkund.core.process.compressor import Compressor
from arkund.core.process.equaliser import Equaliser
from arkund.core.process.limiter import Limiter
from arkund.core.process.saturation import Saturation
from arkund.core.process.transient import Transient

MARGIN = 0.3
"""What is wanted beyond the goal, since a part of the song is measured."""

MOST_TRIES = 14
"""So many cards of a part are made at most, a second each."""

PART_S = 20.0
BEFORE_PEAK_S = 5.0
LARGEST_FADER_DB, LARGEST_LOW_DB, LARGEST_ATTACK_DB = 8.0, 6.0, 9.0
LARGEST_DRIVE_DB, LARGEST_GLUE_DB, LARGEST_RETURN_DB = 9.0, 6.0, 5.0
LOW_BAND = "low"


class _Part:
    """A part of the song around its loudest stroke, on which moves are tried."""

    def __init__(self, study: Study, school: School) -> None:
        self.study, self.held_db = study, HELD_SHARE * HELD_DB[school.goal]
        self.goal, self.left = GOALS[school.goal], MOST_TRIES
        rate, frames = study.rate, study.sheet.frames
        mix = study.engine.read(study.graph.chains[DRUM_BUS].entry, 0, frames)
        peak = int(np.argmax(np.abs(mix).max(axis=1)))
        length = min(round(PART_S * rate), frames)
        start = min(max(peak - round(BEFORE_PEAK_S * rate), 0), frames - length)
        self.start, self.stop = start, start + length
        self.strokes = strokes_of(study, (start / rate, self.stop / rate))
        recorded = build(study.sheet, study.library, "recorded").output
        self.before = punch_card(
            study.engine.read(recorded, self.start, self.stop), rate, self.strokes
        )
        self.limiter = next(iter(study.sheet.drum_bus.stages(Limiter)), None)
        self.start_card = self.card({})
        whole = figures(card_of(study, recorded=True), card_of(study), self.goal)
        here = {f.name: f.gained for f in figures(self.before, self.start_card, self.goal)}
        self._offsets = {f.name: f.gained - here[f.name] for f in whole if f.name in here}

    def missing(self, card: Card) -> dict[str, float]:
        """What the whole song would miss, as far as the part tells: what it gains less here or more
        than throughout is taken to stay as it is."""
        out = {}
        for figure in figures(self.before, card, self.goal):
            throughout = replace(figure, now=figure.now + self._offsets.get(figure.name, 0.0))
            if (missing := throughout.missing(MARGIN)) > 0:
                out[figure.name] = missing
        return out

    def card(self, patch: Mapping[str, object]) -> Card:
        """The card with a patch, the limiter's ceiling at the school's distance under the peak."""
        self.left -= 1
        tried = self.study.tried(dict(patch)) if patch else self.study
        chain = tried.graph.chains[DRUM_BUS]
        if self.limiter is None:
            mix = tried.engine.read(chain.end, self.start, self.stop)
            return punch_card(mix, tried.rate, self.strokes)
        mix = limited(tried, self.limiter, self.held_db, (self.start, self.stop))
        return punch_card(mix, tried.rate, self.strokes)


def limited(
    study: Study, limiter: Limiter, held_db: float, span: tuple[int, int]
) -> NDArray[np.float32]:
    """What the drum bus's limiter makes of a span where its ceiling is ``held_db`` under the peak."""
    sound = study.engine.read(study.graph.chains[DRUM_BUS].before(limiter.id), *span)
    ceiling = float(np.clip(true_peak_dbtp(sound) - held_db, -24, 0))
    process = limiter.model_copy(update={"ceiling_db": ceiling}).process(study.rate)
    late = np.concatenate([sound, np.zeros((process.latency, 2), np.float32)])
    return process.run(late, process.at_rest(2))[process.latency :]


def find(study: Study, school: School) -> list[Finding]:
    """The moves that bring the card to the school's goal; none where it is there already."""
    if not strokes_of(study).shells:
        return []
    part = _Part(study, school)
    start = card = part.start_card
    best: Patch = {}
    missing = part.missing(card)
    while missing and part.left > 0:
        nearer = _nearer(part, best, missing, card)
        if nearer is None:
            break
        best, card, missing = nearer
    return _findings(study, school, best, part.before, start, card) if best else []


def _nearer(
    part: _Part, made: Patch, missing: Mapping[str, float], card: Card
) -> tuple[Patch, Card, dict[str, float]] | None:
    """All moves that are asked for at once; where they stand in each other's way the best one
    alone, at half its size. None where nothing brings the card nearer."""
    asked = _asked(missing, part.before, card, part.goal)
    found: tuple[float, Patch, Card, dict[str, float]] | None = None
    for moves, size in ((asked, 1.0), *(([move], 0.6) for move in asked if len(asked) > 1)):
        tried = dict(made)
        for move in moves:
            move.into(part.study, tried, size)
        if tried == made or part.left <= 0:
            continue
        then = part.card(tried)
        left = part.missing(then)
        if sum(left.values()) < (found[0] if found else sum(missing.values()) - 0.1):
            found = sum(left.values()), tried, then, left
        if found and len(moves) == len(asked):
            break
    return found[1:] if found else None


@dataclass(frozen=True)
class Move:
    """What serves one figure: ``make`` adds so many dB of it to a patch, ``on`` a piece where it has
    one."""

    make: Callable[..., None]
    by_db: float
    on: tuple[str, ...] = ()

    def into(self, study: Study, patch: Patch, share: float) -> None:
        """Add a share of the move to ``patch``."""
        self.make(study, patch, *self.on, share * self.by_db)


def _asked(missing: Mapping[str, float], before: Card, now: Card, goal: Goal) -> list[Move]:
    """A move for each figure that is missing."""
    out: list[Move] = []
    for piece in now.shells:
        body = missing.get(f"{label(piece)} attack over body", 0.0)
        if body:
            out.append(Move(_attack, 1.3 * body, (piece,)))
        if piece not in LED_BY:
            continue
        attack = missing.get(f"{label(piece)} attack", 0.0) - 0.5 * body
        if attack > 0:
            out.append(Move(_fader, 1.2 * attack + 0.3, (piece,)))
        # What leads by more than it needs sets the peaks that the rest must stay under.
        surplus = now.attack_db(piece) - before.attack_db(piece) - goal.attack_db - MARGIN
        if surplus > 0.5 and set(missing) & {LOUDNESS, "kick attack", KICK_LOW}:
            out.append(Move(_fader, -min(0.6 * surplus, 3.0), (piece,)))
    if low := max(missing.get(KICK_LOW, 0.0), missing.get(KICK_LOW_LEVEL, 0.0)):
        out.append(Move(_low, low))
    spare = now.loudness_at_peak_lu - before.loudness_at_peak_lu - goal.loudness_lu - MARGIN
    if spare > 0.7 and KICK_LOW_LEVEL in missing:
        # Loudness that is not needed is what the kick's low end stands against.
        out += [Move(_returns, -min(spare, 3.0)), Move(_drive, -min(spare, 3.0))]
    if loud := missing.get(LOUDNESS, 0.0):
        out += [Move(_drive, min(2.2 * loud, 4.0)), Move(_glue, min(1.5 * loud, 3.0)),
                Move(_returns, min(1.5 * loud, 3.0))]  # fmt: skip
    return out


def _now(study: Study, made: Patch, path: str, value: float) -> float:
    return float(made.get(path, value))  # type: ignore[arg-type]


def _fader(study: Study, out: Patch, group: str, by_db: float) -> None:
    if group not in study.sheet.groups:
        return
    path = f"groups.{group}.fader_db"
    first = study.sheet.groups[group].fader_db
    wanted = np.clip(_now(study, out, path, first) + by_db, first - LARGEST_FADER_DB,
                     min(first + LARGEST_FADER_DB, 12))  # fmt: skip
    out[path] = round(float(wanted) * 4) / 4


def _attack(study: Study, out: Patch, piece: str, by_db: float) -> None:
    """More attack and half as much less sustain on the piece's leading mics."""
    for mic in study.close(piece)[:2]:
        stage = study.sheet.mics[mic].first(Transient)
        if stage is None:
            continue
        path = stage_path(f"mics.{mic}", stage)
        attack = _now(study, out, f"{path}.attack_db", stage.attack_db if stage.on else 0.0)
        sustain = _now(study, out, f"{path}.sustain_db", stage.sustain_db if stage.on else 0.0)
        out[f"{path}.on"] = True
        out[f"{path}.attack_db"] = round(min(attack + by_db, LARGEST_ATTACK_DB) * 4) / 4
        out[f"{path}.sustain_db"] = round(max(sustain - 0.7 * by_db, -LARGEST_ATTACK_DB) * 2) / 2


def _low(study: Study, out: Patch, by_db: float) -> None:
    """More at the kick's fundamental, first thing in its group; by its fader where that is all."""
    group = study.sheet.groups.get("kick")
    if group is None or any(stage.id == LOW_BAND for stage in group.chain):
        return
    path = f"groups.kick.chain.{LOW_BAND}"
    given = out.get(path)
    now = given["bands"][0]["gain_db"] if isinstance(given, dict) else 0.0
    if now >= LARGEST_LOW_DB:
        _fader(study, out, "kick", min(by_db, 2.0))
        return
    mic = study.close("kick")[0] if study.close("kick") else ""
    base = fundamental_hz(
        study.sound(mic, "clean"), study.rate, study.plain_times(mic), "kick") if mic else 0.0  # fmt: skip
    gain = round(float(np.clip(now + by_db, 0.5, LARGEST_LOW_DB)) * 2) / 2
    band = {"id": "b1", "on": True, "kind": "bell", "frequency_hz": round(float(np.clip(base or 60, 45, 90)), 1),
            "gain_db": gain, "q": 0.7}  # fmt: skip
    out[path] = {"kind": Equaliser.model_fields["kind"].default, "bands": [band], "after": ""}


def _drive(study: Study, out: Patch, by_db: float) -> None:
    """More drive into the drum bus's saturation."""
    stage = study.sheet.drum_bus.first(Saturation)
    if stage is not None:
        path = f"{stage_path(DRUM_BUS, stage)}.drive_db"
        most = min(stage.drive_db + LARGEST_DRIVE_DB, 24)
        wanted = np.clip(_now(study, out, path, stage.drive_db) + by_db, 0, most)
        out[path] = round(float(wanted) * 2) / 2


def _glue(study: Study, out: Patch, by_db: float) -> None:
    """A lower threshold for the drum bus's compressor."""
    stage = study.sheet.drum_bus.first(Compressor)
    if stage is not None and stage.on:
        path = f"{stage_path(DRUM_BUS, stage)}.threshold_db"
        least = max(stage.threshold_db - LARGEST_GLUE_DB, -60)
        out[path] = round(max(_now(study, out, path, stage.threshold_db) - by_db, least) * 2) / 2


def _returns(study: Study, out: Patch, by_db: float) -> None:
    """More of the parallel buses that are blended in."""
    for name, bus in study.sheet.buses.items():
        if bus.fader_db > OFF_DB and not bus.mute:
            path = f"buses.{name}.fader_db"
            most = min(bus.fader_db + LARGEST_RETURN_DB, 12)
            out[path] = round(min(_now(study, out, path, bus.fader_db) + by_db, most) * 2) / 2


def _findings(
    study: Study, school: School, patch: Mapping[str, object], before: Card, start: Card, then: Card
) -> list[Finding]:
    """The moves, one finding for each piece that they serve and one for the rest."""
    by_piece: dict[str, dict[str, object]] = {}
    for path, value in patch.items():
        by_piece.setdefault(_served(study, path), {})[path] = value
    return [
        _finding(study, school, piece, own, before, start, then) for piece, own in by_piece.items()
    ]


def _served(study: Study, path: str) -> str:
    table, name, *_ = path.split(".")
    if table == "groups":
        return name if name in LED_BY else "toms"
    if table == "mics":
        return study.sheet.mics[name].name.piece or name
    return DRUM_BUS


def _finding(
    study: Study,
    school: School,
    piece: str,
    patch: dict[str, object],
    before: Card,
    start: Card,
    then: Card,
) -> Finding:
    wanted = GOALS[school.goal]
    if piece in before.shells and piece in then.shells:
        shells = [c.shells[piece].attack_to_body_db - before.shells[piece].attack_to_body_db
                  for c in (start, then)]  # fmt: skip
        attack = [c.attack_db(piece) - before.attack_db(piece) for c in (start, then)]
        said = (f"{attack[1]:+.1f} dB of attack at equal loudness and {shells[1]:+.1f} dB from body to "
                f"attack for the {label(piece)}, against the recording; before this it was "
                f"{attack[0]:+.1f} and {shells[0]:+.1f}.")  # fmt: skip
        gain = {"attack_db": Change(round(attack[0], 1), round(attack[1], 1)),
                "attack_to_body_db": Change(round(shells[0], 1), round(shells[1], 1))}  # fmt: skip
    else:
        loud = [c.loudness_at_peak_lu - before.loudness_at_peak_lu for c in (start, then)]
        said = (f"{loud[1]:+.1f} LU at equal true peak against the recording; before this it was "
                f"{loud[0]:+.1f}, and {wanted.loudness_lu:+.1f} is the goal.")  # fmt: skip
        gain = {"loudness_lu": Change(round(loud[0], 1), round(loud[1], 1))}
    measured = {name: change.now for name, change in gain.items()}
    return Finding(NAME, "goal", piece, spoken(said), measured, 0.8, patch, gain, row="goal",
                   school=school.name)  # fmt: skip


def ceiling(study: Study, school: School) -> list[Finding]:
    """The limiter's ceiling for what reaches it now, over the whole song."""
    limiter = study.sheet.drum_bus.first(Limiter)
    if limiter is None or not limiter.on:
        return []
    node = study.graph.chains[DRUM_BUS].before(limiter.id)
    peak = true_peak_dbtp(study.engine.read(node, 0, study.sheet.frames))
    wanted = round(float(np.clip(peak - HELD_SHARE * HELD_DB[school.goal], -24, 0)), 1)
    if abs(wanted - limiter.ceiling_db) < 0.1:
        return []
    path = f"{stage_path(DRUM_BUS, limiter)}.ceiling_db"
    return [
        Finding(
            NAME, "ceiling", DRUM_BUS,
            spoken(f"{peak:.1f} dBTP now reaches the limiter. A ceiling of {wanted:.1f} takes "
                   f"{peak - wanted:.1f} dB off the loudest stroke."),
            {"true_peak_dbtp": round(peak, 1)}, 0.9, {path: wanted},
            {"true_peak_dbtp": Change(round(peak, 1), wanted)}, row="goal", school=school.name,
        )
    ]  # fmt: skip
