"""What each kind of stage does to the punch card: the kit is measured with each left out in turn."""

from collections.abc import Sequence
from dataclasses import dataclass

from arkund.core.advise.excerpt import Excerpt
from arkund.core.advise.goal import GOALS, Figure, card_of, figures
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.process.compressor import Compressor
from arkund.core.process.equaliser import Equaliser
from arkund.core.process.stage import Stage
from arkund.core.process.transient import Transient
from arkund.core.sheet.channels import DRUM_BUS, Channel, stage_path
from arkund.core.sheet.limits import OFF_DB
from arkund.core.sheet.sheet import Sheet

MOST_SHOWN = 3
SHAPED_AT: dict[type[Stage], str] = {Equaliser: "eq", Transient: "dynamics", Compressor: "dynamics"}
"""The kinds of stage that shape a mic, and the station of each."""

Patch = dict[str, object]


def _bypassed(path: str, channel: Channel, kind: type[Stage] = Stage) -> Patch:
    return {f"{stage_path(path, stage)}.on": False for stage in channel.stages(kind) if stage.on}


def _left_out(sheet: Sheet) -> dict[str, Patch]:
    """What may be left out to hear what it does, in words, and the patch that does it."""
    gates = {f"mics.{name}.clean.on": False for name, mic in sheet.mics.items() if mic.clean.on}
    out: dict[str, Patch] = {"gates": dict(gates)}
    for kind in SHAPED_AT:
        own: Patch = {}
        for name, mic in sheet.mics.items():
            own |= _bypassed(f"mics.{name}", mic, kind)
        out[f"{kind.label} of the mics"] = own
    out["layers"] = {
        f"layers.{n}.mute": True for n, layer in sheet.layers.items() if not layer.mute
    }
    groups: Patch = {}
    for name, group in sheet.groups.items():
        groups |= _bypassed(f"groups.{name}", group)
    out["groups"] = groups
    out["parallel buses"] = {
        f"buses.{name}.mute": True
        for name, bus in sheet.buses.items()
        if bus.fader_db > OFF_DB and not bus.mute
    }
    return out | {"drum bus": _bypassed(DRUM_BUS, sheet.drum_bus)}


def by_stage(study: Study, school: School) -> list[dict[str, object]]:
    """The figures with each kind of stage left out in turn, those kinds that are in use."""
    before = card_of(study, recorded=True)
    out: list[dict[str, object]] = []
    for words, patch in _left_out(study.sheet).items():
        if patch:
            without = figures(before, card_of(study.tried(patch)), GOALS[school.goal])
            out.append({"left_out": words, "now": {f.name: round(f.now, 2) for f in without}})
    return out


@dataclass(frozen=True)
class Matters:
    """A kind of stage, the figure that it serves most, and how much of it would be missing
    without."""

    kind: str
    figure: str
    unit: str
    gives: float


@dataclass(frozen=True)
class Cause:
    """A kind of stage that costs a figure most, and the station at which it is set."""

    kind: str
    station: str


STATIONS = {
    "gates": "clean",
    "layers": "replace",
    **{f"{kind.label} of the mics": station for kind, station in SHAPED_AT.items()},
}
"""Where kinds of stage are set; the others at the bus."""

LEAST_COST = 0.3
"""A kind of stage is the cause only where the figure is nearer to its goal by this without it."""


def causes_of(study: Study, school: School, missed: Sequence[Figure]) -> dict[str, Cause]:
    """For each missed figure of the card the kind of stage without which it would be nearest to its
    goal, where one costs it something."""
    before, goal = card_of(study, recorded=True), GOALS[school.goal]
    least = {f.name: f.missing() - LEAST_COST for f in missed}
    out: dict[str, Cause] = {}
    for kind, patch in _left_out(study.sheet).items():
        if not patch:
            continue
        for f in figures(before, card_of(study.tried(patch)), goal):
            if f.name in least and f.missing() < least[f.name]:
                least[f.name] = f.missing()
                out[f.name] = Cause(kind, STATIONS.get(kind, "bus"))
    return out


def matters_most(study: Study, school: School, part: Excerpt) -> list[Matters]:
    """The kinds of stage without which the goal would be missed by most, on a part of the song;
    three at most, each with the figure that would lose most."""
    now = part.wanted(part.card(study))
    found: list[tuple[float, Matters]] = []
    for kind, patch in _left_out(study.sheet).items():
        if not patch:
            continue
        without = {f.name: f for f in part.wanted(part.card(study.tried(patch)))}
        losses = [(_served(f, without[f.name]), f) for f in now if f.name in without]
        most, figure = max(losses, key=lambda pair: pair[0], default=(0.0, None))
        if figure is not None and most > 0.3:
            total = sum(loss for loss, _ in losses if loss > 0)
            found.append((total, Matters(kind, figure.name, figure.unit, round(most, 1))))
    found.sort(key=lambda pair: -pair[0])
    return [matters for _, matters in found[:MOST_SHOWN]]


def _served(now: Figure, without: Figure) -> float:
    """How much nearer to the goal a figure is than without."""
    return without.missing() - now.missing()
