"""Where everything goes, and what in it can hardly be meant."""

from collections.abc import Iterator

from arkund.core.kit.roles import label
from arkund.core.sheet.channels import DRUM_BUS, Bus, Channel
from arkund.core.sheet.lanes import mic_order
from arkund.core.sheet.limits import OFF_DB
from arkund.core.sheet.paths import Patch
from arkund.core.sheet.sheet import Sheet


def routes(sheet: Sheet) -> list[dict[str, str]]:
    """Each mic, layer, group and bus: what it is, where it runs, its fader, and what it is sent to."""
    out = []
    for kind, name, channel in _channels(sheet):
        sends = [
            f"{bus} {_db(one.sends[name].db)}{'' if one.sends[name].pre else ', after the fader'}"
            f"{', by its hits' if one.sends[name].by_hits else ''}"
            for bus, one in sheet.buses.items()
            if name in one.sends
        ]
        into = getattr(channel, "to", "drums")  # groups and buses run into the drum bus
        out.append(
            {
                "what": kind,
                "name": name,
                "fader": "muted" if channel.mute else _db(channel.fader_db),
                "to": "drum bus" if into == "drums" else into,
                "sends": "; ".join(sends),
            }
        )
    return out


def oddities(sheet: Sheet) -> list[str]:
    """What in the routing can hardly be meant, in sentences: a send that arrives twice, a bus that nobody hears or
    that takes nothing, a return whose feeds are all muted."""
    return [*_twice(sheet), *_unheard(sheet), *_unfed(sheet)]


def _channels(sheet: Sheet) -> Iterator[tuple[str, str, Channel]]:
    for mic in mic_order(sheet):
        if not sheet.mics[mic].unused:
            yield "mic", mic, sheet.mics[mic]
    yield from (("layer", name, layer) for name, layer in sheet.layers.items())
    yield from (("group", name, group) for name, group in sheet.groups.items())
    yield from (("bus", name, bus) for name, bus in sheet.buses.items())


def _db(db: float) -> str:
    return "off" if db <= OFF_DB else f"{db:+.1f} dB".replace("-", "−")


def _open(bus: Bus) -> list[str]:
    """What a bus takes something of."""
    return [name for name, send in bus.sends.items() if send.db > OFF_DB]


def _twice(sheet: Sheet) -> Iterator[str]:
    for name, bus in sheet.buses.items():
        for source in _open(bus):
            own = sheet.mics.get(source) or sheet.layers.get(source)
            if own is not None and own.to in _open(bus):
                yield (
                    f"{label(source).capitalize()} reaches {_called(name)} twice: by its own send and by the "
                    f"{own.to} group's."
                )
        for other in _open(bus):
            if other in sheet.buses:
                both = sorted(set(_open(bus)) & set(_open(sheet.buses[other])))
                for source in both:
                    yield (
                        f"{label(source).capitalize()} reaches {_called(name)} twice: by its own send and through "
                        f"{_called(other)}."
                    )


def _unheard(sheet: Sheet) -> Iterator[str]:
    listened = {
        stage.listens.source
        for channel in (*(c for _, _, c in _channels(sheet)), sheet.drum_bus)
        for stage in channel.chain
        if stage.listens
    }
    feeds = {source for bus in sheet.buses.values() for source in _open(bus)}
    for name, bus in sheet.buses.items():
        if (
            name in listened
            or name in feeds
            or any(o.path.startswith(f"buses.{name}.") for o in sheet.over)
        ):
            continue
        if bus.mute or bus.fader_db <= OFF_DB:
            yield f"Nobody hears {_called(name)}: it is {'muted' if bus.mute else 'shut'}."


def _unfed(sheet: Sheet) -> Iterator[str]:
    for name, bus in sheet.buses.items():
        sources = _open(bus)
        if not sources:
            yield f"Nothing is sent to {_called(name)}."
        elif all(_is_silent(sheet, source) for source in sources):
            yield f"All that is sent to {_called(name)} is muted."


def _is_silent(sheet: Sheet, name: str) -> bool:
    found = next((c for _, n, c in _channels(sheet) if n == name), None)
    return found is None or found.mute


def _called(bus: str) -> str:
    words = bus.replace("_", " ")
    return words if words.endswith("bus") else f"the {words} bus"


def duplicate(sheet: Sheet, bus: str) -> Patch:
    """The patch that adds a bus like another one, muted until somebody listens."""
    name = next(n for k in range(2, 99) if (n := f"{bus[:28]}_{k}") not in _taken(sheet))
    return {f"buses.{name}": sheet.buses[bus].model_dump(mode="json") | {"mute": True}}


def _taken(sheet: Sheet) -> set[str]:
    return {*sheet.mics, *sheet.groups, *sheet.buses, *sheet.layers, DRUM_BUS, "drums"}
