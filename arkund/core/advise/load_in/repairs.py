"""Load-in: what is wrong with a file before anything is done to it."""

import numpy as np
from numpy.typing import NDArray

from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.kit.roles import is_shell, label, parse_mic_name
from arkund.core.measure.hum import hum_level_dbfs
from arkund.core.measure.levels import LEAST_DC, hit_peaks, noise_floor_dbfs
from arkund.core.shape import biquad
from arkund.core.sheet.lanes import sounding_mics
from arkund.core.units import amplitude_to_db, amplitudes_to_db, power_to_db, samples_to_cm

LONGEST_REBUILT = 20
"""Samples of a clipped run that a curve can still be drawn over."""

DISTANCE_SLACK_CM = 30.0
"""A tape and the first arrival may differ by so much: heads are wide and mics have a body."""

HARM_DB = 0.5
"""What a repair may change where it should change nothing."""

HIT_S = 0.08
CYMBALS_HZ = 7000.0
FOREIGN_DB, FOREIGN_TO_CYMBAL_DB = 3.0, 14.0
"""A mic hears mostly another piece from so much more at its hits than at its own; a bright
snare is often louder in a hat's mic than the hat."""

NAME = "load-in"


def find(study: Study, mic: str, school: School) -> list[Finding]:
    """What is wrong with a mic's file: silence, offset, hum, clipping, a role, length or distance that does not fit."""
    measures = study.facts.measures[mic]
    if "silent" in measures["flags"] or "near silence" in measures["flags"]:
        return _silent(study, mic)
    return [
        *_dc(study, mic),
        *_hum(study, mic),
        *_clipped(study, mic),
        *_role(study, mic),
        *_short(study, mic),
        *_distance(study, mic),
    ]


def _silent(study: Study, mic: str) -> list[Finding]:
    if study.sheet.mics[mic].mute:
        return []
    peak = float(study.facts.measures[mic]["peak_dbfs"])
    level = "digital silence" if peak <= -150 else f"{peak:.0f} dBFS at its loudest"
    return [
        Finding(
            NAME,
            "silent",
            mic,
            spoken(
                f"{label(mic)} holds nothing to work with ({level}). Mute it, or put the right "
                "file in its place."
            ),
            {"peak_dbfs": peak},
            0.99,
            {f"mics.{mic}.mute": True},
            mic=mic,
        )
    ]


def _dc(study: Study, mic: str) -> list[Finding]:
    offset = float(study.facts.measures[mic]["dc"])
    left = offset - study.sheet.mics[mic].repair.dc
    if abs(left) <= LEAST_DC:
        return []
    patch = {f"mics.{mic}.repair.dc": round(offset, 6)}
    floors = [
        noise_floor_dbfs(one.sound(mic, "repaired"), study.rate)
        for one in (study, study.tried(patch))
    ]
    # What is taken for an offset, and is none, stands in the quiet parts once it is taken away.
    if floors[1] > floors[0] + HARM_DB:
        return []
    below = amplitude_to_db(abs(left))
    return [
        Finding(
            NAME,
            "dc",
            mic,
            spoken(
                f"{label(mic)} has a DC offset of {below:.0f} dBFS: it takes headroom and clicks at every "
                "cut. Removed."
            ),
            {"offset": left, "offset_dbfs": round(below, 1)},
            0.99,
            patch,
            {"offset": Change(round(left, 6), 0.0)},
            mic=mic,
        )
    ]


def _hum(study: Study, mic: str) -> list[Finding]:
    measures = study.facts.measures[mic]
    hz = float(measures["hum_hz"])
    if not hz or study.sheet.mics[mic].repair.hum_hz:
        return []
    patch = {f"mics.{mic}.repair.hum_hz": hz}
    mended = study.tried(patch).sound(mic, "repaired")
    then = hum_level_dbfs(mended, study.rate, hz)
    level = float(measures["hum_dbfs"])
    # A drum that sounds where the mains hums loses what the notches take.
    lost = _hits_db(study, mic, study.sound(mic, "repaired")) - _hits_db(study, mic, mended)
    costs = f" They take {lost:.1f} dB off the drum itself: listen first." if lost > HARM_DB else ""
    return [
        Finding(
            NAME,
            "hum",
            mic,
            spoken(
                f"{label(mic)} has mains hum at {hz:.0f} Hz and its harmonics ({level:.0f} dBFS). Narrow "
                f"notches remove it.{costs}"
            ),
            {"hum_hz": hz, "hum_dbfs": level, "contrast_db": measures["hum_contrast_db"]},
            float(np.clip(0.6 + float(measures["hum_contrast_db"]) / 30, 0.6, 0.98)),
            patch,
            {"hum_dbfs": Change(level, round(then, 1))},
            mic=mic,
            asks=bool(costs),
        )
    ]


def _hits_db(study: Study, mic: str, sound: NDArray[np.float32]) -> float:
    """The typical hit's level in a mic over its first `HIT_S`, in dB; 0 of a mic without any."""
    frames = round(HIT_S * study.rate)
    starts = [round(t * study.rate) for t in study.plain_times(mic)]
    powers = [
        np.mean(np.square(sound[at : at + frames], dtype=np.float64)) for at in starts if at >= 0
    ]
    return power_to_db(float(np.median(powers))) if powers else 0.0


def _clipped(study: Study, mic: str) -> list[Finding]:
    runs = [
        (round(float(s) * study.rate), int(n)) for s, n in study.facts.measures[mic]["clipped_runs"]
    ]
    done = {(r.at, r.frames) for r in study.sheet.mics[mic].repair.rebuilt}
    open_runs = [r for r in runs if r not in done]
    short = [r for r in open_runs if r[1] <= LONGEST_REBUILT]
    if not open_runs:
        return []
    first = open_runs[0][0] / study.rate
    longest = max(n for _, n in open_runs)
    count = f"{len(open_runs)} run{'s' if len(open_runs) > 1 else ''}"
    measured = {"runs": len(open_runs), "longest_samples": longest, "first_s": round(first, 3)}
    said = f"{label(mic)} clips: {count} at full scale, up to {longest} samples long"
    if short:
        keep = sorted(done | set(short))
        patch = {f"mics.{mic}.repair.rebuilt": [{"at": a, "frames": n} for a, n in keep]}
        gain = {"clipped_runs": Change(len(open_runs), len(open_runs) - len(short))}
        said += f". Rebuild those of {LONGEST_REBUILT} samples or fewer from their surroundings."
    else:
        patch, gain = {}, {}
        said += ", which is too long to rebuild. Listen, and replace those hits."
    return [
        Finding(
            NAME,
            "clipped",
            mic,
            spoken(said),
            measured,
            0.95 if short else 0.9,
            patch,
            gain,
            mic=mic,
            bars=study.bars_around(first),
        )
    ]


def _above(sound: NDArray[np.float32], rate: int, hz: float) -> NDArray[np.float32]:
    sections = biquad.butterworth("high_pass", min(hz, 0.3 * rate), 24, 1.0, rate)
    return biquad.run(np.ascontiguousarray(sound), sections, biquad.new_state(sections))


def _role(study: Study, mic: str) -> list[Finding]:
    """A close mic that is louder at another piece's hits than at those of its own."""
    own = parse_mic_name(mic).piece
    if own is None:
        return []
    sound = study.sound(mic, "source")
    if not is_shell(own):
        # A cymbal's mic is full of drums; above `CYMBALS_HZ` it is to be the cymbal's.
        sound = _above(sound, study.rate, CYMBALS_HZ)
    times = {p: [h.time_s for h in study.hits_on(p, ghosts=False)] for p in study.pieces}
    everything = np.sort(np.concatenate([np.array(t) for t in times.values()] or [np.zeros(0)]))

    def typical(piece: str) -> float | None:
        at = np.array(times.get(piece, []))
        if len(at) == 0:
            return None
        alone = [
            t for t in at if np.sum(np.abs(everything - t) < 0.06) <= 1
        ]  # the hit itself is one of them
        if len(alone) < 3:
            return None
        return float(np.median(amplitudes_to_db(hit_peaks(sound, study.rate, alone))))

    mine = typical(own)
    heard = {p: level for p in times if p != own and (level := typical(p)) is not None}
    if mine is None or not heard:
        return []
    loudest = max(heard, key=lambda p: heard[p])
    over = heard[loudest] - mine
    if over < (FOREIGN_DB if is_shell(own) else FOREIGN_TO_CYMBAL_DB):
        return []
    return [
        Finding(
            NAME,
            "role",
            mic,
            f"{study.sheet.mics[mic].file} is assigned to {label(mic)} but hears {label(loudest)} "
            f"{over:.1f} dB louder. Check its role on the plan.",
            {"own_dbfs": round(mine, 1), "other_dbfs": round(heard[loudest], 1), "other": loudest},
            float(np.clip(0.6 + over / 30, 0.6, 0.95)),
            mic=mic,
        )
    ]


def _short(study: Study, mic: str) -> list[Finding]:
    early = study.facts.measures[mic].get("ends_early_s")
    if early is None:
        return []
    ends = study.sheet.frames / study.rate - float(early)
    return [
        Finding(
            NAME,
            "short",
            mic,
            f"The file of {label(mic)} is {early:.2f} s shorter than the others and silent from bar "
            f"{study.bar_of(ends)} on. If it does not start with them, replace it.",
            {"ends_early_s": early},
            0.9,
            mic=mic,
            bars=study.bars_around(ends),
        )
    ]


def _distance(study: Study, mic: str) -> list[Finding]:
    """A typed distance that the sound contradicts."""
    out = []
    for p in study.facts.pairs:
        if p.mic != mic or not p.sure or p.reference not in study.sheet.mics:
            continue
        far, near = (study.sheet.mics[m].distance_cm for m in (p.mic, p.reference))
        if far is None or near is None:
            continue
        heard = samples_to_cm(p.delay_samples, study.rate)
        if abs(heard - (far - near)) > DISTANCE_SLACK_CM:
            out.append(
                Finding(
                    NAME,
                    f"distance {p.reference}",
                    mic,
                    spoken(
                        f"{label(mic)} is {heard:.0f} cm behind {label(p.reference)} by the sound of "
                        f"the {label(p.piece)}, but {far - near:.0f} cm by the typed distances. Check "
                        "where the tape began."
                    ),
                    {"heard_cm": round(heard), "typed_cm": round(far - near)},
                    0.7,
                    mic=mic,
                )
            )
    return out


MODULE = Module(
    NAME,
    "load-in",
    3,
    sounding_mics,
    lambda sheet, mic: [
        sheet.mics[mic].repair,
        sheet.mics[mic].mute,
        [(m.distance_cm, m.delay_samples) for _, m in sorted(sheet.mics.items())],
    ],
    find,
)
