"""Replace: what goes under a drum. Its own best hits under its accents, and a tone where its
fundamental is weak.

Laid as loud under a soft accent as under a hard one, the drum's own hits even it out and leave
the hit itself as it was played. A layer stands so far under the drum as it sounds in the mix, and
what it does there is measured: by how much accents spread, and their low end at equal peak. One that
helps neither, or costs one of them, is not proposed.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.module import Module
from arkund.core.advise.pitch import drum_hz
from arkund.core.advise.replace.layers import NAME, layer_patch, sub_patch
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.errors import ArkundError
from arkund.core.graph.nodes import Node
from arkund.core.kit.roles import label, parse_mic_name, piece_family
from arkund.core.measure.landmarks import under_loudest_db
from arkund.core.measure.levels import hit_peaks
from arkund.core.process.equaliser import Equaliser
from arkund.core.shape.sides import louder_side
from arkund.core.sheet.limits import OFF_DB
from arkund.core.sheet.pairs import lanes
from arkund.core.sheet.paths import Patch
from arkund.core.sheet.sheet import Sheet
from arkund.core.units import amplitudes_to_db, db_to_amplitude

UNDER_GOAL = "punch"
"""The goal for which layers are laid; others leave a drum as it was played."""

LOW_BAND_HZ = {"kick": (35.0, 120.0), "snare": (120.0, 320.0)}
"""Where a drum's weight is, by family; what has no entry gets no layer."""

UNDER_DB = -8.0
FEWEST_ACCENTS, FEWEST_SAMPLES = 12, 4
WEAK_DB = -9.0
"""A fundamental's octave so far under the loudest one is weak."""

FOLLOWING = 0.25
"""How much of an accent's velocity its layer follows: hardly any, so that the soft ones are lifted."""

LEAST_DB, MOST_LOST_DB = 0.5, 0.5
LOW_S = 0.05


@dataclass(frozen=True)
class _Accents:
    """A drum's accents in the mix: the spread of their peaks (90th over 10th percentile) and their
    low end at equal peak, both in dB."""

    spread_db: float
    low_db: float


def find_under(study: Study, mic: str, school: School) -> list[Finding]:
    """A layer under the drum that a mic leads, where the school lays any."""
    piece = parse_mic_name(mic).piece or ""
    family = piece_family(piece) if piece else ""
    if school.goal != UNDER_GOAL or family not in LOW_BAND_HZ or study.close(piece)[:1] != [mic]:
        return []
    if any(layer.of == mic for layer in study.sheet.layers.values()):
        return []
    times = [h.time_s for h in study.hits if h.piece == piece and h.kind == "accent"]
    if len(times) < FEWEST_ACCENTS:
        return []
    ways = (_own_hits(study, piece, mic), _tone(study, piece, mic) if family == "kick" else None)
    if not any(ways):
        return []
    drum = _sum(study, [study.graph.outs[m] for m in study.close(piece) if m in study.graph.outs])
    findings, so_far = [], drum
    for way in filter(None, ways):
        layer = _at_its_level(study, drum, times, way)
        # What is laid second is judged on top of what is laid first.
        if finding := _judged(study, piece, so_far, times, layer, school):
            findings.append(finding)
            so_far = so_far + layer.sound
    return findings


@dataclass(frozen=True)
class _Way:
    """A layer as a change of the sheet, its name, and what is said of it."""

    patch: Patch
    layer: str
    said: str


def _own_hits(study: Study, piece: str, mic: str) -> _Way | None:
    try:
        patch = layer_patch(study, piece, blend_db=0.0)
    except ArkundError:
        return None
    [(path, layer)] = patch.items()
    count = len(layer["samples"])
    if count < FEWEST_SAMPLES:
        return None
    eqs = [s.model_dump() for s in study.sheet.mics[mic].stages(Equaliser) if s.on]
    said = f"{count} of its own hits {-UNDER_DB:.0f} dB under them, all about as loud"
    return _Way({path: {**layer, "following": FOLLOWING, "chain": eqs}}, path.split(".")[1], said)


def _tone(study: Study, piece: str, mic: str) -> _Way | None:
    base = drum_hz(study, piece)
    if not base:
        return None
    stands = under_loudest_db(study.sound(mic, "clean"), study.rate, study.plain_times(mic), base)
    if stands > WEAK_DB:
        return None
    try:
        patch = sub_patch(study, piece, blend_db=0.0)
    except ArkundError:
        return None
    [(path, layer)] = patch.items()
    said = (
        f"a tone on {layer['note_hz']:.0f} Hz under every hit, for the fundamental at "
        f"{base:.0f} Hz lies {-stands:.0f} dB under the loudest octave"
    )
    return _Way(patch, path.split(".")[1], said)


@dataclass(frozen=True)
class _Layer:
    """A way at its level, with its sound."""

    way: _Way
    fader_db: float
    sound: NDArray[np.float32]


def _at_its_level(
    study: Study, drum: NDArray[np.float32], times: Sequence[float], way: _Way
) -> _Layer:
    """`UNDER_DB` under the drum, hit by hit."""
    tried = study.tried(way.patch)
    sound = _sum(tried, [tried.graph.layers[way.layer]])
    own, under = (_typical_db(one, study.rate, times) for one in (drum, sound))
    fader_db = round(float(np.clip(own + UNDER_DB - under, OFF_DB, 12.0)), 1)
    return _Layer(way, fader_db, sound * np.float32(db_to_amplitude(fader_db)))


def _judged(
    study: Study,
    piece: str,
    drum: NDArray[np.float32],
    times: Sequence[float],
    layer: _Layer,
    school: School,
) -> Finding | None:
    """The layer, with what it does to the accents of the ``drum``; None where that is no gain."""
    band = LOW_BAND_HZ[piece_family(piece)]
    now = _accents(drum, study.rate, times, band)
    then = _accents(drum + layer.sound, study.rate, times, band)
    evener, fuller = now.spread_db - then.spread_db, then.low_db - now.low_db
    if max(evener, fuller) < LEAST_DB or min(evener, fuller) < -MOST_LOST_DB:
        return None
    way = layer.way
    path = f"layers.{way.layer}"
    return Finding(
        NAME,
        "under",
        way.layer,
        spoken(
            f"{label(piece)}: with {way.said}, soft and loud accents differ by {then.spread_db:.1f} dB "
            f"in the mix (now {now.spread_db:.1f}). At equal peak its low end changes by {fuller:+.1f} dB."
        ),
        {"spread_db": round(now.spread_db, 1), "low_db": round(now.low_db, 1)},
        0.7,
        {path: {**way.patch[path], "fader_db": layer.fader_db}},
        {
            "spread_db": Change(round(now.spread_db, 1), round(then.spread_db, 1)),
            "low_db": Change(round(now.low_db, 1), round(then.low_db, 1)),
        },
        row="goal",
        school=school.name,
        mic=study.close(piece)[0],
    )


def _sum(study: Study, nodes: Sequence[Node]) -> NDArray[np.float32]:
    """Stereo nodes of the whole song, added up."""
    total = np.zeros((study.sheet.frames, 2), np.float32)
    for node in nodes:
        total += study.engine.read(node, 0, study.sheet.frames)
    return total


def _typical_db(sound: NDArray[np.float32], rate: int, times: Sequence[float]) -> float:
    return float(np.median(_peaks_db(sound, rate, times)))


def _peaks_db(sound: NDArray[np.float32], rate: int, times: Sequence[float]) -> NDArray[np.float64]:
    return amplitudes_to_db(hit_peaks(louder_side(sound), rate, times))


def _accents(
    sound: NDArray[np.float32], rate: int, times: Sequence[float], band_hz: tuple[float, float]
) -> _Accents:
    peaks = _peaks_db(sound, rate, times)
    sections = scipy.signal.butter(2, band_hz, "bandpass", fs=rate, output="sos")
    low = scipy.signal.sosfilt(sections, sound.mean(axis=1))
    sums = np.concatenate([[0.0], np.cumsum(low**2)])
    begins = np.clip(np.rint(np.asarray(times) * rate).astype(int), 0, len(low))
    ends = np.minimum(begins + round(LOW_S * rate), len(low))
    powers = (sums[ends] - sums[begins]) / np.maximum(ends - begins, 1)
    lows = 10 * np.log10(powers + 1e-18)
    spread = float(np.subtract(*np.percentile(peaks, [90, 10])))
    return _Accents(spread, float(np.median(lows - peaks)))


def _leading(sheet: Sheet) -> list[str]:
    return [mic for mic in lanes(sheet) if sheet.mics[mic].name.piece]


def _reads(sheet: Sheet, mic: str) -> list[object]:
    piece = sheet.mics[mic].name.piece
    own = {name: m.model_dump() for name, m in sheet.mics.items() if m.name.piece == piece}
    return [own, {n: layer.model_dump() for n, layer in sheet.layers.items()}]


MODULE = Module(NAME, "replace", 2, _leading, _reads, find_under)
