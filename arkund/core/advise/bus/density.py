"""Bus, density: shells bend at their peaks, the drum bus holds together, and its tallest peaks are held.

Every stage leaves loudness as it came: what it takes is peaks. Drives, thresholds and ceilings are
found on the hits of this song as they reach the stage.
"""

import math
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from arkund.core.advise.dynamics.stages import typical_reduction_db
from arkund.core.advise.excerpt import Excerpt
from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.goal import GOALS, LOUDNESS
from arkund.core.advise.heard import gap_ms, heard, heard_times
from arkund.core.advise.level.trims import typical_dbfs
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.measure.levels import hit_peaks
from arkund.core.measure.loudness import true_peak_dbtp
from arkund.core.process.compressor import Compressor
from arkund.core.process.limiter import Limiter
from arkund.core.process.saturation import Saturation
from arkund.core.shape.sides import louder_side
from arkund.core.sheet.channels import DRUM_BUS, Channel, stage_path
from arkund.core.sheet.sheet import Sheet
from arkund.core.units import amplitudes_to_db

NAME = "density"
FAMILIES = {"kick": ("kick",), "snare": ("snare",), "toms": ("tom",), DRUM_BUS: ()}
"""The families whose hits groups of shells carry; the drum bus carries all."""

FEWEST = 4
"""A channel with fewer hits in what is heard is left as it is."""

BENT_DB = {
    "punch": {"kick": 1.5, "snare": 3.0, "toms": 2.5, DRUM_BUS: 1.5},
    "punch_size": {"kick": 1.0, "snare": 2.0, "toms": 1.5, DRUM_BUS: 1.0},
    "size": {"kick": 0.5, "snare": 1.0, "toms": 1.0, DRUM_BUS: 0.5},
}
"""How much of its peak saturation takes off the typical hit, by goal."""

GLUE_DB = {"punch": 2.5, "punch_size": 2.0, "size": 2.0}
GLUE_KEY_HZ = 90.0
"""The glue does not hear what lies below, lest the kick pump the cymbals."""

HELD_DB = {"punch": 4.0, "punch_size": 3.0, "size": 2.0}
"""The most that the limiter takes off the tallest peak."""

HELD_SHARE = 0.93
"""Of that the share that is asked for: what stands behind is never exactly what was measured."""


BEYOND_LU = 0.8
"""A school that does only what is called for wants this much beyond its goal of loudness: the whole song may
show a little less than its parts, and the moves need room to give the kick its attack back."""


def find(study: Study, group: str, school: School) -> list[Finding]:
    """Saturation of a group of shells."""
    if not _is_called_for(study, school):
        return []
    return _saturation(study, group, f"groups.{group}", school)


def find_glue(study: Study, subject: str, school: School) -> list[Finding]:
    """Glue on the drum bus."""
    return _glue(study, school) if _is_called_for(study, school) else []


def find_bend(study: Study, subject: str, school: School) -> list[Finding]:
    """Saturation of the drum bus."""
    if not _is_called_for(study, school):
        return []
    return _saturation(study, DRUM_BUS, DRUM_BUS, school)


def find_limit(study: Study, subject: str, school: School) -> list[Finding]:
    """The limiter at the drum bus's end, which takes no more than the school needs where that does only
    what is called for."""
    most = HELD_SHARE * HELD_DB[school.goal]
    held = min(_missing_lu(study, school), most) if school.is_sparing else most
    return _limiter(study, school, held)


def _is_called_for(study: Study, school: School) -> bool:
    """Whether density is wanted: always, but by a school that does only what is called for where the
    limiter alone brings the loudness it wants."""
    return not school.is_sparing or _missing_lu(study, school) > HELD_SHARE * HELD_DB[school.goal]


def _missing_lu(study: Study, school: School) -> float:
    """How much loudness at equal true peak the school's goal misses; 0 or less where it is met."""

    def measure() -> float:
        part = Excerpt(study, GOALS[school.goal])
        figures = part.wanted(part.card(study, is_beside=True))
        return next(f.missing(BEYOND_LU) for f in figures if f.name == LOUDNESS)

    missing: float = study.remember(("missing loudness", school.goal), measure)
    return missing


def drive_db(typical_db: float, bent_db: float) -> float:
    """The drive at which the soft curve takes ``bent_db`` off a peak of ``typical_db`` dBFS:
    x/√(1+x²) is lower than x by 10 lg (1+x²)."""
    return 20 * math.log10(math.sqrt(10 ** (bent_db / 10) - 1)) - typical_db


def _saturation(study: Study, called: str, path: str, school: School) -> list[Finding]:
    bent = BENT_DB[school.goal].get(called)
    channel = _channel(study.sheet, called)
    families = FAMILIES[called]
    times = heard_times(study, families)
    if bent is None or any(channel.stages(Saturation)) or len(times) < FEWEST:
        return []
    sound = heard(study, study.graph.chain(called).end, is_beside=called != DRUM_BUS)
    typical = _typical_dbfs(sound, study.rate, times)
    drive = round(float(np.clip(drive_db(typical, bent), 0, 24)) * 2) / 2
    takes = 10 * math.log10(1 + 10 ** ((typical + drive) / 10))
    if typical <= -150 or takes < 0.3:
        return []
    name = "the drum bus" if called == DRUM_BUS else f"the {called} group"
    stage = {
        "kind": "saturation",
        "curve": "soft",
        "drive_db": drive,
        "after": channel.chain[-1].id if channel.chain else "",
    }
    return [
        Finding(
            NAME,
            "saturation",
            called,
            spoken(
                f"Soft saturation on {name} ({drive:.1f} dB drive) lowers the typical peak by "
                f"{takes:.1f} dB and keeps the body: denser at the same peak."
            ),
            {"typical_dbfs": round(typical, 1)},
            0.75,
            {f"{path}.chain.{_free_id(channel, 'saturation')}": stage},
            {"typical_dbfs": Change(round(typical, 1), round(typical - takes, 1))},
            row="goal",
            school=school.name,
        )
    ]


def _glue(study: Study, school: School) -> list[Finding]:
    stage = study.sheet.drum_bus.first(Compressor)
    times = heard_times(study)
    if stage is None or stage.on or len(times) < FEWEST:
        return []
    aim = GLUE_DB[school.goal]
    gap = gap_ms(times, 50)
    key = stage.key.model_copy(update={"high_pass_hz": GLUE_KEY_HZ})
    wanted = stage.model_copy(
        update={
            "on": True,
            "ratio": 2.0,
            "attack_ms": 30.0,
            "key": key,
            "release_ms": float(round(np.clip(gap / 2, 60, 250))),
        }
    )
    sound = heard(study, study.graph.chains[DRUM_BUS].before(stage.id), is_beside=False)
    made, reduction = dialled(study, sound, wanted, aim, times)
    if reduction < 0.5:
        return []
    path = stage_path(DRUM_BUS, stage)
    names = ("on", "ratio", "threshold_db", "attack_ms", "release_ms")
    return [
        Finding(
            NAME,
            "glue",
            DRUM_BUS,
            spoken(
                f"Glue compression on the drum bus: {reduction:.1f} dB of reduction at 2:1 from "
                f"{made.threshold_db:.0f} dB, {made.attack_ms:.0f} ms attack, {made.release_ms:.0f} ms "
                f"release. Its key ignores everything below {GLUE_KEY_HZ:.0f} Hz."
            ),
            {"reduction_db": 0.0},
            0.75,
            {
                **{f"{path}.{n}": getattr(made, n) for n in names},
                f"{path}.key.high_pass_hz": GLUE_KEY_HZ,
            },
            {"reduction_db": Change(0.0, round(reduction, 1))},
            row="goal",
            school=school.name,
        )
    ]


def dialled(
    study: Study,
    sound: NDArray[np.float32],
    settings: Compressor,
    aim: float,
    times: Sequence[float],
) -> tuple[Compressor, float]:
    """Threshold in dBFS for ``aim`` dB on the typical hit of ``times`` (s) in ``sound`` ``(frames,)`` or
    ``(frames, 2)``, by bisection; and what it comes to in dB."""
    keyed = sound
    if settings.key.is_filtered:
        filters = settings.key.filters(study.rate)
        keyed = filters.run(sound, filters.at_rest(sound.ndim))
    part = keyed[: round(20 * study.rate)]
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
    return made, typical_reduction_db(keyed, study.rate, made, times)


def _limiter(study: Study, school: School, held_db: float) -> list[Finding]:
    channel = study.sheet.drum_bus
    if any(channel.stages(Limiter)) or held_db <= 0:
        return []
    peak = whole_peak_dbtp(study)
    ceiling = round(peak - held_db, 1)
    if peak <= -150 or not -24 <= ceiling <= 0:
        return []
    stage = {
        "kind": "limiter",
        "ceiling_db": ceiling,
        "after": channel.chain[-1].id if channel.chain else "",
    }
    return [
        Finding(
            NAME,
            "limiter",
            DRUM_BUS,
            spoken(
                f"The loudest hit on the drum bus peaks at {peak:.1f} dBTP. A limiter at "
                f"{ceiling:.1f} dBTP lowers it by {peak - ceiling:.1f} dB and leaves most of the "
                "others alone."
            ),
            {"true_peak_dbtp": round(peak, 1)},
            0.8,
            {f"{DRUM_BUS}.chain.{_free_id(channel, 'limiter')}": stage},
            {"true_peak_dbtp": Change(round(peak, 1), ceiling)},
            row="goal",
            school=school.name,
        )
    ]


def held_db(study: Study, school: School) -> float:
    """How much the drum bus's limiter is to take off the tallest peak: as much as the school allows, or
    what it takes now where that does only what is called for."""
    most = HELD_SHARE * HELD_DB[school.goal]
    limiter = study.sheet.drum_bus.first(Limiter)
    if limiter is None or not school.is_sparing:
        return most
    before = study.graph.chains[DRUM_BUS].before(limiter.id)
    peak: float = study.remember("into the limiter", lambda: true_peak_dbtp(study.mixed(before)))
    return float(np.clip(peak - limiter.ceiling_db, 0.0, most))


def whole_peak_dbtp(study: Study) -> float:
    """True peak of what leaves the drum bus's chain, over the whole song."""
    node = study.graph.chains[DRUM_BUS].end
    return true_peak_dbtp(study.mixed(node))


def _typical_dbfs(sound: NDArray[np.float32], rate: int, times: list[float]) -> float:
    mono = np.ascontiguousarray(louder_side(sound))
    return typical_dbfs(amplitudes_to_db(hit_peaks(mono, rate, times)))


def _channel(sheet: Sheet, called: str) -> Channel:
    return sheet.drum_bus if called == DRUM_BUS else sheet.groups[called]


def _free_id(channel: Channel, wish: str) -> str:
    taken = {stage.id for stage in channel.chain}
    return next(
        name for n in range(1, 99) if (name := wish if n == 1 else f"{wish}{n}") not in taken
    )


def _subjects(sheet: Sheet) -> list[str]:
    return [g for g in FAMILIES if g in sheet.groups]


def _reads(sheet: Sheet, channel: str) -> list[object]:
    return [sheet.mics, sheet.groups, sheet.buses, sheet.drum_bus, sheet.over]


MODULE = Module(NAME, "bus", 2, _subjects, _reads, find)
BUS_MODULES = tuple(
    Module(NAME, "bus", 2, lambda sheet: [DRUM_BUS], _reads, one)
    for one in (find_glue, find_bend, find_limit)
)
"""One after the other, each on what the one before has left."""
