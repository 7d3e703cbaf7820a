"""Level: wild hits, headroom, trim to a target by the typical hit."""

from collections.abc import Sequence

import numpy as np

from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.kit.roles import label, parse_mic_name
from arkund.core.measure.levels import hit_peaks
from arkund.core.process.values import described
from arkund.core.sheet.channels import stage_path
from arkund.core.sheet.lanes import sounding_mics
from arkund.core.sheet.pairs import lane, lanes
from arkund.core.sheet.sheet import Sheet
from arkund.core.units import amplitude_to_db, amplitudes_to_db

NAME = "level"
ZONE_DBFS = {"full": (-10.0, -6.0), "cool": (-15.0, -12.0)}
"""Where the typical hit belongs after trim."""

HOT_DBFS = -3.0
"""A peak over this leaves too little room."""

CAP_DBFS = {"full": -3.5, "cool": -7.0}
WILD_DB = 6.0
"""A hit is wild from so much over the typical one, if it also stands alone by half of that."""

WORTH_DUCKING_DB = 1.5
"""From so much over everything else a wild hit is brought down in distant mics too."""


def find_wild(study: Study, mic: str, school: School) -> list[Finding]:
    """Single hits that stand far over the rest; they come before any level is set."""
    return [] if study.facts.measures[mic]["peak_dbfs"] <= -150 else _wild(study, mic)


def find(study: Study, mic: str, school: School) -> list[Finding]:
    """Headroom and trim; a drum without a hit has none to go by."""
    if study.facts.measures[mic]["peak_dbfs"] <= -150 or study.has_no_hits(mic):
        return []
    return _trim(study, mic, school, leave_peak=bool(_wild(study, mic)))


def typical_dbfs(peaks_db: np.ndarray) -> float:
    """The typical hit in dBFS: the median of the louder half of ``peaks_db`` ``(hits,)``."""
    return float(np.median(np.sort(peaks_db)[len(peaks_db) // 2 :]))


LONGEST_HIT_S = 0.8
"""A hit's gain lasts no longer, even if nothing follows."""


def _wild(study: Study, mic: str) -> list[Finding]:
    piece = parse_mic_name(mic).piece
    hits = study.hits_on(piece or "", ghosts=False)
    if piece is None or len(hits) < 4 or study.close(piece)[0] != mic:
        return []
    sound = study.sound(mic, "repaired")
    times = [h.time_s for h in hits]
    peaks = amplitudes_to_db(hit_peaks(sound, study.rate, times))
    at = int(np.argmax(peaks))
    others = np.delete(peaks, at)
    # Of few hits the wild one itself must not count as typical.
    usual = typical_dbfs(others)
    over, alone = float(peaks[at] - usual), float(peaks[at] - others.max())
    if over < WILD_DB or alone < WILD_DB / 2:
        return []
    gain = -round(alone, 1)
    start, frames = hit_span(study, times, times[at])
    patch = clip_gain(study, mic, start, frames, gain)
    for far in study.with_role("overhead", "room", "crush", "kit"):
        excess = _excess_db(study, far, times[at])
        if excess >= WORTH_DUCKING_DB:
            shorter = min(frames, round(0.25 * study.rate))
            patch |= clip_gain(study, far, start, shorter, -round(excess, 1))
    along = [label(p.split(".")[1]) for p in patch if f".{mic}." not in p]
    too = (
        f" What {', '.join(along)} hear{'s' if len(along) == 1 else ''} of it is brought down too."
        if along
        else ""
    )
    return [
        Finding(
            NAME,
            "wild",
            piece,
            spoken(
                f"One {label(piece)} hit in bar {study.bar_of(times[at])} is {over:.1f} dB above the "
                f"typical hit and would dictate the headroom. Turned down by {-gain:.1f} dB, it is as "
                f"loud as the next loudest.{too}"
            ),
            {
                "over_db": round(over, 1),
                "alone_db": round(alone, 1),
                "time_s": round(times[at], 4),
                "bar": study.bar_of(times[at]),
            },
            float(np.clip(0.6 + alone / 20, 0.6, 0.97)),
            patch,
            {"over_db": Change(round(over, 1), round(over - alone, 1))},
            mic=mic,
            bars=study.bars_around(times[at]),
        )
    ]


def hit_span(study: Study, times_s: Sequence[float], at_s: float) -> tuple[int, int]:
    """Where a hit among those at ``times_s`` begins in the sound before moves, and for how many
    samples it has the mic to itself."""
    start = max(round((study.before_moves_s(at_s) - 0.002) * study.rate), 0)
    later = [t for t in times_s if t > at_s + 0.05]
    length = min((min(later) - at_s - 0.01) if later else LONGEST_HIT_S, LONGEST_HIT_S)
    return start, max(round(length * study.rate), 1)


def clip_gain(
    study: Study, mic: str, at: int, frames: int, gain_db: float
) -> dict[str, list[dict[str, float]]]:
    """The mic's clip gains with one more (of 0 dB: without it); the same hit's second replaces the
    first."""
    kept = [g.model_dump() for g in study.sheet.mics[mic].repair.clip_gains]
    kept = [g for g in kept if abs(g["at"] - at) > 0.02 * study.rate]
    entry = [{"at": at, "frames": frames, "gain_db": gain_db}] if gain_db else []
    return {f"mics.{mic}.repair.clip_gains": sorted([*kept, *entry], key=lambda g: g["at"])}


def _excess_db(study: Study, mic: str, at_s: float) -> float:
    """How far one hit is above all others, in dB, in a mic that hears the whole kit."""
    sound = study.sound(mic, "repaired")
    rest = [h.time_s for h in study.hits if abs(h.time_s - at_s) > 0.15]
    if not rest:
        return 0.0
    own = hit_peaks(sound, study.rate, [at_s])
    others = hit_peaks(sound, study.rate, rest)
    return float(amplitudes_to_db(own)[0] - amplitudes_to_db([others.max()])[0])


def _trim(study: Study, mic: str, school: School, *, leave_peak: bool) -> list[Finding]:
    """Headroom where the peak leaves none, else trim where the typical hit misses its zone."""
    settings = study.sheet.mics[mic]
    times = study.plain_times(mic)
    # Of a linked pair the louder side counts for both.
    levels = {side: _levels(study, side, leave_peak) for side in lane(study.sheet, mic)}
    mic = max(levels, key=lambda side: levels[side][1])
    usual, peak = max(u for u, _ in levels.values()), levels[mic][1]
    low, high = ZONE_DBFS[school.trim]
    wanted = min((low + high) / 2 - usual, CAP_DBFS[school.trim] - peak)
    wanted = round(float(np.clip(wanted, -24, 24)) * 2) / 2
    now = settings.trim_db
    hot = peak + now > HOT_DBFS
    if abs(wanted - now) < 1.0 or (not hot and low - 0.5 <= usual + now <= high + 0.5):
        return []
    patch = {f"mics.{mic}.trim_db": wanted, **carried(study.sheet, mic, wanted - now)}
    if hot:
        return [
            Finding(
                NAME,
                "headroom",
                mic,
                spoken(
                    f"{label(mic)} peaks at {peak + now:.1f} dBFS and leaves no headroom. Trimmed by "
                    f"{wanted - now:+.1f} dB it peaks at {peak + wanted:.1f}."
                ),
                {"peak_dbfs": round(peak + now, 1), "typical_dbfs": round(usual + now, 1)},
                0.98,
                patch,
                {"peak_dbfs": Change(round(peak + now, 1), round(peak + wanted, 1))},
                row="trim",
                school=school.name,
                mic=mic,
            )
        ]
    held = " as far as its loudest moment allows" if wanted + usual < low - 0.5 else ""
    return [
        Finding(
            NAME,
            "trim",
            mic,
            spoken(
                f"The typical hit of {label(mic)} peaks at {usual + now:.1f} dBFS. "
                f"{wanted - now:+.1f} dB brings it{held} to {usual + wanted:.1f} "
                f"(wanted: {low:.0f} to {high:.0f})."
            ),
            {"typical_dbfs": round(usual + now, 1), "peak_dbfs": round(peak + now, 1)},
            0.95 if len(times) >= 4 else 0.7,
            patch,
            {"typical_dbfs": Change(round(usual + now, 1), round(usual + wanted, 1))},
            row="trim",
            school=school.name,
            mic=mic,
        )
    ]


def _levels(study: Study, mic: str, leave_peak: bool) -> tuple[float, float]:
    """The typical hit and the peak before the trim, in dBFS; both the same where a hit that
    will be brought down must not count."""
    sound = study.sound(mic, "repaired")
    delay = study.sheet.mics[mic].delay_samples / study.rate
    times = [t - delay for t in study.plain_times(mic)]
    if len(times) >= 4:
        peaks = np.sort(amplitudes_to_db(hit_peaks(sound, study.rate, times)))
        usual = typical_dbfs(peaks[:-1] if leave_peak else peaks)
    else:
        usual = float(study.facts.measures[mic]["typical_hit_dbfs"])
    return usual, usual if leave_peak else amplitude_to_db(float(np.abs(sound).max()))


def carried(sheet: Sheet, mic: str, by_db: float) -> dict[str, float]:
    """Thresholds behind the trim, moved along with it."""
    settings = sheet.mics[mic]
    out = {}
    if settings.clean.on:
        out[f"mics.{mic}.clean.threshold_db"] = float(
            np.clip(round(settings.clean.threshold_db + by_db, 1), -80, 0)
        )
    for stage in settings.chain:
        for v in described(type(stage)).values():
            if v.carried and stage.on:
                then = np.clip(round(getattr(stage, v.name) + by_db, 1), v.low, v.high)
                out[f"{stage_path(f'mics.{mic}', stage)}.{v.name}"] = float(then)
    return out


def _reads(sheet: Sheet, mic: str) -> list[object]:
    m = sheet.mics[mic]
    far = [
        (n, s.repair)
        for n, s in sorted(sheet.mics.items())
        if s.role in ("overhead", "room", "crush", "kit")
    ]
    pair = [
        (n, s.linked, s.delay_samples, carried(sheet, n, 0.0))
        for n, s in sorted(sheet.mics.items())
        if s.role == m.role and s.index == m.index
    ]
    return [
        far,
        pair,
        m.repair,
        m.trim_db,
        m.delay_samples,
        m.clean.on,
        m.clean.threshold_db,
    ]


WILD_MODULE = Module(NAME, "level", 2, sounding_mics, _reads, find_wild)
MODULE = Module(NAME, "level", 4, lanes, _reads, find)
