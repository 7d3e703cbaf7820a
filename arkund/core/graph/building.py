"""From a sheet to its graph: channels' chains, sums, groups, buses and what differs over bars."""

from collections.abc import Callable, Mapping, Sequence
from functools import cache

from arkund.core.graph.chains import Link, Processed
from arkund.core.graph.graph import Chained, Graph, MicStages, Variant
from arkund.core.graph.hearing import Heard, hearings
from arkund.core.graph.hits import Hits, all_hits
from arkund.core.graph.nodes import Node, Pair, Pulses, Side
from arkund.core.graph.sources import Entry, layer_entry, mic_entry, taking_layers
from arkund.core.graph.summing import Input, Mixed, Shared, Varied, pan_gains
from arkund.core.process.stage import processor_of
from arkund.core.sheet.channels import DRUM_BUS, OFF_DB, Channel, Mic
from arkund.core.sheet.lanes import (
    HITS,
    Library,
    hit_lists,
    mic_order,
    sounding_mics,
)
from arkund.core.sheet.pairs import lane
from arkund.core.sheet.sheet import Sheet, bus_order
from arkund.core.sheet.varying import variants
from arkund.core.units import db_to_amplitude

CLEAN = 3
"""Where a mic's entry is clean, before what follows its hits."""


def fader_gain(db: float) -> float:
    """Amplitude of a fader, send or blend; 0 where it is shut."""
    return 0.0 if db <= OFF_DB else db_to_amplitude(db)


def build(sheet: Sheet, library: Library, variant: Variant = "now") -> Graph:
    """The graph as it sounds now, of what Clean removed, or as recorded."""
    heard = cache(lambda: all_hits(sheet, library))
    order = mic_order(sheet)
    if variant == "recorded":
        return _as_recorded(sheet, {n: mic_entry(n, sheet, library, variant, heard) for n in order})
    versions = {
        name: variants(sheet, f"mics.{name}", [f"layers.{n}" for n in taking_layers(sheet, name)])
        for name in order
    }
    hearing = hearings(sheet, lambda path: _versions(sheet, path))
    entries = {
        name: [
            (at, ramp, mic_entry(name, version, library, variant, heard, hearing(f"mics.{name}")))
            for at, ramp, version in versions[name]
        ]
        for name in order
    }
    # Mics are heard as they enter their chains, groups before theirs: so nothing can wait for itself.
    keys = {name: _varied([(at, ramp, e[-1]) for at, ramp, e in entries[name]]) for name in order}
    keys |= _hit_keys(sheet, heard)
    every, chained = {}, {}
    for name in order:
        chained[name] = _lane_chains(sheet, name, versions, entries, keys, hearing(f"mics.{name}"))
        every[name] = _mic_stages(entries[name], chained[name])
    beside = _beside(sheet, every)
    mics = sounding_mics(sheet)
    taps: dict[str, Input] = {}
    outs: dict[str, Node] = {}
    live = _live_groups(sheet)
    inside: dict[str, list[Input]] = {name: [] for name in sheet.groups}
    contributions: list[Input] = []
    parts: dict[str, Node] = {}
    for name in mics:
        pairs = list(zip(versions[name], chained[name], strict=True))
        taps[name] = _input(
            [(at, ramp, c.end, *_panned(v.mics[name], 1.0)) for (at, ramp, v), c in pairs]
        )
        out = _input(
            [
                (at, ramp, c.end, *_panned(v.mics[name], fader_gain(v.mics[name].fader_db)))
                for (at, ramp, v), c in pairs
            ]
        )
        outs[name] = out[0] if isinstance(out[0], Varied) else Mixed((out,))
        to = sheet.mics[name].to
        if to not in live:
            parts[name] = outs[name]
        if _sounds(out):
            # A group that does nothing is passed by, so that it costs nothing.
            if to not in live:
                contributions.append(out)
            if to in inside:
                inside[to].append(out)

    chains: dict[str, Chained] = {}
    groups: dict[str, Node] = {}

    def channel(name: str, path: str, entry: Callable[[Sheet], Node]) -> Input:
        """A channel's chain, noted, and what comes out of its fader."""
        own = [
            (at, ramp, _channel_at(version, path), entry(version))
            for at, ramp, version in variants(sheet, path)
        ]
        made = [_chained(c, node, sheet.rate, keys, hearing(path)) for _, _, c, node in own]
        chains[name] = _varied_chain([(at, ramp) for at, ramp, _, _ in own], made)
        levels = [0.0 if c.mute else fader_gain(c.fader_db) for _, _, c, _ in own]
        return _input(
            [
                (at, ramp, m.end, level, level)
                for (at, ramp, _, _), m, level in zip(own, made, levels, strict=True)
            ]
        )

    layers: dict[str, Node] = {}
    for name, layer in sheet.layers.items():
        drum = _varied([(at, ramp, e[CLEAN]) for at, ramp, e in entries[layer.of]])

        def struck(version: Sheet, name: str = name, drum: Node = drum) -> Node:
            layer = version.layers[name]
            around = hearing(f"layers.{name}")
            entry = layer_entry(layer, version, drum, library, heard, around)
            return Mixed(((entry, 1.0, 1.0),))

        out = channel(name, f"layers.{name}", struck)
        layers[name] = Mixed((out,))
        if layer.to not in live:
            parts[name] = layers[name]
            contributions += [out] if _sounds(out) else []
        if layer.to in inside and _sounds(out):
            inside[layer.to].append(out)
    keys |= {name: Shared(tuple(inside[name])) for name in sheet.groups}
    for name in sheet.groups:
        out = channel(name, f"groups.{name}", lambda version, name=name: keys[name])  # type: ignore[misc]
        groups[name] = Mixed((out,))
        if name in live:
            parts[name] = groups[name]
            contributions += [out] if _sounds(out) else []
    returned: dict[str, Input] = {}
    returns: dict[str, Node] = {}
    for name in bus_order(sheet.buses):
        behind = {**outs, **groups, **returns}

        def feed(version: Sheet, name: str = name, behind: dict[str, Node] = behind) -> Node:
            return Shared(tuple(_sends(version, name, taps, chains, behind)))

        returned[name] = channel(name, f"buses.{name}", feed)
        returns[name] = parts[name] = Mixed((returned[name],))
    contributions += [returned[name] for name in sheet.buses if _sounds(returned[name])]
    total = Mixed(tuple(contributions))
    keys |= {name: chains[name].end for name in sheet.buses}
    out = channel(DRUM_BUS, DRUM_BUS, lambda version: total)
    output = out[0] if out[1:] == (1.0, 1.0) else Mixed((out,))
    returns = {name: returns[name] for name in sheet.buses}
    return Graph(
        every,
        outs,
        chains,
        groups,
        returns,
        parts,
        total,
        output,
        beside,
        _with(output, beside),
        layers,
        _heard_buses(sheet, [name for name in returns if _sounds(returned[name])]),
    )


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
        return [_chained(mic, entry[-1], sheet.rate, keys, hearing) for mic, (_, _, entry) in own]
    number, out = sides.index(name), []
    for mic, (_, _, left), (_, _, right) in zip(mine, *(entries[s] for s in sides), strict=True):
        both = _chained(mic, Pair(left[-1], right[-1]), sheet.rate, keys, hearing)
        entry = (left, right)[number][-1]
        after = {
            i: entry if node is both.entry else Side(node, number) for i, node in both.after.items()
        }
        out.append(Chained(mic.chain, entry, after, both.keys))
    return out


def _as_recorded(sheet: Sheet, entries: Mapping[str, Entry]) -> Graph:
    """Every mic enters both sides at unity and nothing else happens."""
    every = {name: MicStages(*own[:4], Chained((), own[-1], {})) for name, own in entries.items()}
    mics = {name: every[name] for name in sounding_mics(sheet)}
    outs: dict[str, Node] = {n: Mixed(((s.shaped, 1.0, 1.0),)) for n, s in mics.items()}
    total = Mixed(tuple((s.shaped, 1.0, 1.0) for s in mics.values()))
    beside = _beside(sheet, every)
    return Graph(every, outs, {}, {}, {}, outs, total, total, beside, _with(total, beside))


def _hit_keys(sheet: Sheet, heard: Callable[[], Hits]) -> dict[str, Node]:
    """Lists of hits as sounds, those that some stage listens to."""
    channels = (*sheet.mics.values(), *sheet.groups.values(), *sheet.buses.values(), sheet.drum_bus)
    sources = {s.listens.source for c in channels for s in c.chain if s.listens}
    return {
        name: Pulses(
            tuple(
                sorted(
                    (round(h.time_s * sheet.rate), round(h.velocity / 127, 4))
                    for h in heard().of(name.removesuffix(HITS))
                )
            )
        )
        for name in hit_lists(sheet)
        if name in sources
    }


def _heard_buses(sheet: Sheet, sounding: Sequence[str]) -> frozenset[str]:
    """The buses that are in the mix, feed one that is, or are listened to by some stage."""
    channels = (*sheet.mics.values(), *sheet.groups.values(), *sheet.buses.values(), sheet.drum_bus)
    listened = {s.listens.source for c in channels for s in c.chain if s.listens}
    heard = {*sounding, *(listened & set(sheet.buses))}
    # Who feeds a bus comes before it in this order.
    for name in reversed(bus_order(sheet.buses)):
        if name in heard:
            heard |= set(sheet.buses[name].sends) & set(sheet.buses)
    return frozenset(heard)


def _sounds(one: Input) -> bool:
    return one[1] != 0.0 or one[2] != 0.0


def _input(parts: Sequence[tuple[int, int, Node, float, float]]) -> Input:
    """A node with its gains; of several by time, one that goes from each to the next."""
    if len(parts) == 1:
        _, _, node, left, right = parts[0]
        return node, left, right
    mixed = tuple(
        (at, ramp, Mixed(((node, left, right),))) for at, ramp, node, left, right in parts
    )
    return Varied(mixed), 1.0, 1.0


def _varied(parts: Sequence[tuple[int, int, Node]]) -> Node:
    """A node that goes from each to the next; the one where all are the same."""
    is_one = len(parts) == 1 or len({node.key for _, _, node in parts}) == 1
    return parts[0][2] if is_one else Varied(tuple(parts))


def _varied_chain(times: Sequence[tuple[int, int]], made: Sequence[Chained]) -> Chained:
    """A chain whose taps go from one version's to the next's."""
    if len(made) == 1:
        return made[0]

    def each(nodes: Sequence[Node]) -> Node:
        return _varied([(at, ramp, n) for (at, ramp), n in zip(times, nodes, strict=True)])

    first = made[0]
    return Chained(
        first.chain,
        each([m.entry for m in made]),
        {i: each([m.after[i] for m in made]) for i in first.after},
        {i: each([m.keys[i] for m in made]) for i in first.keys if all(i in m.keys for m in made)},
    )


def _mic_stages(entries: Sequence[tuple[int, int, Entry]], made: Sequence[Chained]) -> MicStages:
    source, repaired, placed, clean = (
        _varied([(at, ramp, entry[n]) for at, ramp, entry in entries]) for n in range(4)
    )
    times = [(at, ramp) for at, ramp, _ in entries]
    return MicStages(source, repaired, placed, clean, _varied_chain(times, made))


def _panned(mic: Mic, level: float) -> tuple[float, float]:
    """Gains of a mic to the left and to the right; none where it is muted."""
    left, right = pan_gains(mic.pan)
    return (0.0, 0.0) if mic.mute else (left * level, right * level)


def _channel_at(sheet: Sheet, path: str) -> Channel:
    """The group, bus or drum bus at a path."""
    table, _, name = path.partition(".")
    found: Channel = getattr(sheet, table)[name] if name else getattr(sheet, table)
    return found


def _live_groups(sheet: Sheet) -> set[str]:
    """Groups that do something, if only over some bars."""
    return {
        name
        for name in sheet.groups
        if not all(
            _is_clear(version.groups[name]) for _, _, version in variants(sheet, f"groups.{name}")
        )
    }


def _is_clear(channel: Channel) -> bool:
    """Whether a channel leaves what runs through it as it is."""
    idle = all(stage.is_transparent for stage in channel.chain)
    return idle and not channel.mute and channel.fader_db == 0.0


def _chained(
    channel: Channel, entry: Node, rate: int, sources: Mapping[str, Node], hearing: Heard
) -> Chained:
    """A channel's chain on top of what comes in; ``sources`` are what its stages may listen to."""
    after: dict[str, Node] = {}
    keys: dict[str, Node] = {}
    node = entry
    links: list[Link] = []
    working = [stage for stage in channel.chain if not stage.is_transparent]
    for stage in channel.chain:
        key, listens, through = stage.listens, None, None
        if key is not None and not key.is_plain:
            listens = sources[key.source] if key.source else None
            through = key.filters(rate) if key.is_filtered else None
            heard = listens or node
            keys[stage.id] = Processed(heard, (Link(through),)) if through else heard
        if not stage.is_transparent:
            links.append(Link(processor_of(stage, rate), listens, through))
            node = Processed(entry, tuple(links), dear=stage is working[-1], behind=hearing.behind)
        after[stage.id] = node
    return Chained(channel.chain, entry, after, keys)


def _versions(sheet: Sheet, path: str) -> list[Channel]:
    """What a channel is over the song."""
    return [_channel_at(version, path) for _, _, version in variants(sheet, path)]


def _beside(sheet: Sheet, every: dict[str, MicStages]) -> dict[str, Node]:
    """The bed at its level and the reference, those that the song has."""
    out: dict[str, Node] = {}
    for role, level in (("bed", fader_gain(sheet.bed_db)), ("reference", 1.0)):
        names = [
            m for m in mic_order(sheet) if sheet.mics[m].role == role and not sheet.mics[m].unused
        ]
        if names:
            gains = [(every[m].shaped, pan_gains(sheet.mics[m].pan)) for m in names]
            out[role] = Mixed(tuple((n, a * level, b * level) for n, (a, b) in gains))
    return out


def _with(drums: Node, beside: dict[str, Node]) -> Node:
    """The drums with the bed under them."""
    bed = beside.get("bed")
    return drums if bed is None else Mixed(((drums, 1.0, 1.0), (bed, 1.0, 1.0)))


def _sends(
    sheet: Sheet,
    bus: str,
    taps: Mapping[str, Input],
    chains: Mapping[str, Chained],
    behind: Mapping[str, Node],
) -> list[Input]:
    """What a bus takes: mics in their order, panned as they are, so that the return has its image;
    then groups and other buses. ``taps`` are mics before their faders, ``behind`` what comes out of
    faders; a muted channel sends nothing."""
    sends, out = sheet.buses[bus].sends, []
    for name in (*taps, *sheet.groups, *sheet.buses):
        send = sends.get(name)
        level = fader_gain(send.db) if send else 0.0
        if not send or not level:
            continue
        if not send.pre:
            out.append((behind[name], level, level))
        elif name in taps:
            node, left, right = taps[name]
            out.append((node, left * level, right * level))
        elif not (sheet.groups.get(name) or sheet.buses[name]).mute:
            out.append((chains[name].end, level, level))
    return [one for one in out if _sounds(one)]
