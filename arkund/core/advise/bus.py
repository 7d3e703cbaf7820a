"""Bus: parallel returns squeezed and blended in, and where the mix comes out."""

import numpy as np

from arkund.core.advise.density import dialled
from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.heard import heard, shell_times
from arkund.core.advise.level import typical_dbfs
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.measure.levels import hit_peaks
from arkund.core.measure.loudness import loudness_lufs
from arkund.core.mix.channels import DRUM_BUS, OFF_DB, stage_path
from arkund.core.mix.nodes import Node
from arkund.core.mix.sheet import Sheet
from arkund.core.mix.upgrade import RENAMED
from arkund.core.process.compressor import Compressor
from arkund.core.units import SILENCE_DB, amplitude_to_db, amplitudes_to_db

PARALLEL, MIX = "bus", "mix"
AIM_DB = {"strike": 11.0, "bloom": 15.0}
UNDER_MIX_LU = {
    "strike": {"punch": 8.0, "punch_size": 10.0, "size": 12.0},
    "bloom": {"punch": 13.0, "punch_size": 13.0, "size": 11.0},
}
LEAST_UNDER_STROKES_DB = 6.0
"""A return's strokes peak at least so much under the dry ones."""

WHAT_FOR = {"strike": "weight behind the shells", "bloom": "length behind the whole kit"}
PEAK_DBFS = (-10.0, -6.0)
"""Where the drum mix should peak before mastering."""


def find(study: Study, bus: str, school: School) -> list[Finding]:
    """How a bus is dialled and blended in, where the school wants it."""
    wanted: dict[str, tuple[str, ...]] = {
        "strike_bloom": ("strike", "bloom"),
        "strike": ("strike",),
        "glue": (),
    }
    settings = study.sheet.buses[bus]
    if _kind(bus) not in wanted[school.parallel] or settings.fader_db > OFF_DB or settings.mute:
        return []
    return _blend(study, bus, school)


def _kind(bus: str) -> str:
    """What a bus is for; those of songs that were made when they had other names too."""
    return RENAMED.get(bus, bus)


def _blend(study: Study, bus: str, school: School) -> list[Finding]:
    stage, path = study.sheet.buses[bus].first(Compressor), f"buses.{bus}"
    if stage is None:
        return []
    feed = heard(study, study.graph.chains[bus].before(stage.id))
    if not float(np.abs(feed).max(initial=0.0)):
        return []
    squeeze, reduction = dialled(study, feed, stage, AIM_DB[_kind(bus)])
    squeezed = {
        f"{stage_path(path, stage)}.on": True,
        f"{stage_path(path, stage)}.threshold_db": squeeze.threshold_db,
    }
    dry = loudness_lufs(heard(study, study.graph.sum), study.rate)
    at_unity = study.tried({**squeezed, f"{path}.fader_db": 0.0})
    wet = loudness_lufs(heard(at_unity, at_unity.graph.chains[bus].end), study.rate)
    if SILENCE_DB in (dry, wet):
        return []
    wanted = UNDER_MIX_LU[_kind(bus)][school.goal]
    # What the attack lets through must not become the mix's peaks.
    held = _strokes_dbfs(study, study.graph.sum) - LEAST_UNDER_STROKES_DB
    held -= _strokes_dbfs(at_unity, at_unity.graph.chains[bus].end)
    blend = round(float(np.clip(min(dry - wanted - wet, held), -60, 12)) * 2) / 2
    under = dry - wet - blend
    return [
        Finding(
            PARALLEL,
            "blend",
            bus,
            spoken(
                f"{reduction:.1f} dB of reduction on the {bus} bus, blended in {under:.0f} LU "
                f"under the mix: {WHAT_FOR[_kind(bus)]} (blend {blend:+.1f} dB)."
            ),
            {
                "reduction_db": round(reduction, 1),
                "mix_lufs": round(dry, 1),
                "return_lufs_at_unity": round(wet, 1),
            },
            0.75,
            {**squeezed, f"{path}.fader_db": blend},
            {
                "reduction_db": Change(0.0, round(reduction, 1)),
                "return_under_mix_lu": Change(0.0, round(under, 1)),
            },
            row="parallel",
            school=school.name,
        )
    ]


def _strokes_dbfs(study: Study, node: Node) -> float:
    """The typical shell stroke's peak at a stereo node."""
    mono = np.ascontiguousarray(np.abs(heard(study, node)).max(axis=1))
    times = shell_times(study)
    return typical_dbfs(amplitudes_to_db(hit_peaks(mono, study.rate, times))) if times else 0.0


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
            MIX,
            "peak",
            DRUM_BUS,
            spoken(
                f"{now:+.1f} dBFS at the mix's loudest{over}; the drum bus at {wanted:+.1f} dB "
                f"brings it to {then:.1f}, where mastering wants it."
            ),
            {"peak_dbfs": round(now, 1)},
            0.99,
            {"drum_bus.fader_db": wanted},
            {"peak_dbfs": Change(round(now, 1), round(then, 1))},
        )
    ]


def _subjects(sheet: Sheet) -> list[str]:
    return [*sheet.buses]


def _reads(sheet: Sheet, bus: str) -> list[object]:
    return [sheet.mics, sheet.groups, sheet.buses, sheet.drum_bus]


MODULE = Module(PARALLEL, "bus", 3, _subjects, _reads, find)
MIX_MODULE = Module(MIX, "bus", 2, lambda sheet: [DRUM_BUS], _reads, find_mix)
