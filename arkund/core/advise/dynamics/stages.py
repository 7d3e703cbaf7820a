"""Shape, dynamics: attack and sustain towards the goal, compression by so much."""

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.heard import gap_ms
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.kit.roles import is_shell, label, parse_mic_name, piece_family
from arkund.core.measure.levels import attack_to_body_db, hit_peaks
from arkund.core.process.compressor import Compressor
from arkund.core.process.transient import Transient
from arkund.core.sheet.channels import stage_path
from arkund.core.sheet.pairs import lanes
from arkund.core.sheet.sheet import Sheet
from arkund.core.units import amplitudes_to_db, power_to_db

NAME = "dynamics"
TRANSIENT_DB = {
    "punch": {"kick": (3.0, 0.0), "snare": (3.0, 0.0), "tom": (2.0, -3.0)},
    "punch_size": {"kick": (2.0, 0.0), "snare": (2.0, 0.0), "tom": (1.0, -2.0)},
    "size": {},
}
"""Attack and sustain by goal and family."""

AIM_DB = {"punch": 4.5, "punch_size": 3.0}
"""Reduction on the typical hit."""

TIMES = {
    "kick": (4.0, 20.0, (60.0, 200.0)),
    "snare": (3.5, 10.0, (80.0, 200.0)),
    "tom": (3.5, 20.0, (150.0, 300.0)),
}
"""Ratio, attack in ms, and the range of the release in ms."""

ALL_OUT = Compressor(on=True, ratio=20, knee_db=3, attack_ms=0.3, release_ms=90)
CRUSH_AIM_DB = 12.0
TRACE_STEP = 64
SHOWN_HITS = 24

LEFT_DB = 0.5
"""Reduction at the next hit that goes unheard."""

MOSTLY = 0.9
"""A release that is over in so many gaps ends in time."""

LEAST_ATTACK_DB, LEAST_REDUCTION_DB = 0.3, 0.5
"""What changes a hit by less is not worth a finding."""


def find(study: Study, mic: str, school: School) -> list[Finding]:
    """Transient shaping and compression of a shell's leading mics, and the crush mic."""
    if study.facts.measures[mic]["peak_dbfs"] <= -150:
        return []
    name = parse_mic_name(mic)
    if name.role == "crush":
        return _crush(study, mic, school)
    lead = (
        name.piece is not None
        and is_shell(name.piece)
        and name.role not in ("snare_bottom", "kick_sub")
    )
    if not lead or len(study.hits_on(name.piece or "", ghosts=False)) < 4:
        return []
    return [*_transient(study, mic, school), *_compressor(study, mic, school)]


def _transient(study: Study, mic: str, school: School) -> list[Finding]:
    family = piece_family(parse_mic_name(mic).piece or "")
    wanted = TRANSIENT_DB[school.goal].get(family)
    now = study.sheet.mics[mic].first(Transient)
    if wanted is None or now is None or now.attack_db or now.sustain_db:
        return []
    attack, sustain = wanted
    t = stage_path(f"mics.{mic}", now)
    patch = {f"{t}.on": True, f"{t}.attack_db": attack, f"{t}.sustain_db": sustain}
    times = study.plain_times(mic)
    before = attack_to_body_db(study.sound(mic, "transient"), study.rate, times)
    after = attack_to_body_db(study.tried(patch).sound(mic, "transient"), study.rate, times)
    if abs(after - before) < LEAST_ATTACK_DB:
        return []
    parts = [f"{v:+.0f} dB of {w}" for v, w in ((attack, "attack"), (sustain, "sustain")) if v]
    return [
        Finding(
            NAME,
            "transient",
            mic,
            spoken(
                f"{label(mic)}: the attack of its hits is {before:.1f} dB above their body. "
                f"{' and '.join(parts)} makes that {after:.1f} dB."
            ),
            {"attack_to_body_db": round(before, 1)},
            0.75,
            patch,
            {"attack_to_body_db": Change(round(before, 1), round(after, 1))},
            row="goal",
            school=school.name,
            mic=mic,
        )
    ]


def typical_reduction_db(
    sound: NDArray[np.float32], rate: int, settings: Compressor, times: Sequence[float]
) -> float:
    """The reduction in dB that a compressor reaches within 80 ms of the typical (median) hit of ``sound``
    ``(frames,)`` or ``(frames, 2)``; ``times`` in s."""
    if settings.is_transparent or not len(times):
        return 0.0
    process = settings.process(rate)
    _, trace = process.run_traced(sound, process.at_rest())
    reach = round(0.08 * rate / TRACE_STEP)
    starts = [round(t * rate / TRACE_STEP) for t in times]
    most = [float(trace[s : s + reach].max()) for s in starts if 0 <= s < len(trace)]
    return float(np.median(most)) if most else 0.0


def left_before_hits_db(
    trace: NDArray[np.float32], rate: int, times: Sequence[float]
) -> NDArray[np.float64]:
    """What is left of the reduction just before each hit that follows another, ``(hits - 1,)`` at most: of a
    compressor's ``trace`` (one value in dB each `TRACE_STEP` samples); ``times`` in s, in order."""
    places = [int(t * rate / TRACE_STEP) - 1 for t in times[1:]]
    return np.array([trace[p] for p in places if 0 <= p < len(trace)], np.float64)


def at_reduction(
    sound: NDArray[np.float32], rate: int, settings: Compressor, times: Sequence[float], aim: float
) -> Compressor:
    """The settings with the threshold at which the typical hit of ``sound`` ``(frames,)`` or ``(frames, 2)``, whose
    hits begin at ``times`` s, is reduced by ``aim`` dB.

    Bisection on a few hits joined together: reduction falls steadily as the threshold rises.
    """
    chosen = list(times)[:: max(1, len(times) // SHOWN_HITS)]
    part = np.concatenate(
        [sound[max(round((t - 0.05) * rate), 0) : round((t + 0.25) * rate)] for t in chosen]
    )
    starts, at = [], 0
    for t in chosen:
        first = max(round((t - 0.05) * rate), 0)
        starts.append((at + round(t * rate) - first) / rate)
        at += min(round((t + 0.25) * rate), len(sound)) - first
    low, high = -60.0, 0.0
    for _ in range(9):
        middle = (low + high) / 2
        tried = settings.model_copy(update={"threshold_db": middle})
        if typical_reduction_db(part, rate, tried, starts) > aim:
            low = middle
        else:
            high = middle
    return settings.model_copy(update={"threshold_db": round((low + high) / 2, 1)})


def _makeup_db(
    sound: NDArray[np.float32], rate: int, settings: Compressor, times: Sequence[float]
) -> float:
    """Gain that gives the hits (300 ms each) back the power that the reduction took."""
    process = settings.model_copy(update={"makeup_db": 0.0}).process(rate)
    out, _ = process.run_traced(sound, process.at_rest())
    before = after = 1e-20
    for t in times:
        part = slice(round(t * rate), round((t + 0.3) * rate))
        before += float(np.sum(np.square(sound[part], dtype=np.float64)))
        after += float(np.sum(np.square(out[part], dtype=np.float64)))
    return round(float(np.clip(power_to_db(before / after), 0, 12)) * 2) / 2


class _Proposal(NamedTuple):
    """A patch of the stage, the reduction of the typical hit in dB, how far the hits' peaks are apart as they come in
    dB, and in which share of the gaps `LEFT_DB` or less is left of it when the drum is hit again."""

    patch: dict[str, object]
    reduction_db: float
    spread_db: float
    over_in: float


def _proposal(
    study: Study, mic: str, stage: Compressor, settings: Compressor, times: list[float], aim: float
) -> _Proposal:
    sound = study.sound(mic, "transient")
    chosen = at_reduction(sound, study.rate, settings, times, aim)
    chosen = chosen.model_copy(update={"makeup_db": _makeup_db(sound, study.rate, chosen, times)})
    reduction = typical_reduction_db(sound, study.rate, chosen, times)
    c = stage_path(f"mics.{mic}", stage)
    patch = {
        f"{c}.{k}": getattr(chosen, k)
        for k in ("on", "threshold_db", "ratio", "knee_db", "attack_ms", "release_ms", "makeup_db")
    }
    peaks = amplitudes_to_db(hit_peaks(sound, study.rate, times))
    process = chosen.process(study.rate)
    _, trace = process.run_traced(sound, process.at_rest(2 if sound.ndim == 2 else 1))
    left = left_before_hits_db(trace, study.rate, times)
    return _Proposal(
        patch,
        reduction,
        float(np.subtract(*np.percentile(peaks, [90, 10]))),
        float(np.mean(left <= LEFT_DB)) if len(left) else 1.0,
    )


def _compressor(study: Study, mic: str, school: School) -> list[Finding]:
    aim = AIM_DB.get(school.goal)
    stage = study.sheet.mics[mic].first(Compressor)
    if aim is None or stage is None or stage.on:
        return []
    family = piece_family(parse_mic_name(mic).piece or "")
    ratio, attack, (shortest, longest) = TIMES[family]
    times = study.plain_times(mic)
    gap = gap_ms(times, 25)
    # To 63 % in a third of the gap is back to a twentieth before the next hit.
    release = round(float(np.clip(gap / 3, shortest, longest)))
    settings = Compressor(on=True, ratio=ratio, attack_ms=attack, release_ms=release)
    made = _proposal(study, mic, stage, settings, times, aim)
    if made.reduction_db < LEAST_REDUCTION_DB:
        return []
    path = stage_path(f"mics.{mic}", stage)
    # What else the mic hears holds the compressor down, too: so it is measured, not reckoned.
    over = "ends before the next one"
    if made.over_in < MOSTLY:
        over = f"ends before the next one in only {made.over_in:.0%} of the gaps"
    return [
        Finding(
            NAME,
            "compressor",
            mic,
            spoken(
                f"{label(mic)}: soft and loud hits differ by {made.spread_db:.1f} dB. "
                f"{ratio:g}:1 from {made.patch[f'{path}.threshold_db']} dB reduces the typical hit by "
                f"{made.reduction_db:.1f} dB, and its release of {release} ms {over} "
                f"(gap: {gap:.0f} ms)."
            ),
            {
                "spread_db": round(made.spread_db, 1),
                "gap_ms": round(gap),
                "over_in": round(made.over_in, 2),
            },
            0.7,
            made.patch,
            {"reduction_db": Change(0.0, round(made.reduction_db, 1))},
            row="goal",
            school=school.name,
            mic=mic,
        )
    ]


def _crush(study: Study, mic: str, school: School) -> list[Finding]:
    """The crush mic is there to be squashed, whatever the school."""
    stage = study.sheet.mics[mic].first(Compressor)
    if stage is None or stage.on:
        return []
    times = [t for t in study.plain_times(mic)]
    if len(times) < 4:
        return []
    patch, reduction, _, _ = _proposal(study, mic, stage, ALL_OUT, times, CRUSH_AIM_DB)
    if reduction < LEAST_REDUCTION_DB:
        return []
    return [
        Finding(
            NAME,
            "compressor",
            mic,
            spoken(
                f"{label(mic)} is there to be crushed and blended low: {reduction:.0f} dB of "
                "reduction at 20:1 with the fastest attack."
            ),
            {"reduction_db": 0.0},
            0.75,
            patch,
            {"reduction_db": Change(0.0, round(reduction, 1))},
            mic=mic,
        )
    ]


def _reads(sheet: Sheet, mic: str) -> list[object]:
    m = sheet.mics[mic]
    return [m.repair, m.trim_db, m.polarity, m.delay_samples, m.clean, m.chain]


MODULE = Module(NAME, "dynamics", 3, lanes, _reads, find)
