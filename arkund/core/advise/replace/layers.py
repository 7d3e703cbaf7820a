"""What a layer under a drum would be made of."""

import re
from collections.abc import Sequence
from typing import Any

import numpy as np

from arkund.core.advise.pitch import drum_hz
from arkund.core.advise.study import Study
from arkund.core.errors import ArkundError
from arkund.core.graph.sources import plays
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import label
from arkund.core.measure.hits import ring_time_s
from arkund.core.replace.harvest import HEAD_S, Candidate, bands, candidates
from arkund.core.sheet.layers import (
    CROSSOVER_HZ,
    FADE_IN_MS,
    FADE_OUT_MS,
    NOTE_HZ,
    SampleLayer,
    SubLayer,
)
from arkund.core.sheet.paths import Patch
from arkund.core.sheet.typed import typed_value
from arkund.core.units import octaves_of

NAME = "replace"
RING_S = (0.15, 0.6)
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
    at_hz, slope = crossover_of(hz, drum_hz(study, piece) or None)
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
