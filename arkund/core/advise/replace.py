"""Replace: what a layer under a drum would be made of, and where hits are uneven."""

import re
from collections.abc import Sequence
from typing import Any

import numpy as np

from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.errors import ArkundError
from arkund.core.graph.nodes import Node
from arkund.core.graph.sources import plays
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import is_shell, label, piece_family
from arkund.core.measure.hits import ring_time_s
from arkund.core.measure.landmarks import fundamental_hz
from arkund.core.measure.levels import hit_peaks
from arkund.core.replace.harvest import HEAD_S, Candidate, bands, candidates
from arkund.core.shape.sides import louder_side
from arkund.core.sheet.lanes import HITS
from arkund.core.sheet.layers import (
    CROSSOVER_HZ,
    FADE_IN_MS,
    FADE_OUT_MS,
    NOTE_HZ,
    SampleLayer,
    SubLayer,
)
from arkund.core.sheet.pairs import lanes
from arkund.core.sheet.paths import Patch
from arkund.core.sheet.sheet import Sheet
from arkund.core.sheet.typed import typed_value
from arkund.core.units import amplitude_to_db, amplitudes_to_db, octaves_of

NAME = "replace"
RING_S = (0.15, 0.6)
UNEVEN_DB = {"punch": 4.0, "punch_size": 6.0}
"""Accents that spread by more (90th over 10th percentile) are found uneven; Open lets them be."""

EVEN_SHARE = {"punch": 0.6, "punch_size": 0.4}
DUCKED = ("overhead", "room", "kit")
DUCK, DUCK_DB = "duck", 4.0
BLEND_DB = -6.0
SUB_DB = -12.0
HIGHEST_SUB_HZ, SEMITONES_TO_ROOT = 80.0, 2.0
SAME_NOTE = 1.2
"""Two fundamentals by less apart are one note."""

LEAST_ISOLATED_DB = 12.0
"""A sample brings more of the kit along where it exceeds the rest by less."""


def followed(study: Study, piece: str) -> str:
    """The mic that a layer of a piece follows; raises `ArkundError` for a piece without one."""
    close = study.close(piece)
    if not close:
        known = ", ".join(study.pieces) or "none"
        raise ArkundError(f"There is no mic close to “{piece[:40]}”. Pieces with one: {known}.")
    return close[0]


def harvest(study: Study, piece: str) -> list[Candidate]:
    """The hits of a piece that can be samples, the best isolated first."""
    mic = followed(study, piece)
    sound, rate = study.sound(mic, "clean"), study.rate
    ring = float(np.clip(ring_time_s(sound, rate, study.plain_times(mic)), *RING_S))
    delay = study.sheet.mics[mic].delay_samples / rate
    return candidates(sound, rate, piece, study.hits, ring, delay)


def layer_patch(
    study: Study,
    piece: str,
    *,
    mode: str = "under",
    hits: str = "accents",
    blend_db: float = BLEND_DB,
) -> Patch:
    """A layer of the song's own hits; ``hits`` are *accents*, *all* or velocities (``20-127``).

    Raises `ArkundError` where the piece has no mic or nothing stands alone in it.
    """
    found = [c for c in harvest(study, piece) if c.hit.kind != "ghost"]
    clear = [c for c in found if c.isolation_db >= LEAST_ISOLATED_DB] or found
    if not clear:
        raise ArkundError(f"No hit of {label(piece)} stands alone long enough to be a sample.")
    samples = [{"hit": c.hit.id, "frames": c.frames} for c in bands(clear)]
    return _put(
        study,
        piece,
        "layer",
        {
            "kind": "samples",
            "samples": samples,
            "mode": mode,
            "fader_db": blend_db,
            **_which(hits),
        },
    )


def kit_patch(
    study: Study,
    piece: str,
    source: str,
    samples: Sequence[tuple[int, int]],
    *,
    mode: str,
    hits: str,
    blend_db: float,
) -> Patch:
    """A layer of samples out of a stored kit file. Raises `ArkundError`."""
    return _put(
        study,
        piece,
        "layer",
        {
            "kind": "samples",
            "source": source,
            "samples": [{"at": at, "frames": n} for at, n in samples],
            "mode": mode,
            "fader_db": blend_db,
            **_which(hits),
        },
    )


def sub_patch(
    study: Study,
    piece: str,
    *,
    note: str = "auto",
    hits: str = "all",
    blend_db: float = SUB_DB,
    crossover: str = "off",
) -> Patch:
    """A tone under a piece: on its own fundamental (*auto*), a note (``C1``) or a frequency
    (``50Hz``). Its ``crossover`` with the drum is *off*, *auto* between the two fundamentals, or at
    a frequency. Raises `ArkundError`."""
    hz = round(sub_note_hz(study, piece, note), 2)
    values: dict[str, Any] = {"kind": "sub", "note_hz": hz, "fader_db": blend_db}
    at_hz, slope = crossover_of(hz, drum_hz(study, piece))
    if crossover not in ("off", "auto"):
        at_hz = _hz_said(study, crossover, "frequency", "off, auto or a frequency such as 70Hz")
        if not CROSSOVER_HZ[0] <= at_hz <= CROSSOVER_HZ[1]:
            low, high = CROSSOVER_HZ
            raise ArkundError(
                f"A crossover lies between {low:.0f} and {high:.0f} Hz; {at_hz:.0f} Hz does not."
            )
    values |= {
        "crossover": crossover != "off",
        "crossover_hz": round(at_hz, 1),
        "crossover_db_oct": slope,
    }
    return _put(study, piece, "sub", {**values, **_which(hits)})


def crossover_of(note_hz: float, drum_hz: float | None) -> tuple[float, int]:
    """Frequency in Hz and slope in dB/oct of the crossover between a sub on ``note_hz`` and a drum
    with its fundamental at ``drum_hz``.

    Halfway between both on the scale of pitch, the steeper the closer they are. On one note, or of
    a drum without a clear one, half an octave above it: the sub carries the note, the drum the rest.
    """
    apart = drum_hz / note_hz if drum_hz else 1.0
    if apart < SAME_NOTE:
        at_hz, slope = note_hz * 2**0.5, 48
    else:
        at_hz, slope = note_hz * apart**0.5, 48 if apart < 2 else 24
    return float(np.clip(at_hz, *CROSSOVER_HZ)), slope


def trimmed_patch(
    study: Study,
    layer: str,
    index: int,
    *,
    length_ms: float | None,
    fade_in_ms: float | None,
    fade_out_ms: float | None,
    room: int,
) -> Patch:
    """A layer's samples with one of them as long, from its hit on, and faded as is said;
    ``room`` samples there are. Raises `ArkundError`."""
    found = study.sheet.layers[layer]
    assert isinstance(found, SampleLayer)
    rate, wished = study.rate, {"fade_in_ms": fade_in_ms, "fade_out_ms": fade_out_ms}
    for way, wish, (low, high) in (
        ("in", fade_in_ms, FADE_IN_MS),
        ("out", fade_out_ms, FADE_OUT_MS),
    ):
        if wish is not None and not low <= wish <= high:
            raise ArkundError(f"A sample fades {way} over {low:g} to {high:g} ms, not {wish:g} ms.")
    changed: dict[str, Any] = {n: v for n, v in wished.items() if v is not None}
    if length_ms is not None:
        if not LEAST_LENGTH_MS <= length_ms <= 1000 * room / rate - 1000 * HEAD_S:
            most = 1000 * room / rate - 1000 * HEAD_S
            raise ArkundError(
                f"Sample {index + 1} can be {LEAST_LENGTH_MS:.0f} to {most:.0f} ms long, not "
                f"{length_ms:.0f} ms."
            )
        changed["frames"] = round((length_ms / 1000 + HEAD_S) * rate)
    samples = [s.model_dump(exclude_none=True) for s in found.samples]
    samples[index] |= changed
    return {f"layers.{layer}.samples": samples}


LEAST_LENGTH_MS = 5.0


def even_patch(study: Study, piece: str, amount: float) -> Patch:
    """Even hits on all close mics of a piece, by the same share. Raises `ArkundError`."""
    followed(study, piece)
    if not 0 <= amount <= 1:
        raise ArkundError("The amount of even hits is a share from 0 to 1, e.g. 0.5.")
    return {f"mics.{mic}.even.amount": amount for mic in study.close(piece)}


def sub_note_hz(study: Study, piece: str, note: str) -> float:
    """The frequency that a sub layer's note means; raises `ArkundError`."""
    if note.strip().lower() == "auto":
        base = drum_hz(study, piece)
        if not base:
            raise ArkundError(
                f"{label(piece).capitalize()} has no clear fundamental; say a note, e.g. C1 or 50Hz."
            )
        hz = note_under(base, study.sheet.root_note)
    else:
        hz = _hz_said(study, note, "note", "auto, a note such as C1, or 50Hz")
    if not NOTE_HZ[0] <= hz <= NOTE_HZ[1]:
        raise ArkundError(
            f"A sub layer plays from {NOTE_HZ[0]:.0f} to {NOTE_HZ[1]:.0f} Hz; {hz:.0f} Hz is outside."
        )
    return hz


def note_under(drum_hz: float, root_note: str) -> float:
    """The note of a sub under a drum: the drum's own where that is low, else the octave under it; the
    song's root note (empty: not known) where that is no more than two semitones away."""
    own = drum_hz if drum_hz <= HIGHEST_SUB_HZ else drum_hz / 2
    roots = [hz for _, hz in octaves_of(root_note, *NOTE_HZ)]
    nearest = min(roots, key=lambda hz: abs(np.log2(hz / own)), default=own)
    return nearest if abs(12 * np.log2(nearest / own)) <= SEMITONES_TO_ROOT else own


def drum_hz(study: Study, piece: str) -> float | None:
    """The fundamental of a piece in the mic that its layers follow; None where it has none."""
    mic = followed(study, piece)
    return (
        fundamental_hz(
            study.sound(mic, "clean"), study.rate, study.plain_times(mic), piece_family(piece)
        )
        or None
    )


def _hz_said(study: Study, text: str, what: str, wanted: str) -> float:
    try:
        return typed_value(text.strip(), "Hz", bpm=study.sheet.tempo.bpm, rate=study.rate)
    except ArkundError:
        raise ArkundError(f"“{text.strip()[:20]}” is no {what}; say {wanted}.") from None


def _which(hits: str) -> dict[str, Any]:
    """The hits that a layer plays on, as its values."""
    if hits in ("accents", "all"):
        return {"hits": hits}
    span = re.fullmatch(r"(\d{1,3})-(\d{1,3})", hits.strip())
    if span is None or not 1 <= int(span[1]) <= int(span[2]) <= 127:
        raise ArkundError(
            f"“{hits[:20]}” are no hits; say accents, all, or velocities such as 20-127."
        )
    return {"hits": "all", "low": int(span[1]), "high": int(span[2])}


def _put(study: Study, piece: str, what: str, values: dict[str, Any]) -> Patch:
    """A new layer of the piece, under a name that is free. Raises `ArkundError` where it would play on
    no hit."""
    mic = followed(study, piece)
    asked = {k: v for k, v in values.items() if k in ("hits", "low", "high")}
    own = [h for h in study.hits if h.piece == piece]
    layer = SubLayer(of=mic, **asked)
    if not any(plays(layer, hit) for hit in own):
        raise ArkundError(_silent(piece, own, layer))
    taken = {*study.sheet.layers, *study.sheet.mics, *study.sheet.groups, *study.sheet.buses}
    wish = f"{piece}_{what}"
    name = next(n for n in (wish, *(f"{wish}_{k}" for k in range(2, 99))) if n not in taken)
    return {f"layers.{name}": {**values, "of": mic, "to": study.sheet.mics[mic].to}}


def _silent(piece: str, own: Sequence[Hit], layer: SubLayer) -> str:
    """Why a layer would play on no hit."""
    single = [h.velocity for h in own if h.kind != "roll"]
    if not single:
        return f"The {label(piece)} has no hits that a layer could play on; rolls are left alone."
    if layer.hits == "accents":
        return (
            f"None of the {len(own)} hits of the {label(piece)} is an accent; ask for all of them."
        )
    return (
        f"No hit of the {label(piece)} has a velocity from {layer.low} to {layer.high}; "
        f"its hits have {min(single)} to {max(single)}."
    )


def spread_db(study: Study, mic: str) -> tuple[float, int]:
    """By how much the accents of a mic's piece spread (90th over 10th percentile of their peaks) as
    they enter its chain, and how many there are."""
    piece, shift = (
        study.sheet.mics[mic].name.piece,
        study.sheet.mics[mic].delay_samples / study.rate,
    )
    times = [h.time_s + shift for h in study.hits if h.piece == piece and h.kind == "accent"]
    return _spread(study, mic, times), len(times)


def _spread(study: Study, mic: str, times: Sequence[float]) -> float:
    if len(times) < 8:
        return 0.0
    entry = study.graph.mics[mic].chained.entry
    sound = study.engine.read(entry, 0, study.sheet.frames)
    peaks = amplitudes_to_db(hit_peaks(np.ascontiguousarray(sound), study.rate, times))
    return float(np.subtract(*np.percentile(peaks, [90, 10])))


def find(study: Study, mic: str, school: School) -> list[Finding]:
    """Uneven accents of a shell, where the school minds; for the ear to settle."""
    name = study.sheet.mics[mic].name
    aim, share = UNEVEN_DB.get(school.goal), EVEN_SHARE.get(school.goal, 0.0)
    piece = name.piece or ""
    if aim is None or not is_shell(piece) or study.close(piece)[:1] != [mic]:
        return []
    if study.sheet.mics[mic].even.amount:
        return []
    spread, count = spread_db(study, mic)
    if spread <= aim:
        return []
    patch = even_patch(study, piece, share)
    then, _ = spread_db(study.tried(patch), mic)
    return [
        Finding(
            NAME,
            "even",
            piece,
            spoken(
                f"{spread:.1f} dB between the soft and the loud accents of {label(piece)} ({count} of them). "
                f"Even hits by {share:.0%} leaves {then:.1f} dB and changes no sound. Whether the "
                "playing should be that even is for the ear."
            ),
            {"spread_db": round(spread, 1), "accents": count},
            0.55,
            patch,
            {"spread_db": Change(round(spread, 1), round(then, 1))},
            row="goal",
            school=school.name,
            mic=mic,
        )
    ]


def find_left(study: Study, mic: str, school: School) -> list[Finding]:
    """How loud overheads still hear a drum that a layer plays instead of, and a duck for it."""
    out = []
    for name, layer in study.sheet.layers.items():
        piece = study.sheet.mics[layer.of].name.piece
        if (
            layer.mode != "instead"
            or layer.mute
            or any(s.id == DUCK for s in study.sheet.mics[mic].chain)
        ):
            continue
        hits = [h for h in study.hits if h.piece == piece and plays(layer, h)]
        if len(hits) < 4:
            continue
        times = [h.time_s for h in hits]
        old = _typical_db(study, study.graph.outs[mic], times)
        own = _typical_db(study, study.graph.layers[name], times)
        pulse = amplitude_to_db(float(np.median([h.velocity for h in hits])) / 127)
        patch = _duck(study, mic, f"{piece}{HITS}", pulse)
        then = _typical_db(study, (tried := study.tried(patch)).graph.outs[mic], times, tried)
        out.append(
            Finding(
                NAME,
                "left_behind",
                f"{mic}.{name}",
                spoken(
                    f"{old - own:+.1f} dB: the old {label(piece or '')} in {label(mic)} against the layer that plays "
                    f"instead. A duck opened by its hits takes {old - then:.1f} dB off it, and off what rings "
                    "there with it."
                ),
                {"against_layer_db": round(old - own, 1)},
                0.55,
                patch,
                {"against_layer_db": Change(round(old - own, 1), round(then - own, 1))},
                mic=mic,
            )
        )
    return out


def _duck(study: Study, mic: str, hits: str, pulse_db: float) -> Patch:
    """A compressor at the mic's end that listens to a list of hits."""
    chain = study.sheet.mics[mic].chain
    stage = {
        "kind": "compressor",
        "ratio": 20.0,
        "knee_db": 0.0,
        "attack_ms": 0.3,
        "release_ms": 60.0,
        "lookahead_ms": 1.0,
        "threshold_db": round(pulse_db - DUCK_DB / 0.95, 1),
        "key": {"source": hits},
        "after": chain[-1].id if chain else "",
    }
    return {f"mics.{mic}.chain.{DUCK}": stage}


def _typical_db(
    study: Study, node: Node, times: Sequence[float], tried: Study | None = None
) -> float:
    """Median peak of a stereo node at hits, in dBFS."""
    sound = (tried or study).engine.read(node, 0, study.sheet.frames)
    level = louder_side(sound)
    return float(np.median(amplitudes_to_db(hit_peaks(level, study.rate, times))))


def _ducked(sheet: Sheet) -> list[str]:
    """Lanes that hear the whole kit."""
    return [mic for mic in lanes(sheet) if sheet.mics[mic].name.role in DUCKED]


def _reads_left(sheet: Sheet, mic: str) -> list[object]:
    instead = {
        n: layer.model_dump() for n, layer in sheet.layers.items() if layer.mode == "instead"
    }
    return [instead, sheet.mics if instead else None]


def _reads(sheet: Sheet, mic: str) -> list[object]:
    m = sheet.mics[mic]
    return [
        m.repair,
        m.trim_db,
        m.polarity,
        m.delay_samples,
        m.clean,
        m.even,
        {n: layer.model_dump() for n, layer in sheet.layers.items()},
    ]


MODULE = Module(NAME, "replace", 1, lanes, _reads, find)
LEFT_MODULE = Module(NAME, "replace", 1, _ducked, _reads_left, find_left)


def described(found: Candidate, rate: int) -> dict[str, Any]:
    """A candidate as plain data."""
    return {
        "hit": found.hit.id,
        "time_s": round(found.hit.time_s, 4),
        "velocity": found.hit.velocity,
        "kind": found.hit.kind,
        "peak_dbfs": round(found.peak_dbfs, 1),
        "before_dbfs": round(found.before_db, 1),
        "isolation_db": round(found.isolation_db, 1),
        "heard_with": found.heard_with,
        "length_s": round(found.frames / rate, 3),
        "at": found.at,
        "frames": found.frames,
    }
