"""What rings or is boxy, and the cut for it."""

import numpy as np
from numpy.typing import NDArray

from arkund.core.advise.eq.bands import (
    BOX,
    NAME,
    RING,
    band_patch,
    free_band,
    fundamental,
    gain_at_db,
    treated,
)
from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.kit.roles import label, parse_mic_name, piece_family
from arkund.core.measure.landmarks import (
    BOX_HZ,
    RING_BELOW_HZ,
    Ring,
    hump,
    line_decay,
    rings,
    roomy,
)
from arkund.core.process.equaliser import Equaliser
from arkund.core.units import hz_to_note, power_to_db

BOX_FROM_DB = {"bold": 3.0, "cut_first": 3.0, "called_for": 6.0}


def rings_of(study: Study, mic: str) -> list[Ring]:
    """Rings of the mic's piece; one that another shell's hits set off louder is not its own."""
    piece = parse_mic_name(mic).piece or ""
    family = piece_family(piece)
    times = study.plain_times(mic)
    sound = study.sound(mic, "clean")
    base = fundamental(study, mic)
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


def ring(study: Study, mic: str, school: School, taken: set[int]) -> list[Finding]:
    """A narrow cut for each of the two worst rings that outlast the drum."""
    out = []
    piece = parse_mic_name(mic).piece or ""
    for ring in rings_of(study, mic)[:2]:
        if treated(study, mic, ring.hz, -1):
            continue
        place = free_band(study, mic, RING, taken)
        if place is None:
            continue
        depth = float(np.clip(ring.prominence_db / 5, 4, 9))
        q = 10.0
        patch = band_patch(place, ring.hz, -depth, q)
        now = line_level_db(study.sound(mic, "clean"), study.rate, study.plain_times(mic), ring.hz)
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
                    f"{label(mic)} rings at {ring.hz:.0f} Hz ({hz_to_note(ring.hz)}) for "
                    f"{ring.t60_s:.2f} s, longer than the drum ({ring.fundamental_t60_s:.2f} s). A "
                    f"narrow cut lowers it by {depth:.1f} dB."
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


def box(study: Study, mic: str, school: School, taken: set[int]) -> list[Finding]:
    """A broad cut where a shell sounds boxy, between body and attack."""
    family = piece_family(parse_mic_name(mic).piece or "")
    sound, times = study.sound(mic, "clean"), study.plain_times(mic)
    low, high = BOX_HZ[family]
    base = fundamental(study, mic)
    found = hump(sound, study.rate, times, (max(low, 1.6 * base), max(high, 2.4 * base)))
    if found.excess_db < BOX_FROM_DB[school.eq] or treated(study, mic, found.hz, -1, 0.5):
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
                f"{label(mic)} sounds boxy: around {found.hz:.0f} Hz it is {found.excess_db:.1f} dB "
                f"above the line from body to attack. A broad cut lowers it by {depth:.1f} dB."
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
