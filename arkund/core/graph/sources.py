"""A mic before its chain: as recorded, joined, moved, repaired, placed and clean."""

from collections.abc import Callable
from typing import NamedTuple

from arkund.core.clean.gate import Timing
from arkund.core.clean.rule import LOUD_KINDS, GateRule
from arkund.core.graph.chains import Link, Processed
from arkund.core.graph.evened import Evened, Silenced
from arkund.core.graph.graph import Variant
from arkund.core.graph.hearing import NEAR, Heard
from arkund.core.graph.hits import UNLISTED, Hits
from arkund.core.graph.hum import HumProcess
from arkund.core.graph.joining import Moved, Passage, Silence, Spliced
from arkund.core.graph.laying import laid_out
from arkund.core.graph.nodes import File, Gated, Mended, Node, Placed
from arkund.core.graph.sides import Difference
from arkund.core.graph.struck import Cut, Struck
from arkund.core.graph.toned import Toned
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import label
from arkund.core.process.band import Band
from arkund.core.process.crossover import Side, crossover
from arkund.core.process.equaliser import Equaliser
from arkund.core.replace.harvest import HEAD_S
from arkund.core.sheet.channels import Mic
from arkund.core.sheet.lanes import KICK_ROLES, ONE_FILE, Library
from arkund.core.sheet.layers import AnyLayer, SampleLayer, SubLayer
from arkund.core.sheet.limits import OFF_DB
from arkund.core.sheet.sheet import Sheet, Take
from arkund.core.sheet.treating import DEEPEST_NOTCH_DB, NOTCH_Q, Clean, Repair
from arkund.core.timing.moves import ALL, KICK
from arkund.core.units import db_to_amplitude, ms_to_samples

BY_HITS_MS = (0.5, 150.0, 120.0, 2.0)
"""Attack, hold, release and lookahead of a send that opens on hits."""


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
            Passage(
                file_of(takes[s.take]),
                s.at,
                takes[s.take].offset - s.shift,
                max(ms_to_samples(s.fade_ms, sheet.rate), 1),
                s.shape == "level",
            )
            for s in laid
        )
    )


def _moved(source: Node, name: str, sheet: Sheet, library: Library) -> Node:
    """The source with the song's moves; the kick's close mics may have moves of their own."""
    if sheet.moves is None or sheet.mics[name].role in ONE_FILE:
        return source
    columns = library.edits_of(sheet.moves).columns
    track = KICK if sheet.mics[name].role in KICK_ROLES and KICK in columns else ALL
    return Moved(source, f"{sheet.moves}-{track}", *columns[track])


class Entry(NamedTuple):
    """What is done to a mic before its chain: as recorded, repaired, placed, clean, and as it ``enters``
    the chain, with what follows its hits."""

    source: Node
    repaired: Node
    placed: Node
    clean: Node
    enters: Node


def mic_entry(
    name: str,
    sheet: Sheet,
    library: Library,
    variant: Variant,
    heard: Callable[[], Hits],
    hearing: Heard = NEAR,
) -> Entry:
    """A mic as recorded, repaired, placed, clean, and as it enters its chain: with even hits,
    without those that a layer plays instead, and without what lies below a sub layer's crossover."""
    mic = sheet.mics[name]
    source = _moved(joined_source(name, sheet, library), name, sheet, library)
    if variant == "recorded":
        return Entry(source, source, source, source, source)
    repaired, placed = _placed(name, sheet, library)
    clean = placed
    if mic.clean.on and mic.clean.range_db < 0:
        listens = _gate_key(name, sheet, library)
        shut = _ring_notched(placed, mic.clean, sheet.rate, hearing)
        clean = Gated(placed, gate_rule(mic, sheet.rate, heard), listens, shut)
    if variant == "removed":
        clean = Difference(placed, clean) if clean is not placed else Placed(placed, 0.0, 0.0)
        return Entry(source, repaired, placed, clean, clean)
    enters = _evened(name, sheet, clean, heard, hearing)
    return Entry(source, repaired, placed, clean, enters)


def by_hits(node: Node, mic: Mic, rate: int, heard: Callable[[], Hits]) -> Node:
    """A mic's sound only where its drum is hit, for as long as a hit needs to ring out."""
    rule = GateRule(
        "hits",
        0.0,
        0.0,
        OFF_DB,
        Timing(*(ms_to_samples(ms, rate) for ms in BY_HITS_MS)),
        onsets=heard().places(mic.name.piece, rate, mic.delay_samples),
    )
    return Gated(node, rule)


def edited_entry(name: str, sheet: Sheet, library: Library) -> Node:
    """A mic joined, moved and aligned, and nothing else: what somebody else goes on from."""
    mic = sheet.mics[name]
    source = _moved(joined_source(name, sheet, library), name, sheet, library)
    if mic.polarity == 1 and not mic.delay_samples:
        return source
    return Placed(source, float(mic.polarity), mic.delay_samples)


def _placed(name: str, sheet: Sheet, library: Library) -> tuple[Node, Node]:
    """A mic repaired, and after trim, polarity and delay."""
    mic = sheet.mics[name]
    joined = joined_source(name, sheet, library)
    repaired = _moved(_repaired(joined, mic.repair, sheet.rate), name, sheet, library)
    gain = db_to_amplitude(mic.trim_db) * mic.polarity
    if gain != 1.0 or mic.delay_samples:
        return repaired, Placed(repaired, gain, mic.delay_samples)
    return repaired, repaired


def _gate_key(name: str, sheet: Sheet, library: Library) -> Node | None:
    """What a threshold hears where that is not the mic itself as it is."""
    key, opens_on = sheet.mics[name].clean.key, sheet.mics[name].clean.opens_on
    if opens_on != "threshold" or key.is_plain:
        return None
    heard = _placed(key.source or name, sheet, library)[1]
    return Processed(heard, (Link(key.filters(sheet.rate)),)) if key.is_filtered else heard


def _ring_notched(placed: Node, clean: Clean, rate: int, hearing: Heard) -> Node | None:
    """What is heard while a gate is shut that shuts a ring alone; None of one that shuts the level."""
    if clean.shuts == "level":
        return None
    notch = Band(
        id="ring",
        on=True,
        frequency_hz=clean.ring_hz,
        gain_db=max(clean.range_db, DEEPEST_NOTCH_DB),
        q=NOTCH_Q,
    )
    cut = Equaliser(bands=(notch,)).process(rate)
    return Processed(placed, (Link(cut),), behind=hearing.entering)


def _evened(
    name: str, sheet: Sheet, clean: Node, heard: Callable[[], Hits], hearing: Heard
) -> Node:
    mic = sheet.mics[name]
    layers = [sheet.layers[n] for n in taking_layers(sheet, name) if not sheet.layers[n].mute]
    instead = [layer for layer in layers if layer.mode == "instead"]
    entry = clean
    if mic.even.amount or instead:
        listed = sorted(_listed(heard(), mic, sheet.rate), key=lambda one: one[0].time_s)
        own, onsets = [h for h, _ in listed], tuple(at for _, at in listed)
    if mic.even.amount:
        entry = Evened(entry, onsets, tuple(h.kind for h in own), mic.even.amount)
    if instead:
        out = tuple(any(plays(layer, h) for layer in instead) for h in own)
        entry = Silenced(entry, onsets, out)
    for layer in layers:
        if isinstance(layer, SubLayer) and layer.crossover:
            entry = _crossed(entry, "high_pass", layer, sheet.rate, hearing)
    return entry


def taking_layers(sheet: Sheet, mic: str) -> list[str]:
    """The layers that take something away from a mic of their drum while they sound: its hits, or
    what lies below a crossover."""
    piece = sheet.mics[mic].name.piece
    return [
        name
        for name, layer in sheet.layers.items()
        if piece
        and sheet.mics[layer.of].name.piece == piece
        and (layer.mode == "instead" or (isinstance(layer, SubLayer) and layer.crossover))
    ]


def _crossed(source: Node, side: Side, layer: SubLayer, rate: int, hearing: Heard) -> Node:
    both = crossover(side, layer.crossover_hz, layer.crossover_db_oct, rate)
    return Processed(source, tuple(Link(one) for one in both), behind=hearing.entering)


def layer_entry(
    layer: AnyLayer,
    sheet: Sheet,
    drum: Node,
    library: Library,
    heard: Callable[[], Hits],
    hearing: Heard = NEAR,
) -> Node:
    """What a layer plays, under the hits of the mic that it follows; ``drum`` is that mic clean."""
    mic = sheet.mics[layer.of]
    listed = _listed(heard(), mic, sheet.rate)
    onsets = tuple(sorted(at for h, at in listed if plays(layer, h)))
    if isinstance(layer, SubLayer):
        toned = Toned(
            drum,
            onsets,
            layer.following,
            layer.choke,
            layer.note_hz,
            layer.attack_ms,
            layer.decay_ms,
            layer.fall,
            layer.drive_db,
        )
        return _crossed(toned, "low_pass", layer, sheet.rate, hearing) if layer.crossover else toned
    samples = _samples(layer, sheet, heard)
    if not samples:
        return Silence()  # its hits have left the song
    kit = layer.source and File(library.path_of(layer.source), layer.source, "mono", "kit file")
    return Struck(
        drum, onsets, layer.following, layer.choke, kit or drum, samples, layer.mode == "under"
    )


def _samples(layer: SampleLayer, sheet: Sheet, heard: Callable[[], Hits]) -> tuple[Cut, ...]:
    """Each sample where it lies now; hits that have left the song are left out."""
    shift = sheet.mics[layer.of].delay_samples - round(HEAD_S * sheet.rate)
    times = heard().times_s if layer.source is None else {}

    def begin(hit: str) -> int:
        return round(times[hit] * sheet.rate + shift) if hit in times else -1

    found = [(n, begin(s.hit) if s.hit else s.at or 0, s) for n, s in enumerate(layer.samples)]
    return tuple(
        Cut(
            n,
            at,
            s.frames,
            ms_to_samples(s.fade_in_ms, sheet.rate),
            ms_to_samples(s.fade_out_ms, sheet.rate),
        )
        for n, at, s in found
        if at >= 0
    )


def plays(layer: AnyLayer, hit: Hit) -> bool:
    """Whether a layer plays on a hit. A flam is one hit; rolls and ghosts are left alone where
    only accents are wanted."""
    loud = layer.hits == "all" or hit.kind in ("accent", "flam")
    wanted = loud and hit.kind != "roll" and layer.low <= hit.velocity <= layer.high
    return wanted and hit.id not in layer.left_out


def _listed(hits: Hits, mic: Mic, rate: int) -> list[tuple[Hit, int]]:
    """The hits of a mic's piece, each with the sample on which it falls there; what may be one
    opens a gate, but plays no sample and is made no louder."""
    piece = mic.name.piece
    own = zip(hits.of(piece), hits.places(piece, rate, mic.delay_samples), strict=True)
    return [one for one in own if one[0].kind != UNLISTED]


def _repaired(source: Node, repair: Repair, rate: int) -> Node:
    mended = source
    if repair.dc or repair.rebuilt or repair.clip_gains:
        runs = tuple((r.at, r.frames) for r in repair.rebuilt)
        gains = tuple((g.at, g.frames, db_to_amplitude(g.gain_db)) for g in repair.clip_gains)
        mended = Mended(source, repair.dc, runs, gains)
    hum = HumProcess(repair.hum_hz, repair.hum_lines, rate)
    return mended if hum.is_transparent else Processed(mended, (Link(hum),))


def gate_rule(mic: Mic, rate: int, heard: Callable[[], Hits]) -> GateRule:
    """The gate's rule with its times in samples and, on hits, its piece's onsets, unlisted ones
    too, as they fall in this mic after trim and delay."""
    c: Clean = mic.clean
    timing = Timing(
        ms_to_samples(c.attack_ms, rate),
        ms_to_samples(c.hold_ms, rate),
        ms_to_samples(c.release_ms, rate),
        ms_to_samples(c.lookahead_ms, rate),
    )
    onsets: tuple[int, ...] = ()
    ghosts: tuple[int, ...] = ()
    soft: tuple[int, ...] = ()
    if c.opens_on == "hits":
        own = heard().of(mic.name.piece)
        onsets = heard().places(mic.name.piece, rate, mic.delay_samples)
        soft = tuple(at for h, at in zip(own, onsets, strict=True) if h.kind not in LOUD_KINDS)
        # What no ghost changes, no ghost is told apart for.
        if c.ghosts_db < 0:
            ghosts = tuple(at for h, at in zip(own, onsets, strict=True) if h.kind == "ghost")
    return GateRule(
        c.opens_on,
        c.threshold_db,
        c.hysteresis_db,
        c.range_db,
        timing,
        onsets=onsets,
        ghosts=ghosts,
        ghosts_db=c.ghosts_db,
        soft=soft,
        early=ms_to_samples(c.soft_ms, rate),
        regions=c.spans if c.opens_on == "hand" else (),
        fade=c.fade,
    )
