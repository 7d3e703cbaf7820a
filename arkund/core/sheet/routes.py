"""Where everything goes, and what in it can hardly be meant."""

from collections.abc import Iterator

from arkund.core.kit.roles import MicName, label
from arkund.core.sheet.channels import DRUM_BUS, DRUMS, Bus, Channel, Send
from arkund.core.sheet.lanes import mic_order
from arkund.core.sheet.limits import OFF_DB
from arkund.core.sheet.pairs import lane
from arkund.core.sheet.paths import Patch
from arkund.core.sheet.sheet import Sheet


def routes(sheet: Sheet) -> list[dict[str, str]]:
    """Each mic, layer, group and bus: what it is, where it runs, its fader, and what it is sent to."""
    out = []
    for kind, name, channel in _channels(sheet):
        sends = [
            f"{bus} {_db(one.sends[name].db)}{taken_words(one.sends[name])}"
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


def taken_words(send: Send) -> str:
    """Where a send is taken and what of it, as far as that is unusual: ``", before the chain, by its hits"``."""
    where = ", before the chain" if send.untreated else "" if send.pre else ", after the fader"
    return where + (", by its hits" if send.by_hits else "")


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
    return {f"buses.{_free(sheet, bus)}": sheet.buses[bus].model_dump(mode="json") | {"mute": True}}


def second_treatment(sheet: Sheet, mic: str) -> Patch:
    """The patch that adds a bus which takes a mic, of a linked pair both sides, before its chain: what is set
    there stands beside the first treatment, in step with it. The blend is shut until somebody opens it."""
    sides = lane(sheet, mic)
    base = str(MicName(sheet.mics[mic].role, sheet.mics[mic].index)) if len(sides) > 1 else mic
    sends = {one: Send(untreated=True).model_dump(mode="json") for one in sides}
    return {f"buses.{_free(sheet, base)}": {"sends": sends}}


def _free(sheet: Sheet, base: str) -> str:
    """A name like another one that no channel has."""
    taken = {*sheet.mics, *sheet.groups, *sheet.buses, *sheet.layers, DRUM_BUS, DRUMS}
    return next(name for n in range(2, 99) if (name := f"{base[:28]}_{n}") not in taken)
