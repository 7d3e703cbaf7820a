"""The signal graph of a sheet: repair … trim → polarity, delay → clean → EQ → transient →
compressor → mute → pre-fader tap → fader, pan → *sum* (+ parallel returns) → drum bus → *output*.
"""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cache
from pathlib import Path
from typing import Literal

import numpy as np

from arkund.core.clean.gate import Timing
from arkund.core.errors import SheetError
from arkund.core.hits.detect import Hit, hit_id
from arkund.core.kit.roles import BESIDE, OFF_KIT, label
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
    pan_gains,
)
from arkund.core.mix.processors import (
    CompressorProcess,
    EqualiserProcess,
    HumProcess,
    TransientProcess,
)
from arkund.core.mix.sheet import OFF_DB, Clean, Mic, Repair, Sheet, Take, Tempo
from arkund.core.timing.corrections import corrected
from arkund.core.timing.grid import Change, Grid
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
class MicStages:
    """One mic after each stage: `source` as recorded with joins and moves, `repaired` and the rest
    on top of that; `shaped` is the pre-fader tap."""

    source: Node
    repaired: Node
    placed: Node
    clean: Node
    equalised: Node
    transient: Node
    shaped: Node


@dataclass(frozen=True)
class Graph:
    """All nodes of a sheet. ``mics`` in mic order, those out of use and beside the drums too;
    ``outs`` of those that sound, after fader and pan, stereo; ``song`` the drums with the bed."""

    mics: dict[str, MicStages]
    outs: dict[str, Node]
    feeds: dict[str, Node]
    squeezed: dict[str, Node]
    returns: dict[str, Node]
    sum: Node
    output: Node
    beside: dict[str, Node]
    song: Node

    def node(self, name: str) -> Node:
        """The node of a public name: ``output``, ``sum``, ``song`` (the drums with the bed),
        ``bed``, ``reference``, a mic (as it enters the mix, mono), or a bus (its return at its
        blend). Raises `SheetError` otherwise."""
        if name == "output":
            return self.output
        if name == "sum":
            return self.sum
        if name == "song":
            return self.song
        if name in self.beside:
            return self.beside[name]
        if name in self.mics:
            return self.mics[name].shaped
        if name in self.returns:
            return self.returns[name]
        known = ", ".join(["output", "sum", "song", *self.beside, *self.mics, *self.returns])
        raise SheetError(f"There is nothing called “{name}” to hear. There are: {known}.")


def fader_gain(db: float) -> float:
    """Amplitude of a fader, send or blend; 0 where it is shut."""
    return 0.0 if db <= OFF_DB else db_to_amplitude(db)


def build(sheet: Sheet, library: Library, variant: Variant = "now") -> Graph:
    """The graph as it sounds now, of what Clean removed, or as recorded."""

    def strokes() -> list[Hit]:
        listed = sounding_hits(sheet, library)
        return [*listed, *sounding_unlisted(sheet, library, listed)]

    heard = cache(strokes)
    every = {name: _mic_stages(name, sheet, library, variant, heard) for name in mic_order(sheet)}
    beside = _beside(sheet, every)
    mics = {name: every[name] for name in sounding_mics(sheet)}
    if variant == "recorded":
        outs: dict[str, Node] = {n: Mixed(((s.shaped, 1.0, 1.0),)) for n, s in mics.items()}
        # As recorded every mic enters both sides at unity and nothing else happens.
        total = Mixed(tuple((s.shaped, 1.0, 1.0) for s in mics.values()))
        return Graph(every, outs, {}, {}, {}, total, total, beside, _with(total, beside))

    outs = {}
    contributions: list[tuple[Node, float, float]] = []
    for name, stages in mics.items():
        mic = sheet.mics[name]
        left, right = pan_gains(mic.pan)
        level = 0.0 if mic.mute else fader_gain(mic.fader_db)
        outs[name] = Mixed(((stages.shaped, left * level, right * level),))
        if level:
            contributions.append((stages.shaped, left * level, right * level))
    feeds: dict[str, Node] = {}
    squeezed: dict[str, Node] = {}
    returns: dict[str, Node] = {}
    for name, bus in sheet.parallel.items():
        feeds[name] = Mixed(tuple(_sends(bus.sends, sheet, mics)))
        squeeze = CompressorProcess(bus.compressor, sheet.rate)
        squeezed[name] = feeds[name]
        if not squeeze.is_transparent:
            squeezed[name] = Processed(feeds[name], squeeze, dear=True)
        blend = fader_gain(bus.blend_db) if bus.on else 0.0
        returns[name] = Mixed(((squeezed[name], blend, blend),))
        if blend:
            contributions.append((squeezed[name], blend, blend))
    total = Mixed(tuple(contributions))
    glue = CompressorProcess(sheet.drum_bus.compressor, sheet.rate)
    glued: Node = total if glue.is_transparent else Processed(total, glue, dear=True)
    level = fader_gain(sheet.drum_bus.level_db)
    output = glued if level == 1.0 else Mixed(((glued, level, level),))
    return Graph(
        every, outs, feeds, squeezed, returns, total, output, beside, _with(output, beside)
    )


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


def grid_of(sheet: Sheet) -> Grid:
    """The sheet's tempo map."""
    t = sheet.tempo
    changes = tuple(Change(c.bar, c.bpm, c.beats, c.unit) for c in t.changes)
    return Grid(t.bpm, t.beats, t.unit, t.first_downbeat_s, changes)


def tempo_of(grid: Grid) -> Tempo:
    """A tempo map as the sheet holds it."""
    changes = [{"bar": c.bar, "bpm": c.bpm, "beats": c.beats, "unit": c.unit} for c in grid.changes]
    return Tempo.model_validate(
        {"bpm": grid.bpm, "beats": grid.beats, "unit": grid.unit,
         "first_downbeat_s": grid.first_downbeat_s, "changes": changes}
    )  # fmt: skip


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
    sends: dict[str, float], sheet: Sheet, mics: dict[str, MicStages]
) -> list[tuple[Node, float, float]]:
    """Pre-fader taps in mic order, panned as the mic is, so that the return has its image."""
    out = []
    for name, stages in mics.items():
        level = fader_gain(sends.get(name, OFF_DB))
        if level and not sheet.mics[name].mute:
            left, right = pan_gains(sheet.mics[name].pan)
            out.append((stages.shaped, left * level, right * level))
    return out


def _mic_stages(
    name: str, sheet: Sheet, library: Library, variant: Variant, heard: Callable[[], list[Hit]]
) -> MicStages:
    mic = sheet.mics[name]
    joined = joined_source(name, sheet, library)
    source = _moved(joined, name, sheet, library)
    if variant == "recorded":
        return MicStages(*[source] * 7)
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
    stages: list[Node] = [clean]
    for process in (
        EqualiserProcess(mic.eq, sheet.rate),
        TransientProcess(mic.transient, sheet.rate),
        CompressorProcess(mic.compressor, sheet.rate),
    ):
        before = stages[-1]
        last = isinstance(process, CompressorProcess)
        stages.append(before if process.is_transparent else Processed(before, process, dear=last))
    return MicStages(source, repaired, placed, clean, stages[1], stages[2], stages[3])


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
