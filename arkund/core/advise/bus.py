"""Bus: parallel returns squeezed and blended in, glue, and where the mix comes out."""

import numpy as np
from numpy.typing import NDArray

from arkund.core.advise.dynamics import typical_reduction_db
from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.level import typical_dbfs
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.kit.roles import is_shell
from arkund.core.measure.levels import hit_peaks
from arkund.core.measure.loudness import loudness_lufs
from arkund.core.mix.channels import DRUM_BUS, OFF_DB, stage_path
from arkund.core.mix.nodes import Node
from arkund.core.mix.sheet import Sheet
from arkund.core.process.compressor import Compressor
from arkund.core.units import SILENCE_DB, amplitude_to_db, amplitudes_to_db

PARALLEL, MIX = "bus", "mix"
AIM_DB = {"punch": 11.0, "sustain": 15.0}
UNDER_MIX_LU = {"punch": {"punch": 8.0, "punch_size": 10.0, "size": 12.0},
                "sustain": {"punch": 13.0, "punch_size": 13.0, "size": 11.0}}  # fmt: skip
LEAST_UNDER_STROKES_DB = 6.0
"""A return's strokes peak at least so much under the dry ones."""

WHAT_FOR = {"punch": "weight behind the shells", "sustain": "length behind the whole kit"}
GLUE_AIM_DB = 3.0
PEAK_DBFS = (-10.0, -6.0)
"""Where the drum mix should peak before mastering."""

LONGEST_HEARD_S = 60.0


def find(study: Study, bus: str, school: School) -> list[Finding]:
    """How a bus is dialled and blended in, or the drum bus glued, where the school wants it."""
    if bus == DRUM_BUS:
        return _glue(study, school)
    wanted: dict[str, tuple[str, ...]] = {
        "punch_sustain": ("punch", "sustain"), "punch": ("punch",), "glue": ()}  # fmt: skip
    settings = study.sheet.buses[bus]
    if bus not in wanted[school.parallel] or settings.fader_db > OFF_DB or settings.mute:
        return []
    return _blend(study, bus, school)


def _read(study: Study, node: Node, longest_s: float = LONGEST_HEARD_S) -> NDArray[np.float32]:
    """A stereo node from the first stroke on, for at most ``longest_s``."""
    first = study.hits[0].time_s if study.hits else 0.0
    start = max(round((first - 0.2) * study.rate), 0)
    stop = min(start + round(longest_s * study.rate), study.sheet.frames)
    return study.engine.read(node, start, stop)


def _stroke_times(study: Study) -> list[float]:
    """Shells' strokes as they fall in `_read`."""
    first = study.hits[0].time_s if study.hits else 0.0
    start = max(round((first - 0.2) * study.rate), 0) / study.rate
    return [h.time_s - start for h in study.hits if is_shell(h.piece) and h.kind != "ghost"
            and h.time_s - start < LONGEST_HEARD_S - 0.5]  # fmt: skip


def _dialled(
    study: Study, sound: NDArray[np.float32], settings: Compressor, aim: float
) -> tuple[Compressor, float]:
    """Threshold for ``aim`` dB on the typical shell stroke, by bisection; and what it comes to."""
    times = _stroke_times(study)
    part = sound[: round(20 * study.rate)]
    early = [t for t in times if t < len(part) / study.rate - 0.2] or times
    low, high = -60.0, 0.0
    for _ in range(8):
        middle = (low + high) / 2
        tried = settings.model_copy(update={"on": True, "threshold_db": middle})
        if typical_reduction_db(part, study.rate, tried, early) > aim:
            low = middle
        else:
            high = middle
    made = settings.model_copy(update={"on": True, "threshold_db": round((low + high) / 2, 1)})
    return made, typical_reduction_db(sound, study.rate, made, times)


def _blend(study: Study, bus: str, school: School) -> list[Finding]:
    stage, path = study.sheet.buses[bus].first(Compressor), f"buses.{bus}"
    if stage is None:
        return []
    feed = _read(study, study.graph.chains[bus].before(stage.id))
    if not float(np.abs(feed).max(initial=0.0)):
        return []
    squeeze, reduction = _dialled(study, feed, stage, AIM_DB[bus])
    dialled = {f"{stage_path(path, stage)}.on": True,
               f"{stage_path(path, stage)}.threshold_db": squeeze.threshold_db}  # fmt: skip
    dry = loudness_lufs(_read(study, study.graph.sum), study.rate)
    at_unity = study.tried({**dialled, f"{path}.fader_db": 0.0})
    wet = loudness_lufs(_read(at_unity, at_unity.graph.chains[bus].end), study.rate)
    if SILENCE_DB in (dry, wet):
        return []
    wanted = UNDER_MIX_LU[bus][school.goal]
    # What the attack lets through must not become the mix's peaks.
    held = _strokes_dbfs(study, study.graph.sum) - LEAST_UNDER_STROKES_DB
    held -= _strokes_dbfs(at_unity, at_unity.graph.chains[bus].end)
    blend = round(float(np.clip(min(dry - wanted - wet, held), -60, 12)) * 2) / 2
    under = dry - wet - blend
    return [
        Finding(
            PARALLEL, "blend", bus,
            spoken(f"{reduction:.1f} dB of reduction on the {bus} bus, blended in {under:.0f} LU "
                   f"under the mix: {WHAT_FOR[bus]} (blend {blend:+.1f} dB)."),
            {"reduction_db": round(reduction, 1), "mix_lufs": round(dry, 1),
             "return_lufs_at_unity": round(wet, 1)}, 0.75,
            {**dialled, f"{path}.fader_db": blend},
            {"reduction_db": Change(0.0, round(reduction, 1)),
             "return_under_mix_lu": Change(0.0, round(under, 1))},
            row="parallel", school=school.name,
        )
    ]  # fmt: skip


def _strokes_dbfs(study: Study, node: Node) -> float:
    """The typical shell stroke's peak at a stereo node."""
    mono = np.ascontiguousarray(np.abs(_read(study, node)).max(axis=1))
    times = _stroke_times(study)
    return typical_dbfs(amplitudes_to_db(hit_peaks(mono, study.rate, times))) if times else 0.0


def _glue(study: Study, school: School) -> list[Finding]:
    settings = study.sheet.drum_bus.first(Compressor)
    if school.parallel != "glue" or settings is None or settings.on:
        return []
    total = _read(study, study.graph.chains[DRUM_BUS].before(settings.id))
    path = stage_path(DRUM_BUS, settings)
    if not float(np.abs(total).max(initial=0.0)):
        return []
    made, reduction = _dialled(study, total, settings, GLUE_AIM_DB)
    return [
        Finding(
            PARALLEL, "glue", DRUM_BUS,
            spoken(f"{reduction:.1f} dB of glue on the drum bus at {made.ratio:g}:1 from "
                   f"{made.threshold_db:.0f} dB holds the kit together without a parallel path."),
            {"reduction_db": 0.0}, 0.75,
            {f"{path}.on": True, f"{path}.threshold_db": made.threshold_db},
            {"reduction_db": Change(0.0, round(reduction, 1))},
            row="parallel", school=school.name,
        )
    ]  # fmt: skip


def peak_of(study: Study, node: Node) -> float:
    """Largest sample of a node over the whole song, tile by tile."""
    engine = study.engine
    tiles = -(-study.sheet.frames // engine.tile_frames)
    peak = 0.0
    for n in range(tiles):
        peak = max(peak, float(np.abs(engine.tile(node, n)).max(initial=0.0)))
    return amplitude_to_db(peak)


def find_mix(study: Study, subject: str, school: School) -> list[Finding]:
    """Where the mix peaks over the whole song, held against `PEAK_DBFS`."""
    now = peak_of(study, study.graph.output)
    if now <= -150 or PEAK_DBFS[0] <= now <= PEAK_DBFS[1]:
        return []
    level = study.sheet.drum_bus.fader_db
    wanted = round(float(np.clip(level + sum(PEAK_DBFS) / 2 - now, -60, 12)) * 2) / 2
    then = now + wanted - level
    over = " and clips" if now > 0 else ""
    return [
        Finding(
            MIX, "peak", DRUM_BUS,
            spoken(f"{now:+.1f} dBFS at the mix's loudest{over}; the drum bus at {wanted:+.1f} dB "
                   f"brings it to {then:.1f}, where mastering wants it."),
            {"peak_dbfs": round(now, 1)}, 0.99, {"drum_bus.fader_db": wanted},
            {"peak_dbfs": Change(round(now, 1), round(then, 1))},
        )
    ]  # fmt: skip


def _subjects(sheet: Sheet) -> list[str]:
    return [*sheet.buses, DRUM_BUS]


def _reads(sheet: Sheet, bus: str) -> list[object]:
    return [sheet.mics, sheet.groups, sheet.buses, sheet.drum_bus]


MODULE = Module(PARALLEL, "bus", 2, _subjects, _reads, find)
MIX_MODULE = Module(MIX, "bus", 2, lambda sheet: [DRUM_BUS], _reads, find_mix)
