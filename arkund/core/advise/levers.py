"""The values that bring a kit to its goal: what each is in the sheet, and how far it may go.

A lever moves one or more values of a sheet together, in dB from where they stand. What it does to
the kit's figures is not written here: it is measured (`core/advise/moves.py`).
"""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from arkund.core.advise.goal import KICK_LOW, KICK_LOW_LEVEL, LED_BY
from arkund.core.advise.pitch import drum_hz
from arkund.core.advise.study import Study
from arkund.core.kit.roles import label, piece_family
from arkund.core.measure.landmarks import ATTACK_HZ, attack_hz
from arkund.core.process.compressor import Compressor
from arkund.core.process.equaliser import Equaliser
from arkund.core.process.saturation import Saturation
from arkund.core.process.transient import Transient
from arkund.core.sheet.channels import DRUM_BUS, stage_path
from arkund.core.sheet.limits import OFF_DB
from arkund.core.sheet.paths import Patch

LARGEST_ATTACK_DB = 9.0
TILT = "tilt"
"""The equaliser that is put first into a group for the two bands of the goal."""

FUNDAMENTAL, ATTACK = "b1", "b2"


@dataclass(frozen=True)
class Target:
    """A value that a lever moves: where it stands, its share of the lever's dB, its grid, and its
    ends."""

    start: float
    share: float = 1.0
    step: float = 0.25
    low: float = OFF_DB
    high: float = 12.0

    def moved(self, by_db: float) -> float:
        """The value with the lever moved."""
        wanted = round((self.start + self.share * by_db) / self.step) * self.step
        return float(np.clip(wanted, self.low, self.high))


@dataclass(frozen=True)
class Lever:
    """What may be moved for the goal, between ``low`` and ``high`` dB from where it stands.

    ``serves`` is the piece whose finding tells of it, or the drum bus; ``first`` what must be in
    place before a value can be moved; ``only_for`` the figures for whose sake alone it is moved,
    any where there are none."""

    name: str
    serves: str
    low: float
    high: float
    targets: Mapping[str, Target]
    first: Mapping[str, Any] = field(default_factory=dict)
    only_for: tuple[str, ...] = ()

    @property
    def probe_db(self) -> float:
        """How far it is moved to learn what it does."""
        return min(1.5, self.high) if self.high > 0 else max(-1.5, self.low)

    def patch(self, by_db: float) -> dict[str, Any]:
        """The change of the sheet; empty where nothing moves, though a value may stand off its grid."""
        if abs(by_db) < 1e-9:
            return {}
        moved = {path: target.moved(by_db) for path, target in self.targets.items()}
        if all(abs(value - self.targets[path].start) < 1e-9 for path, value in moved.items()):
            return {}
        return {**self.first, **moved}


def levers_of(study: Study) -> list[Lever]:
    """All levers of a kit: faders, transients, tilt, density and the drum bus."""
    return [
        *_faders(study),
        *_transients(study),
        *_tilts(study),
        *_squeezes(study),
        *_drives(study),
        *_drum_bus(study),
    ]


def moved(levers: list[Lever], by_db: Mapping[str, float]) -> Patch:
    """One change of the sheet for all levers moved, each by its name."""
    out: dict[str, Any] = {}
    for lever in levers:
        for path, value in lever.patch(by_db.get(lever.name, 0.0)).items():
            entry = next(
                (p for p in out if path.startswith(f"{p}.") and isinstance(out[p], dict)), ""
            )
            if entry:
                out[entry] = _with(out[entry], path[len(entry) + 1 :].split("."), value)
            elif path not in out:
                out[path] = value
    return out


def _with(stage: Mapping[str, Any], steps: list[str], value: float) -> dict[str, Any]:
    """A stage that is being put in, with one band's value set."""
    _, band, name = steps
    bands = [{**b, name: value, "on": True} if b["id"] == band else b for b in stage["bands"]]
    return {**stage, "bands": bands}


def _faders(study: Study) -> Iterator[Lever]:
    ends = {"kick": (-4.0, 6.0), "snare": (-4.0, 6.0), "toms": (-3.0, 6.0), "cymbals": (-3.0, 1.0)}
    for group, (low, high) in ends.items():
        if group in study.sheet.groups and group in study.graph.chains:
            target = Target(study.sheet.groups[group].fader_db)
            serves = group if group in LED_BY else DRUM_BUS
            yield Lever(f"{group} fader", serves, low, high, {f"groups.{group}.fader_db": target})


def _transients(study: Study) -> Iterator[Lever]:
    """More attack and seven tenths as much less sustain on a shell's leading mics."""
    for piece in study.shells:
        targets: dict[str, Target] = {}
        on: dict[str, Any] = {}
        for mic in study.close(piece)[:2]:
            stage = study.sheet.mics[mic].first(Transient)
            if stage is None:
                continue
            path = stage_path(f"mics.{mic}", stage)
            now = (stage.attack_db, stage.sustain_db) if stage.on else (0.0, 0.0)
            targets[f"{path}.attack_db"] = Target(
                now[0], 1, 0.25, -6, max(now[0], LARGEST_ATTACK_DB)
            )
            targets[f"{path}.sustain_db"] = Target(
                now[1], -0.7, 0.5, min(now[1], -LARGEST_ATTACK_DB), 6
            )
            on[f"{path}.on"] = True
        if targets and len(study.hits_on(piece, ghosts=False)) >= 3:
            yield Lever(f"{label(piece)} transient", piece, -3, 8, targets, on, _attacks(piece))


def _tilts(study: Study) -> Iterator[Lever]:
    """A bell at the kick's fundamental, and one where beater or stick stand out, first thing in the
    group."""
    toms = [piece for piece in study.shells if piece_family(piece) == "tom"]
    for name, pieces in (("kick", ["kick"]), ("snare", ["snare"]), ("toms", toms)):
        group = study.sheet.groups.get(name)
        mic = next((m for piece in pieces for m in study.close(piece)[:1]), None)
        if group is None or mic is None or any(stage.id == TILT for stage in group.chain):
            continue
        times, family = study.plain_times(mic), piece_family(pieces[0])
        if not times:
            continue
        sound = study.sound(mic, "clean")
        base = drum_hz(study, pieces[0]) if name == "kick" else 0.0
        hz = attack_hz(sound, study.rate, times, ATTACK_HZ[family])
        places = {FUNDAMENTAL: (float(np.clip(base or 60, 45, 90)), 0.7), ATTACK: (float(hz), 0.8)}
        bands = [
            {
                "id": band,
                "on": False,
                "kind": "bell",
                "frequency_hz": round(at, 1),
                "gain_db": 0.0,
                "q": q,
            }
            for band, (at, q) in places.items()
        ]
        path = f"groups.{name}.chain.{TILT}"
        stage = {"kind": Equaliser.model_fields["kind"].default, "bands": bands, "after": ""}
        serves = name if name in LED_BY else DRUM_BUS
        if name == "kick":
            target = {f"{path}.bands.{FUNDAMENTAL}.gain_db": Target(0.0, 1, 0.5, -6, 6)}
            yield Lever(
                "kick fundamental",
                serves,
                -3,
                6,
                target,
                {path: stage},
                ("kick attack", KICK_LOW, KICK_LOW_LEVEL),
            )
        target = {f"{path}.bands.{ATTACK}.gain_db": Target(0.0, 1, 0.5, -6, 6)}
        figures = tuple(figure for piece in pieces for figure in _attacks(piece))
        yield Lever(f"{name} attack band", serves, -2, 6, target, {path: stage}, figures)


def _attacks(piece: str) -> tuple[str, str]:
    """The figures of a piece's attack."""
    return f"{label(piece)} attack", f"{label(piece)} attack over body"


def _squeezes(study: Study) -> Iterator[Lever]:
    """Compression of the snare's mics, which brings ghosts nearer to accents or leaves them apart,
    and of each tom's, which lifts its body."""
    for piece in study.shells:
        targets: dict[str, Target] = {}
        for mic in study.close(piece):
            stage = study.sheet.mics[mic].first(Compressor)
            if stage is not None and stage.on:
                path = stage_path(f"mics.{mic}", stage)
                targets[f"{path}.threshold_db"] = Target(stage.threshold_db, -1, 0.5, -60, 0)
                targets[f"{path}.makeup_db"] = Target(stage.makeup_db, 0.5, 0.5, 0, 12)
        if targets and piece == "snare":
            yield Lever("snare compression", piece, -8, 8, targets, {}, ("ghosts under accents",))
        elif targets and piece_family(piece) == "tom":
            yield Lever(f"{label(piece)} compression", piece, -10, 0, targets, {}, _attacks(piece))


def _drives(study: Study) -> Iterator[Lever]:
    """Drive into the saturation of the leading groups."""
    for name in LED_BY:
        group = study.sheet.groups.get(name)
        stage = group.first(Saturation) if group else None
        if stage is not None and stage.on:
            path = f"{stage_path(f'groups.{name}', stage)}.drive_db"
            yield Lever(f"{name} drive", name, -4, 5, {path: Target(stage.drive_db, 1, 0.5, 0, 24)})


def _drum_bus(study: Study) -> Iterator[Lever]:
    """Drive, glue, and the parallel buses that are blended in."""
    bus = study.sheet.drum_bus
    drive, glue = bus.first(Saturation), bus.first(Compressor)
    if drive is not None and drive.on:
        path = f"{stage_path(DRUM_BUS, drive)}.drive_db"
        yield Lever(
            "drum bus drive", DRUM_BUS, -6, 9, {path: Target(drive.drive_db, 1, 0.5, 0, 24)}
        )
    if glue is not None and glue.on:
        path = f"{stage_path(DRUM_BUS, glue)}.threshold_db"
        yield Lever("glue", DRUM_BUS, -8, 6, {path: Target(glue.threshold_db, -1, 0.5, -60, 0)})
    for name, parallel in study.sheet.buses.items():
        if parallel.fader_db > OFF_DB and not parallel.mute:
            path = f"buses.{name}.fader_db"
            yield Lever(
                f"{name} blend", DRUM_BUS, -12, 5, {path: Target(parallel.fader_db, 1, 0.5)}
            )
