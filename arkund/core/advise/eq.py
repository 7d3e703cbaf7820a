"""Shape, EQ: what lies below the drum, what rings, what is boxy, where body and attack are."""

from dataclasses import dataclass
from typing import Any

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.kit.roles import is_shell, label, parse_mic_name, piece_family
from arkund.core.measure.decimate import decimated
from arkund.core.measure.landmarks import (
    ATTACK_HZ,
    BOX_HZ,
    RING_BELOW_HZ,
    Ring,
    attack_hz,
    fundamental_hz,
    hump,
    line_decay,
    rings,
    roomy,
    under_loudest_db,
)
from arkund.core.process.equaliser import Equaliser, Filter, equaliser_sections
from arkund.core.shape.biquad import response_db
from arkund.core.sheet.channels import stage_path
from arkund.core.sheet.pairs import lanes
from arkund.core.sheet.sheet import Sheet
from arkund.core.units import hz_to_note, power_to_db

NAME = "eq"
BODY, RING, BOX, ATTACK = range(4)
"""The band that each landmark prefers."""

OVER_USUAL_DB = {"bold": 3.0, "cut_first": 1.5}
"""How much more of body and attack than usual is wanted, by the school's row."""

MOST_DB = {"bold": 6.0, "cut_first": 3.0}
LEAST_DB = 1.0
"""The largest boost, and one that is worth making."""

ATTACK_UNDER_DB = {"kick": -25.0, "snare": -10.0, "tom": -14.0}
"""Usual level of the beater's or stick's octave under the loudest octave of a recorded hit, in dB."""

BOX_FROM_DB = {"bold": 3.0, "cut_first": 3.0, "called_for": 6.0}
SOFTEST_BELOW_DBFS = -66.0
"""What is quieter than this below a drum needs no filter."""


def find(study: Study, mic: str, school: School) -> list[Finding]:
    """What lies below the drum, rings or is boxy, and where its body and attack are."""
    if study.facts.measures[mic]["peak_dbfs"] <= -150 or parse_mic_name(mic).role in _OFF:
        return []
    # Bleed has no landmarks.
    if study.has_no_hits(mic):
        return []
    out = [*_high_pass(study, mic, school)]
    piece = parse_mic_name(mic).piece or ""
    if is_shell(piece) and len(study.hits_on(piece, ghosts=False)) >= 3:
        taken: set[int] = set()
        out += _ring(study, mic, school, taken)
        out += _box(study, mic, school, taken)
        if mic == study.close(piece)[0] or parse_mic_name(mic).role == "kick_out":
            out += _body(study, mic, school, taken)
            out += _attack(study, mic, school, taken)
    return out


_OFF = ("click", "bed", "other", "percussion")


@dataclass(frozen=True)
class Place:
    """A band for a landmark: its number in the equaliser and its path."""

    band: int
    path: str


def free_band(study: Study, mic: str, wish: int, taken: set[int]) -> Place | None:
    """The wished band if nothing stands in it, else the first free one."""
    eq = study.sheet.mics[mic].first(Equaliser)
    if eq is None:
        return None
    bands = eq.bands
    for n in (wish, *range(len(bands))):
        if n < len(bands) and n not in taken and (not bands[n].on or bands[n].gain_db == 0):
            taken.add(n)
            return Place(n, f"{stage_path(f'mics.{mic}', eq)}.bands.{bands[n].id}")
    return None


def _treated(study: Study, mic: str, hz: float, sign: int, octaves: float = 0.35) -> bool:
    """Whether a band of that direction stands near a frequency already."""
    return any(
        eq.on and b.on and b.gain_db * sign > 0 and abs(np.log2(b.frequency_hz / hz)) < octaves
        for eq in study.sheet.mics[mic].stages(Equaliser)
        for b in eq.bands
    )


def band_patch(place: Place, hz: float, gain_db: float, q: float) -> dict[str, object]:
    """The patch that makes a band a bell of ``gain_db`` at ``hz`` with a quality of ``q``."""
    return {
        f"{place.path}.on": True,
        f"{place.path}.kind": "bell",
        f"{place.path}.frequency_hz": round(hz, 1),
        f"{place.path}.gain_db": round(gain_db, 1),
        f"{place.path}.q": q,
    }


def gain_at_db(eq: Equaliser, hz: float, rate: int) -> float:
    """What an equaliser adds at a frequency, in dB."""
    if not eq.on:
        return 0.0
    value = response_db(equaliser_sections(eq, rate), np.array([hz]), rate)
    return float(value[0]) + eq.output_db


# Below the drum


def _power(
    audio: NDArray[np.float32], rate: int
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Power in each bin and the bins in Hz, right up to 400 Hz. Blackman's window keeps a loud drum's
    lines from leaking under it."""
    factor = rate // 2400
    low = decimated(audio, factor)
    size = 32768 // factor
    bins, power = scipy.signal.welch(low, rate / factor, "blackman", nperseg=size, detrend=False)
    return np.asarray(power * bins[1], np.float64), np.asarray(bins, np.float64)


def cutoff_hz(study: Study, mic: str, school: School) -> tuple[float, str]:
    """Where this mic's high-pass belongs, and the row that says so (empty: any school)."""
    name = parse_mic_name(mic)
    if name.role == "overhead":
        # Overheads that alone hear the kick or the snare are the kit, whatever the school.
        alone = not (study.close("kick") and study.close("snare"))
        use = "lead" if alone else school.overheads
        return {"cymbals": 400.0, "kit": 80.0, "lead": 40.0}[use], "" if alone else "overheads"
    if name.role in ("hat", "ride", "crash"):
        return 250.0, ""
    if name.role in ("room", "crush", "kit"):
        return 50.0, ""
    if name.role == "kick_out" and "kick_sub" in study.sheet.mics:
        return 70.0, ""
    family = piece_family(name.piece or "")
    base = _fundamental(study, mic) if family in ("kick", "snare", "tom") else 0.0
    if family == "kick":
        return float(np.clip(0.6 * base if base else 32, 28, 40)), ""
    if family == "snare":
        floor = 150.0 if name.role == "snare_bottom" else 60.0
        return float(np.clip(0.6 * base, floor, 150 if floor < 100 else 300)), ""
    return float(np.clip(0.62 * base, 42, 90)) if base else 60.0, ""


def _high_pass(study: Study, mic: str, school: School) -> list[Finding]:
    eq = study.sheet.mics[mic].first(Equaliser)
    if eq is None or any(e.on and e.high_pass.on for e in study.sheet.mics[mic].stages(Equaliser)):
        return []
    cutoff, row = cutoff_hz(study, mic, school)
    cutoff = float(round(cutoff))
    power, bins = _power(study.sound(mic, "clean"), study.rate)
    below = bins < 0.8 * cutoff
    now = power_to_db(float(power[below].sum()))
    if now < SOFTEST_BELOW_DBFS:
        return []
    slope = 18 if school.eq == "bold" else 12
    path = f"{stage_path(f'mics.{mic}', eq)}.high_pass"
    wanted = Equaliser(high_pass=Filter(on=True, frequency_hz=cutoff, slope_db_oct=slope))
    shape = response_db(equaliser_sections(wanted, study.rate), np.maximum(bins, 1.0), study.rate)
    then = power_to_db(float(np.sum(power[below] * 10 ** (shape[below] / 10))))
    piece = parse_mic_name(mic).piece
    own = (
        "leaves the drum alone"
        if is_shell(piece or "")
        else "leaves the cymbals alone"
        if piece or cutoff > 200
        else "costs the kit little"
    )
    return [
        Finding(
            NAME,
            "high_pass",
            mic,
            spoken(
                f"{label(mic)} has rumble below {0.8 * cutoff:.0f} Hz ({now:.0f} dBFS). A high-pass at "
                f"{cutoff:.0f} Hz lowers it to {then:.0f} and {own}."
            ),
            {"below_hz": round(0.8 * cutoff, 1), "below_dbfs": round(now, 1)},
            0.85,
            {f"{path}.on": True, f"{path}.frequency_hz": cutoff, f"{path}.slope_db_oct": slope},
            {"below_dbfs": Change(round(now, 1), round(then, 1))},
            row=row,
            school=school.name if row else "",
            mic=mic,
        )
    ]


# Landmarks of a shell


def _times(study: Study, mic: str) -> list[float]:
    return study.plain_times(mic)


def _fundamental(study: Study, mic: str) -> float:
    family = piece_family(parse_mic_name(mic).piece or "")
    found: float = study.remember(
        ("fundamental", mic),
        lambda: fundamental_hz(study.sound(mic, "clean"), study.rate, _times(study, mic), family),
    )
    return found


def rings_of(study: Study, mic: str) -> list[Ring]:
    """Rings of the mic's piece; one that another shell's hits set off louder is not its own."""
    piece = parse_mic_name(mic).piece or ""
    family = piece_family(piece)
    times = _times(study, mic)
    sound = study.sound(mic, "clean")
    base = _fundamental(study, mic)
    found = rings(sound, study.rate, times, base, RING_BELOW_HZ[family])
    return [r for r in found if not _belongs_elsewhere(study, mic, r.hz)]


def _belongs_elsewhere(study: Study, mic: str, hz: float) -> bool:
    own = parse_mic_name(mic).piece
    mine = _line_db(study, mic, hz)
    for piece in study.shells:
        other = study.close(piece)[0]
        if piece != own and _line_db(study, other, hz) > mine:
            decay = line_decay(
                study.sound(other, "placed"),
                study.rate,
                roomy(study.plain_times(other), 0.45),
                hz,
            )
            if decay.rise_db > 10 and decay.t60_s > 0.3:
                return True
    return False


def _line_db(study: Study, mic: str, hz: float) -> float:
    """Level of a line 100 to 350 ms after the mic's own hits."""
    return line_level_db(study.sound(mic, "placed"), study.rate, study.plain_times(mic), hz)


def line_level_db(audio: NDArray[np.float32], rate: int, times: list[float], hz: float) -> float:
    """Level in dBFS of the line at ``hz`` of ``audio`` ``(frames,)`` 100 to 350 ms after hits (``times`` in s),
    the median over them."""
    chosen = roomy(times, 0.45)
    if not chosen:
        return -200.0
    first, last = round(0.1 * rate), round(0.35 * rate)
    window = np.hanning(last - first) * 2 / np.hanning(last - first).sum()
    turn = 2 * np.pi * hz * np.arange(last - first) / rate
    line = np.stack([window * np.cos(turn), window * np.sin(turn)], axis=1).astype(audio.dtype)
    levels = []
    for t in chosen:
        at = round(t * rate)
        part = audio[at + first : at + last]
        if len(part) == len(line):
            levels.append(np.hypot(*(part @ line)))
    return power_to_db(float(np.median(levels)) ** 2) if levels else -200.0


def _ring(study: Study, mic: str, school: School, taken: set[int]) -> list[Finding]:
    out = []
    piece = parse_mic_name(mic).piece or ""
    for ring in rings_of(study, mic)[:2]:
        if _treated(study, mic, ring.hz, -1):
            continue
        place = free_band(study, mic, RING, taken)
        if place is None:
            continue
        depth = float(np.clip(ring.prominence_db / 5, 4, 9))
        q = 10.0
        patch = band_patch(place, ring.hz, -depth, q)
        now = line_level_db(study.sound(mic, "clean"), study.rate, _times(study, mic), ring.hz)
        eq = study.sheet.mics[mic].first(Equaliser)
        assert eq is not None
        bands = [*eq.bands]
        bands[place.band] = bands[place.band].model_copy(
            update={
                "on": True,
                "kind": "bell",
                "frequency_hz": ring.hz,
                "gain_db": -round(depth, 1),
                "q": q,
            }
        )
        change = gain_at_db(eq.model_copy(update={"bands": tuple(bands)}), ring.hz, study.rate)
        first = study.close(piece)[0] == mic
        out.append(
            Finding(
                NAME,
                "ring",
                piece if first else mic,
                spoken(
                    f"{ring.t60_s:.2f} s at {ring.hz:.0f} Hz ({hz_to_note(ring.hz)}): a ring on "
                    f"{label(mic)} that outlasts the drum ({ring.fundamental_t60_s:.2f} s). A "
                    f"narrow cut of {depth:.1f} dB."
                ),
                {
                    "hz": ring.hz,
                    "t60_s": ring.t60_s,
                    "drum_t60_s": ring.fundamental_t60_s,
                    "prominence_db": ring.prominence_db,
                },
                float(np.clip(0.55 + ring.prominence_db / 60, 0.6, 0.97)),
                patch,
                {"ring_dbfs": Change(round(now, 1), round(now + change, 1))},
                mic=mic,
            )
        )
        break
    return out


def _box(study: Study, mic: str, school: School, taken: set[int]) -> list[Finding]:
    family = piece_family(parse_mic_name(mic).piece or "")
    sound, times = study.sound(mic, "clean"), _times(study, mic)
    low, high = BOX_HZ[family]
    base = _fundamental(study, mic)
    found = hump(sound, study.rate, times, (max(low, 1.6 * base), max(high, 2.4 * base)))
    if found.excess_db < BOX_FROM_DB[school.eq] or _treated(study, mic, found.hz, -1, 0.5):
        return []
    place = free_band(study, mic, BOX, taken)
    if place is None:
        return []
    share = 0.6 if school.eq == "bold" else 0.45
    depth = round(float(np.clip(found.excess_db * share, 1.5, 6.0)) * 2) / 2
    return [
        Finding(
            NAME,
            "box",
            mic,
            spoken(
                f"{found.excess_db:.1f} dB around {found.hz:.0f} Hz over the line from body to "
                f"attack of {label(mic)}: boxy. A broad cut of {depth:.1f} dB."
            ),
            {"hz": found.hz, "excess_db": found.excess_db},
            float(np.clip(0.5 + found.excess_db / 30, 0.6, 0.85)),
            band_patch(place, found.hz, -depth, 1.4),
            {"band_db": Change(0.0, -depth)},
            row="eq",
            school=school.name,
            mic=mic,
        )
    ]


def _boost_db(school: School, stands_db: float, usual_db: float) -> float:
    """The boost that brings what stands so far under the loudest octave to where the school wants it; 0
    where it is there, or where the school asks for none."""
    if school.eq not in OVER_USUAL_DB:
        return 0.0
    lacks = usual_db + OVER_USUAL_DB[school.eq] - stands_db
    gain = round(min(lacks, MOST_DB[school.eq]) * 2) / 2
    return gain if gain >= LEAST_DB else 0.0


def _body(study: Study, mic: str, school: School, taken: set[int]) -> list[Finding]:
    base = _fundamental(study, mic)
    if not base or _treated(study, mic, base, 1, 0.5):
        return []
    stands = under_loudest_db(study.sound(mic, "clean"), study.rate, _times(study, mic), base)
    gain = _boost_db(school, stands, 0.0)
    place = free_band(study, mic, BODY, taken) if gain else None
    if place is None:
        return []
    return [
        Finding(
            NAME,
            "body",
            mic,
            spoken(
                f"{base:.0f} Hz ({hz_to_note(base)}) is the fundamental on {label(mic)}"
                f"{_stands(stands)}; {gain:+.1f} dB there adds weight where the drum has it."
            ),
            {"hz": round(base, 1), "note": hz_to_note(base), "stands_db": round(stands, 1)},
            0.75,
            band_patch(place, base, gain, 1.4),
            {"band_db": Change(0.0, gain)},
            row="eq",
            school=school.name,
            mic=mic,
        )
    ]


def _stands(stands_db: float) -> str:
    """How far under the loudest octave, where that says anything."""
    return f", {-stands_db:.0f} dB under its loudest octave" if stands_db <= -1 else ""


def _attack(study: Study, mic: str, school: School, taken: set[int]) -> list[Finding]:
    family = piece_family(parse_mic_name(mic).piece or "")
    sound, times = study.sound(mic, "clean"), _times(study, mic)
    hz = attack_hz(sound, study.rate, times, ATTACK_HZ[family])
    if _treated(study, mic, hz, 1, 0.7):
        return []
    stands, usual = under_loudest_db(sound, study.rate, times, hz), ATTACK_UNDER_DB[family]
    gain = _boost_db(school, stands, usual)
    place = free_band(study, mic, ATTACK, taken) if gain else None
    if place is None:
        return []
    what = {"kick": "beater", "snare": "stick and wires", "tom": "stick"}[family]
    return [
        Finding(
            NAME,
            "attack",
            mic,
            spoken(
                f"{hz:.0f} Hz is where the {what} of {label(mic)} stands out in its first 12 ms, "
                f"{-stands:.0f} dB under its loudest octave ({-usual:.0f} is usual); {gain:+.1f} dB "
                "there, which lifts the bleed of hat and cymbals as much."
            ),
            {"hz": hz, "stands_db": round(stands, 1), "bleed_lift_db": gain},
            0.7,
            band_patch(place, hz, gain, 1.0),
            {"band_db": Change(0.0, gain)},
            row="eq",
            school=school.name,
            mic=mic,
        )
    ]


def _reads(sheet: Sheet, mic: str) -> list[Any]:
    m = sheet.mics[mic]
    close = [
        (n, s.repair, s.trim_db, s.polarity, s.delay_samples)
        for n, s in sorted(sheet.mics.items())
        if parse_mic_name(n).piece
    ]
    return [
        m.repair,
        m.trim_db,
        m.polarity,
        m.delay_samples,
        m.clean,
        list(m.stages(Equaliser)),
        close,
    ]


MODULE = Module(NAME, "eq", 6, lanes, _reads, find)
