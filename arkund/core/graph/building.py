"""From a sheet to its graph: channels' chains, sums, groups, buses and what differs over bars."""

from collections.abc import Callable, Mapping, Sequence
from functools import cache, partial

from arkund.core.graph.graph import Chained, Graph, MicStages, Variant
from arkund.core.graph.hearing import Heard, hearings
from arkund.core.graph.hits import Hits, all_hits
from arkund.core.graph.nodes import Node
from arkund.core.graph.routing import (
    Taps,
    beside_the_drums,
    heard_buses,
    hit_keys,
    live_groups,
    panned,
    sends,
    with_bed,
)
from arkund.core.graph.sides import Pair, Side
from arkund.core.graph.sources import (
    Entry,
    by_hits,
    edited_entry,
    layer_entry,
    mic_entry,
    taking_layers,
)
from arkund.core.graph.summing import Input, Mixed, Shared, Varied
from arkund.core.graph.varied import (
    chained,
    channel_at,
    fader_gain,
    input_of,
    sounds,
    varied,
    varied_chain,
    versions_of,
)
from arkund.core.kit.roles import BESIDE
from arkund.core.sheet.channels import DRUM_BUS, DRUMS
from arkund.core.sheet.lanes import (
    Library,
    mic_order,
    sounding_mics,
)
from arkund.core.sheet.pairs import lane
from arkund.core.sheet.sheet import Sheet, bus_order
from arkund.core.sheet.varying import variants


def build(sheet: Sheet, library: Library, variant: Variant = "now") -> Graph:
    """The graph as it sounds now, of what Clean removed, or as recorded."""
    heard = cache(lambda: all_hits(sheet, library))
    if variant == "recorded":
        order = mic_order(sheet)
        return _as_recorded(sheet, {n: mic_entry(n, sheet, library, variant, heard) for n in order})
    building = _Building(sheet, library, variant, heard)
    building.mics()
    building.layers()
    building.groups()
    building.buses()
    return building.graph()


def edited(sheet: Sheet, library: Library) -> dict[str, Node]:
    """Every mic of the drums, those out of use too, joined, moved and aligned, and nothing else."""
    return {
        name: varied(
            [
                (at, ramp, edited_entry(name, version, library))
                for at, ramp, version in variants(sheet, f"mics.{name}", [])
            ]
        )
        for name in mic_order(sheet)
        if sheet.mics[name].role not in BESIDE
    }


class _Building:
    """A graph in the making, from the mics to the drum bus. What is made is noted for what comes later."""

    def __init__(
        self, sheet: Sheet, library: Library, variant: Variant, heard: Callable[[], Hits]
    ) -> None:
        self._sheet, self._library, self._heard = sheet, library, heard
        self._hearing = hearings(sheet, lambda path: versions_of(sheet, path))
        self._live = live_groups(sheet)
        self._over = {
            name: variants(
                sheet, f"mics.{name}", [f"layers.{n}" for n in taking_layers(sheet, name)]
            )
            for name in mic_order(sheet)
        }
        self._entries: Entries = {
            name: [
                (at, ramp, mic_entry(name, version, library, variant, heard, self._around(name)))
                for at, ramp, version in over
            ]
            for name, over in self._over.items()
        }
        # Mics are heard as they enter their chains, groups before theirs: so nothing can wait for itself.
        self._keys = {
            name: varied([(at, ramp, entry.enters) for at, ramp, entry in own])
            for name, own in self._entries.items()
        }
        self._keys |= hit_keys(sheet, heard)
        self._stages: dict[str, MicStages] = {}
        self._chains: dict[str, Chained] = {}
        self._taps: dict[str, Input] = {}
        self._untreated: dict[str, Input] = {}
        self._outs: dict[str, Node] = {}
        self._layers: dict[str, Node] = {}
        self._groups: dict[str, Node] = {}
        self._returns: dict[str, Node] = {}
        self._sounding: list[str] = []
        self._parts: dict[str, Node] = {}
        self._into: dict[str, list[Input]] = {name: [] for name in sheet.groups}
        self._drums: list[Input] = []

    def _around(self, mic: str) -> Heard:
        return self._hearing(f"mics.{mic}")

    def mics(self) -> None:
        """Mics through their chains, before and behind their faders."""
        sheet = self._sheet
        for name, own in self._over.items():
            lanes = _lane_chains(
                sheet, name, self._over, self._entries, self._keys, self._around(name)
            )
            self._stages[name] = _mic_stages(self._entries[name], lanes)
            if name not in sounding_mics(sheet):
                continue
            versions = [
                (at, ramp, made.end, version.mics[name])
                for (at, ramp, version), made in zip(own, lanes, strict=True)
            ]
            self._taps[name] = input_of(
                [(at, ramp, end, *panned(mic, 1.0)) for at, ramp, end, mic in versions]
            )
            self._untreated[name] = input_of(
                [
                    (at, ramp, entry.enters, *panned(version.mics[name], 1.0))
                    for (at, ramp, version), (_, _, entry) in zip(
                        own, self._entries[name], strict=True
                    )
                ]
            )
            out = input_of(
                [
                    (at, ramp, end, *panned(mic, fader_gain(mic.fader_db)))
                    for at, ramp, end, mic in versions
                ]
            )
            self._outs[name] = out[0] if isinstance(out[0], Varied) else Mixed((out,))
            self._route(name, self._outs[name], out, sheet.mics[name].to)

    def layers(self) -> None:
        """Layers on the hits of their drums."""
        for name, layer in self._sheet.layers.items():
            drum = varied([(at, ramp, entry.clean) for at, ramp, entry in self._entries[layer.of]])
            out = self._channel(name, f"layers.{name}", partial(self._struck, name, drum))
            self._layers[name] = Mixed((out,))
            self._route(name, self._layers[name], out, layer.to)

    def _struck(self, name: str, drum: Node, version: Sheet) -> Node:
        around = self._hearing(f"layers.{name}")
        layer = version.layers[name]
        entry = layer_entry(layer, version, drum, self._library, self._heard, around)
        return Mixed(((entry, 1.0, 1.0),))

    def groups(self) -> None:
        """Groups of what runs into them. One that does nothing is passed by, so that it costs nothing."""
        entries = {name: Shared(tuple(into)) for name, into in self._into.items()}
        self._keys |= entries
        for name, entry in entries.items():
            out = self._channel(name, f"groups.{name}", partial(_same, entry))
            self._groups[name] = Mixed((out,))
            if name in self._live:
                self._route(name, self._groups[name], out, DRUMS)

    def buses(self) -> None:
        """Buses on their sends, each after those that it takes from."""
        made: dict[str, Input] = {}
        for name in bus_order(self._sheet.buses):
            made[name] = self._channel(name, f"buses.{name}", partial(self._fed, name))
            self._returns[name] = self._parts[name] = Mixed((made[name],))
        # They are added in the sheet's order, whichever feeds which.
        self._sounding = [name for name in self._sheet.buses if sounds(made[name])]
        self._drums += [made[name] for name in self._sounding]
        self._keys |= {name: self._chains[name].end for name in self._sheet.buses}

    def _fed(self, name: str, version: Sheet) -> Node:
        behind = {**self._outs, **self._groups, **self._returns}
        opened = partial(by_hits, rate=version.rate, heard=self._heard)
        taps = Taps(self._untreated, self._taps, self._chains, behind)
        return Shared(tuple(sends(version, name, taps, opened)))

    def _channel(self, name: str, path: str, entry: Callable[[Sheet], Node]) -> Input:
        """A channel's chain, noted, and what comes out of its fader."""
        sheet = self._sheet
        own = [
            (at, ramp, channel_at(version, path), entry(version))
            for at, ramp, version in variants(sheet, path)
        ]
        around = self._hearing(path)
        made = [chained(c, node, sheet.rate, self._keys, around) for _, _, c, node in own]
        self._chains[name] = varied_chain([(at, ramp) for at, ramp, _, _ in own], made)
        levels = [0.0 if c.mute else fader_gain(c.fader_db) for _, _, c, _ in own]
        return input_of(
            [
                (at, ramp, m.end, level, level)
                for (at, ramp, _, _), m, level in zip(own, made, levels, strict=True)
            ]
        )

    def _route(self, name: str, node: Node, out: Input, to: str) -> None:
        """Into the group that a channel runs into, or into the drum bus where that does nothing."""
        if to not in self._live:
            self._parts[name] = node
            self._drums += [out] if sounds(out) else []
        if to in self._into and sounds(out):
            self._into[to].append(out)

    def graph(self) -> Graph:
        """The drum bus on top of all, and the graph."""
        total = Shared(tuple(self._drums))
        out = self._channel(DRUM_BUS, DRUM_BUS, partial(_same, total))
        output = out[0] if out[1:] == (1.0, 1.0) else Mixed((out,))
        beside = beside_the_drums(self._sheet, self._stages)
        return Graph(
            self._stages,
            self._outs,
            self._chains,
            self._groups,
            {name: self._returns[name] for name in self._sheet.buses},
            self._parts,
            total,
            output,
            beside,
            with_bed(output, beside),
            self._layers,
            heard_buses(self._sheet, self._sounding),
        )


def _same(node: Node, version: Sheet) -> Node:
    return node


Entries = Mapping[str, Sequence[tuple[int, int, Entry]]]


def _lane_chains(
    sheet: Sheet,
    name: str,
    versions: Mapping[str, Sequence[tuple[int, int, Sheet]]],
    entries: Entries,
    keys: Mapping[str, Node],
    hearing: Heard,
) -> list[Chained]:
    """A mic's chain in each of its versions. Both sides of a linked pair run through one, so that
    what listens hears both."""
    sides = lane(sheet, name)
    mine = [version.mics[name] for _, _, version in versions[name]]
    if len(sides) == 1 or any(
        m.chain != mine[n].chain
        for side in sides
        for n, m in enumerate(v.mics[side] for _, _, v in versions[side])
    ):
        own = zip(mine, entries[name], strict=True)
        return [chained(mic, entry.enters, sheet.rate, keys, hearing) for mic, (_, _, entry) in own]
    number, out = sides.index(name), []
    for mic, (_, _, left), (_, _, right) in zip(mine, *(entries[s] for s in sides), strict=True):
        both = chained(mic, Pair(left.enters, right.enters), sheet.rate, keys, hearing)
        entry = (left, right)[number].enters
        after = {
            i: entry if node is both.entry else Side(node, number) for i, node in both.after.items()
        }
        out.append(Chained(mic.chain, entry, after, both.keys))
    return out


def _as_recorded(sheet: Sheet, entries: Mapping[str, Entry]) -> Graph:
    """Every mic enters both sides at unity and nothing else happens."""
    every = {
        name: MicStages(*own[:4], Chained((), own.enters, {})) for name, own in entries.items()
    }
    mics = {name: every[name] for name in sounding_mics(sheet)}
    outs: dict[str, Node] = {n: Mixed(((s.shaped, 1.0, 1.0),)) for n, s in mics.items()}
    total = Mixed(tuple((s.shaped, 1.0, 1.0) for s in mics.values()))
    beside = beside_the_drums(sheet, every)
    return Graph(every, outs, {}, {}, {}, outs, total, total, beside, with_bed(total, beside))


def _mic_stages(entries: Sequence[tuple[int, int, Entry]], made: Sequence[Chained]) -> MicStages:
    source, repaired, placed, clean = (
        varied([(at, ramp, entry[n]) for at, ramp, entry in entries]) for n in range(4)
    )
    times = [(at, ramp) for at, ramp, _ in entries]
    return MicStages(source, repaired, placed, clean, varied_chain(times, made))
