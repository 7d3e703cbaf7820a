"""The signal graph of a sheet: repair … trim → polarity, delay → clean → the mic's chain → mute →
pre-fader tap → fader, pan → its group's chain and fader → *sum* (+ the buses' returns) → the drum
bus's chain and fader → *output*.
"""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cache
from pathlib import Path
from typing import Literal

import numpy as np

from arkund.core.clean.gate import Timing
from arkund.core.errors import SheetError
from arkund.core.hits.detect import Hit, hit_id
from arkund.core.kit.roles import BESIDE, OFF_KIT, label
from arkund.core.mix.channels import OFF_DB, Channel, Clean, Mic, Repair
from arkund.core.mix.differences import variants
from arkund.core.mix.hum import HumProcess
from arkund.core.mix.joining import Moved, Passage, Silence, Spliced
from arkund.core.mix.laying import laid_out
from arkund.core.mix.nodes import (
    Difference,
    File,
    Gated,
    GateRule,
    Mended,
    Mixed,
    Node,
    Placed,
    Processed,
    Varied,
    pan_gains,
)
from arkund.core.mix.sheet import Sheet, Take, bus_order, with_values
from arkund.core.process.compressor import Compressor
from arkund.core.process.equaliser import Equaliser
from arkund.core.process.stage import Stage
from arkund.core.timing.corrections import corrected
from arkund.core.timing.moves import ALL, KICK, EditList, moved_hits
from arkund.core.units import db_to_amplitude, ms_to_samples

Variant = Literal["now", "removed", "recorded"]
VARIANTS: tuple[Variant, ...] = ("now", "removed", "recorded")


def no_edits(digest: str) -> EditList:
    """For songs in which nothing was moved."""
    raise SheetError(f"The edit list {digest[:12]} is missing from the media folder.")


def nothing_unlisted(digest: str) -> Mapping[str, Sequence[float]]:
    """For songs whose analysis does not say what their lists of strokes may lack."""
    return {}


@dataclass(frozen=True)
class Library:
    """Where the sheet's content hashes lead: stored sound files, hit lists, edit lists, and what
    an analysis heard of each piece that its list lacks (times in the take in s)."""

    path_of: Callable[[str], Path]
    hits_of: Callable[[str], Sequence[Hit]]
    edits_of: Callable[[str], EditList] = no_edits
    unlisted_of: Callable[[str], Mapping[str, Sequence[float]]] = nothing_unlisted


@dataclass(frozen=True)
class Chained:
    """A channel's sound on its way through its chain: as it comes in, and after each stage by id."""

    chain: tuple[Stage, ...]
    entry: Node
    after: Mapping[str, Node]
    keys: Mapping[str, Node] = field(default_factory=dict)
    """What stages that listen to something else hear, by id."""

    @property
    def end(self) -> Node:
        """Behind the last stage."""
        return self.after[self.chain[-1].id] if self.chain else self.entry

    def before(self, stage_id: str) -> Node:
        """What a stage hears."""
        place = next(n for n, stage in enumerate(self.chain) if stage.id == stage_id)
        return self.after[self.chain[place - 1].id] if place else self.entry

    def tap(self, stage_id: str) -> Node:
        """Behind a stage; raises `SheetError` where the chain has none of that name."""
        if stage_id not in self.after:
            known = ", ".join(self.after) or "none"
            raise SheetError(f"There is no stage “{stage_id}” in this chain. There are: {known}.")
        return self.after[stage_id]


@dataclass(frozen=True)
class MicStages:
    """One mic after each stage: `source` as recorded with joins and moves, `repaired` and the rest
    on top of that, ``chained`` its chain; `shaped`, behind that, is the pre-fader tap."""

    source: Node
    repaired: Node
    placed: Node
    clean: Node
    chained: Chained

    @property
    def shaped(self) -> Node:
        """Behind the whole chain."""
        return self.chained.end

    @property
    def equalised(self) -> Node:
        """Behind the first EQ; as it enters the chain where that has none."""
        return self._around(Equaliser, behind=True) or self.chained.entry

    @property
    def transient(self) -> Node:
        """Before the first compressor; behind the chain where that has none."""
        return self._around(Compressor, behind=False) or self.shaped

    def _around(self, kind: type[Stage], *, behind: bool) -> Node | None:
        stage = next((s for s in self.chained.chain if isinstance(s, kind)), None)
        if stage is None:
            return None
        return self.chained.after[stage.id] if behind else self.chained.before(stage.id)


@dataclass(frozen=True)
class Graph:
    """All nodes of a sheet. ``mics`` in mic order, those out of use and beside the drums too;
    ``outs`` of those that sound, after fader and pan, stereo; ``chains`` of groups, buses and the
    drum bus; ``groups`` and ``returns`` behind their faders; ``parts`` what the sum is made of, by
    name; ``song`` the drums with the bed."""

    mics: dict[str, MicStages]
    outs: dict[str, Node]
    chains: dict[str, Chained]
    groups: dict[str, Node]
    returns: dict[str, Node]
    parts: dict[str, Node]
    sum: Node
    output: Node
    beside: dict[str, Node]
    song: Node

    def node(self, name: str) -> Node:
        """The node of a public name: ``output``, ``sum``, ``song`` (the drums with the bed),
        ``bed``, ``reference``, a mic (as it enters the mix, mono), a group or a bus (behind its
        fader). Raises `SheetError` otherwise."""
        named = {"output": self.output, "sum": self.sum, "song": self.song, **self.beside,
                 **{m: stages.shaped for m, stages in self.mics.items()},
                 **self.returns}  # fmt: skip
        for group, node in self.groups.items():
            named.setdefault(group, node)
        if name not in named and (key := self._key(name)):
            return key
        if name not in named:
            raise SheetError(
                f"There is nothing called “{name}” to hear. There are: {', '.join(named)}."
            )
        return named[name]

    def _key(self, name: str) -> Node | None:
        """What a stage listens to, by ``channel.stage.key``: as its detector hears it."""
        channel, _, rest = name.partition(".")
        stage, _, what = rest.partition(".")
        if what != "key" or (channel not in self.mics and channel not in self.chains):
            return None
        chained = self.chain(channel)
        if stage not in chained.after:
            return None
        return chained.keys.get(stage) or chained.before(stage)

    def chain(self, name: str) -> Chained:
        """The chain of a mic, a group, a bus, or of ``output``: the drum bus. Raises `SheetError`."""
        if name in self.mics:
            return self.mics[name].chained
        name = DRUM_BUS if name == "output" else name
        if name not in self.chains:
            known = ", ".join([*self.mics, *self.chains])
            raise SheetError(f"“{name}” has no chain. These have: {known}.")
        return self.chains[name]


DRUM_BUS = "drum_bus"


def fader_gain(db: float) -> float:
    """Amplitude of a fader, send or blend; 0 where it is shut."""
    return 0.0 if db <= OFF_DB else db_to_amplitude(db)


def build(sheet: Sheet, library: Library, variant: Variant = "now") -> Graph:
    """The graph as it sounds now, of what Clean removed, or as recorded."""

    def strokes() -> list[Hit]:
        listed = sounding_hits(sheet, library)
        return [*listed, *sounding_unlisted(sheet, library, listed)]

    heard = cache(strokes)
    order = mic_order(sheet)
    if variant == "recorded":
        return _as_recorded(
            sheet, {n: _mic_entry(n, sheet, library, variant, heard) for n in order}
        )
    versions = {name: variants(sheet, f"mics.{name}", with_values) for name in order}
    entries = {
        name: [(at, ramp, _mic_entry(name, version, library, variant, heard))
               for at, ramp, version in versions[name]]
        for name in order
    }  # fmt: skip
    # Mics are heard as they enter their chains, groups before theirs: so nothing can wait for itself.
    keys = {name: _varied([(at, ramp, e[-1]) for at, ramp, e in entries[name]]) for name in order}
    every, chained = {}, {}
    for name in order:
        chained[name] = [
            _chained(version.mics[name], entry[-1], sheet.rate, keys)
            for (_, _, version), (_, _, entry) in zip(versions[name], entries[name], strict=True)
        ]
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
        out = _input([(at, ramp, c.end, *_panned(v.mics[name], fader_gain(v.mics[name].fader_db)))
                      for (at, ramp, v), c in pairs])  # fmt: skip
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
    keys |= {name: Mixed(tuple(inside[name])) for name in sheet.groups}

    def channel(name: str, path: str, entry: Callable[[Sheet], Node]) -> Input:
        """A channel's chain, noted, and what comes out of its fader."""
        own = [(at, ramp, _channel_at(version, path), entry(version))
               for at, ramp, version in variants(sheet, path, with_values)]  # fmt: skip
        made = [_chained(c, node, sheet.rate, keys) for _, _, c, node in own]
        chains[name] = _varied_chain([(at, ramp) for at, ramp, _, _ in own], made)
        levels = [0.0 if c.mute else fader_gain(c.fader_db) for _, _, c, _ in own]
        return _input([(at, ramp, m.end, level, level) for (at, ramp, _, _), m, level
                       in zip(own, made, levels, strict=True)])  # fmt: skip

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
            return Mixed(tuple(_sends(version, name, taps, chains, behind)))

        returned[name] = channel(name, f"buses.{name}", feed)
        returns[name] = parts[name] = Mixed((returned[name],))
    contributions += [returned[name] for name in sheet.buses if _sounds(returned[name])]
    total = Mixed(tuple(contributions))
    keys |= {name: chains[name].end for name in sheet.buses}
    out = channel(DRUM_BUS, DRUM_BUS, lambda version: total)
    output = out[0] if out[1:] == (1.0, 1.0) else Mixed((out,))
    returns = {name: returns[name] for name in sheet.buses}
    return Graph(every, outs, chains, groups, returns, parts, total, output, beside,
                 _with(output, beside))  # fmt: skip


def _as_recorded(sheet: Sheet, entries: Mapping[str, tuple[Node, Node, Node, Node]]) -> Graph:
    """Every mic enters both sides at unity and nothing else happens."""
    every = {name: MicStages(*own, Chained((), own[-1], {})) for name, own in entries.items()}
    mics = {name: every[name] for name in sounding_mics(sheet)}
    outs: dict[str, Node] = {n: Mixed(((s.shaped, 1.0, 1.0),)) for n, s in mics.items()}
    total = Mixed(tuple((s.shaped, 1.0, 1.0) for s in mics.values()))
    beside = _beside(sheet, every)
    return Graph(every, outs, {}, {}, {}, outs, total, total, beside, _with(total, beside))


Input = tuple[Node, float, float]
"""A node with its gains to the left and to the right."""


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
    return parts[0][2] if len({node.key for _, _, node in parts}) == 1 else Varied(tuple(parts))


def _varied_chain(times: Sequence[tuple[int, int]], made: Sequence[Chained]) -> Chained:
    """A chain whose taps go from one version's to the next's."""
    if len(made) == 1:
        return made[0]

    def each(nodes: Sequence[Node]) -> Node:
        return _varied([(at, ramp, n) for (at, ramp), n in zip(times, nodes, strict=True)])

    first = made[0]
    return Chained(
        first.chain, each([m.entry for m in made]),
        {i: each([m.after[i] for m in made]) for i in first.after},
        {i: each([m.keys[i] for m in made]) for i in first.keys if all(i in m.keys for m in made)},
    )  # fmt: skip


def _mic_stages(
    entries: Sequence[tuple[int, int, tuple[Node, Node, Node, Node]]], made: Sequence[Chained]
) -> MicStages:
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
        name for name in sheet.groups
        if not all(_is_clear(version.groups[name])
                   for _, _, version in variants(sheet, f"groups.{name}", with_values))
    }  # fmt: skip


def _is_clear(channel: Channel) -> bool:
    """Whether a channel leaves what runs through it as it is."""
    idle = all(stage.is_transparent for stage in channel.chain)
    return idle and not channel.mute and channel.fader_db == 0.0


def _chained(channel: Channel, entry: Node, rate: int, sources: Mapping[str, Node]) -> Chained:
    """A channel's chain on top of what comes in; ``sources`` are what its stages may listen to."""
    after: dict[str, Node] = {}
    keys: dict[str, Node] = {}
    node = entry
    working = [stage for stage in channel.chain if not stage.is_transparent]
    for stage in channel.chain:
        key = stage.listens
        if key is not None and not key.is_plain:
            heard = sources[key.source] if key.source else node
            keys[stage.id] = Processed(heard, key.filters(rate)) if key.is_filtered else heard
        if not stage.is_transparent:
            last = stage is working[-1]
            node = Processed(node, stage.process(rate), last, keys.get(stage.id))
        after[stage.id] = node
    return Chained(channel.chain, entry, after, keys)


def _beside(sheet: Sheet, every: dict[str, MicStages]) -> dict[str, Node]:
    """The bed at its level and the reference, those that the song has."""
    out: dict[str, Node] = {}
    for role, level in (("bed", fader_gain(sheet.bed_db)), ("reference", 1.0)):
        names = [m for m in mic_order(sheet)
                 if sheet.mics[m].role == role and not sheet.mics[m].unused]  # fmt: skip
        if names:
            gains = [(every[m].shaped, pan_gains(sheet.mics[m].pan)) for m in names]
            out[role] = Mixed(tuple((n, a * level, b * level) for n, (a, b) in gains))
    return out


def _with(drums: Node, beside: dict[str, Node]) -> Node:
    """The drums with the bed under them."""
    bed = beside.get("bed")
    return drums if bed is None else Mixed(((drums, 1.0, 1.0), (bed, 1.0, 1.0)))


def mic_order(sheet: Sheet) -> list[str]:
    """Mics in the order in which they are summed and listed."""
    return sorted(sheet.mics, key=lambda name: sheet.mics[name].name.order)


def sounding_mics(sheet: Sheet) -> list[str]:
    """Mics of which the drums are made: in use, and none that stands beside them."""
    return [m for m in mic_order(sheet)
            if not sheet.mics[m].unused and sheet.mics[m].role not in BESIDE]  # fmt: skip


def kit_mics(sheet: Sheet) -> list[str]:
    """Mics that hear the kit as it was played: without overdubs and what is off it. In these
    strokes are found and delays measured."""
    return [m for m in sounding_mics(sheet)
            if not sheet.mics[m].overdub and sheet.mics[m].role not in OFF_KIT]  # fmt: skip


def _sends(
    sheet: Sheet, bus: str, taps: Mapping[str, Input], chains: Mapping[str, Chained],
    behind: Mapping[str, Node],
) -> list[Input]:  # fmt: skip
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


def _mic_entry(
    name: str, sheet: Sheet, library: Library, variant: Variant, heard: Callable[[], list[Hit]]
) -> tuple[Node, Node, Node, Node]:
    """A mic as recorded, repaired, placed and clean, which is how it enters its chain."""
    mic = sheet.mics[name]
    joined = joined_source(name, sheet, library)
    source = _moved(joined, name, sheet, library)
    if variant == "recorded":
        return source, source, source, source
    gain = db_to_amplitude(mic.trim_db) * mic.polarity
    repaired = _moved(_repaired(joined, mic.repair, sheet.rate), name, sheet, library)
    placed = repaired
    if gain != 1.0 or mic.delay_samples:
        placed = Placed(repaired, gain, mic.delay_samples)
    clean = placed
    if mic.clean.on and mic.clean.range_db < 0:
        clean = Gated(placed, _gate_rule(mic, sheet.rate, heard))
    if variant == "removed":
        clean = Difference(placed, clean) if clean is not placed else Placed(placed, 0.0, 0.0)
    return source, repaired, placed, clean


def joined_source(name: str, sheet: Sheet, library: Library) -> Node:
    """A mic's sound before any move: of the one take, or of the comp's takes joined. What stands
    beside the drums is one file for all takes."""

    def file_of(take: Take) -> Node:
        found = take.sources.get(name)
        if found is None:
            return Silence()
        called = label(name) if len(sheet.takes) == 1 else f"{label(name)}, take {take.number}"
        return File(library.path_of(found.sha256), found.sha256, found.pick, called)

    takes = {t.number: t for t in sheet.takes}
    if sheet.mics[name].role in ONE_FILE:
        return file_of(next((t for t in sheet.takes if name in t.sources), sheet.take))
    laid = laid_out(sheet)
    if not sheet.comp and len(laid) == 1:
        only = sheet.take
        source = file_of(only)
        return Spliced((Passage(source, 0, only.offset, 0),)) if only.offset else source
    return Spliced(
        tuple(
            Passage(file_of(takes[s.take]), s.at, takes[s.take].offset - s.shift,
                    max(ms_to_samples(s.fade_ms, sheet.rate), 1), s.shape == "level")
            for s in laid
        )
    )  # fmt: skip


def _moved(source: Node, name: str, sheet: Sheet, library: Library) -> Node:
    """The source with the song's moves; the kick's close mics may have moves of their own."""
    if sheet.moves is None or sheet.mics[name].role in ONE_FILE:
        return source
    tracks = library.edits_of(sheet.moves).tracks
    track = KICK if sheet.mics[name].role in KICK_ROLES and KICK in tracks else ALL
    slices = tracks[track]
    return Moved(source, f"{sheet.moves}-{track}", tuple(s.at for s in slices),
                 tuple(s.offset for s in slices), tuple(s.fade for s in slices))  # fmt: skip


ONE_FILE = ("bed", "reference")
"""Roles whose one file lies under all takes, never cut and never moved."""

KICK_ROLES = ("kick_in", "kick_out", "kick_sub")


def take_hits(sheet: Sheet, take: Take, hits_of: Callable[[str], Sequence[Hit]]) -> list[Hit]:
    """One take's strokes with what an ear corrected, in the song's time."""
    listed = corrected(hits_of(take.hits) if take.hits else (), take.corrections)
    if not take.offset:
        return listed
    shift = take.offset / sheet.rate
    return [replace(h, time_s=round(h.time_s - shift, 6)) for h in listed]


def played_hits(sheet: Sheet, hits_of: Callable[[str], Sequence[Hit]]) -> list[Hit]:
    """The strokes of the takes as joined, before any move: each stretch's own. A stroke that was
    copied has the sample at which its copy begins behind its id."""
    takes = {t.number: t for t in sheet.takes}
    return _as_joined(sheet, lambda number: take_hits(sheet, takes[number], hits_of))


def _as_joined(sheet: Sheet, hits_in: Callable[[int], list[Hit]]) -> list[Hit]:
    """Each stretch's own of what is found in its take (by number, in the song's time)."""
    laid = laid_out(sheet)
    ends = [*(s.at for s in laid[1:]), sheet.frames]
    known = {number: hits_in(number) for number in {s.take for s in laid}}
    out = []
    for number, (stretch, end) in enumerate(zip(laid, ends, strict=True)):
        for hit in known[stretch.take]:
            at = hit.time_s * sheet.rate + stretch.shift
            if (at >= stretch.at or number == 0) and at < end:
                if stretch.shift:
                    time_s = round(hit.time_s + stretch.shift / sheet.rate, 6)
                    hit = replace(hit, id=f"{hit.id}-{stretch.at}", time_s=time_s)
                out.append(hit)
    return out


def sounding_hits(sheet: Sheet, library: Library) -> list[Hit]:
    """The strokes that are heard, in the song's time: joined, corrected and moved."""
    hits = played_hits(sheet, library.hits_of)
    if sheet.moves is None:
        return hits
    return moved_hits(hits, library.edits_of(sheet.moves), sheet.rate)


UNLISTED = "unlisted"
"""Kind of what may be a stroke though no list has it."""

SAME_S = 0.03


def sounding_unlisted(sheet: Sheet, library: Library, listed: Sequence[Hit]) -> list[Hit]:
    """What stands clear in a drum's mic though it is in no list of strokes, in the song's time.
    What is ``listed`` by now (`sounding_hits`), since an ear added it, is left out."""
    takes = {t.number: t for t in sheet.takes}

    def found_in(number: int) -> list[Hit]:
        take = takes[number]
        if take.analysis is None:
            return []
        shift = take.offset / sheet.rate
        return [
            Hit(hit_id(piece, at), piece, round(at - shift, 6), 1, UNLISTED, 0.0, 0.0)
            for piece, times in library.unlisted_of(take.analysis).items() for at in times
        ]  # fmt: skip

    found = _as_joined(sheet, found_in)
    if found and sheet.moves is not None:
        found = moved_hits(found, library.edits_of(sheet.moves), sheet.rate)
    known = {
        p: np.array([h.time_s for h in listed if h.piece == p]) for p in {h.piece for h in found}
    }
    return [h for h in found if np.abs(known[h.piece] - h.time_s).min(initial=np.inf) > SAME_S]


def _repaired(source: Node, repair: Repair, rate: int) -> Node:
    mended = source
    if repair.dc or repair.rebuilt or repair.clip_gains:
        runs = tuple((r.at, r.frames) for r in repair.rebuilt)
        gains = tuple((g.at, g.frames, db_to_amplitude(g.gain_db)) for g in repair.clip_gains)
        mended = Mended(source, repair.dc, runs, gains)
    hum = HumProcess(repair.hum_hz, repair.hum_lines, rate)
    return mended if hum.is_transparent else Processed(mended, hum)


def _gate_rule(mic: Mic, rate: int, heard: Callable[[], list[Hit]]) -> GateRule:
    """The gate's rule with its times in samples and, on strokes, its piece's onsets, unlisted ones too, as they fall
    in this mic after trim and delay."""
    c: Clean = mic.clean
    timing = Timing(
        ms_to_samples(c.attack_ms, rate),
        ms_to_samples(c.hold_ms, rate),
        ms_to_samples(c.release_ms, rate),
        ms_to_samples(c.lookahead_ms, rate),
    )
    onsets: tuple[int, ...] = ()
    if c.opens_on == "strokes":
        piece = mic.name.piece
        onsets = tuple(
            round(h.time_s * rate + mic.delay_samples) for h in heard() if h.piece == piece
        )
    return GateRule(c.opens_on, c.threshold_db, c.hysteresis_db, c.range_db, timing, onsets)
