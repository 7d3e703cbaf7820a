"""Where body and attack are, and what they lack."""

from arkund.core.advise.eq.bands import (
    ATTACK,
    BODY,
    NAME,
    band_patch,
    free_band,
    fundamental,
    treated,
)
from arkund.core.advise.eq.by_hits import spared
from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.kit.roles import label, parse_mic_name, piece_family
from arkund.core.measure.landmarks import (
    ATTACK_HZ,
    attack_hz,
    under_loudest_db,
)
from arkund.core.units import hz_to_note

OVER_USUAL_DB = {"bold": 3.0, "cut_first": 1.5}
"""How much more of body and attack than usual is wanted, by the school's row."""

MOST_DB = {"bold": 6.0, "cut_first": 3.0}

LEAST_DB = 1.0
"""The largest boost, and one that is worth making."""

NOT_ITS_OWN_DB = -12.0
"""What lies so far under a drum's loudest octave is hardly its fundamental, but some other drum's."""

ATTACK_UNDER_DB = {"kick": -25.0, "snare": -10.0, "tom": -14.0}
"""Usual level of the beater's or stick's octave under the loudest octave of a recorded hit, in dB."""


def _boost_db(school: School, stands_db: float, usual_db: float) -> float:
    """The boost that brings what stands so far under the loudest octave to where the school wants it; 0
    where it is there, or where the school asks for none."""
    if school.eq not in OVER_USUAL_DB:
        return 0.0
    lacks = usual_db + OVER_USUAL_DB[school.eq] - stands_db
    gain = round(min(lacks, MOST_DB[school.eq]) * 2) / 2
    return gain if gain >= LEAST_DB else 0.0


def body(study: Study, mic: str, school: School, taken: set[int]) -> list[Finding]:
    """A boost at the fundamental where it is weak. ``taken`` holds the numbers of bands in use."""
    base = fundamental(study, mic)
    if not base or treated(study, mic, base, 1, 0.5):
        return []
    stands = under_loudest_db(study.sound(mic, "clean"), study.rate, study.plain_times(mic), base)
    if stands < NOT_ITS_OWN_DB:
        return []
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
                f"{label(mic)} has its fundamental at {base:.0f} Hz ({hz_to_note(base)})"
                f"{_stands(stands)}. {gain:+.1f} dB there adds weight."
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
    return f", {-stands_db:.0f} dB below its loudest octave" if stands_db <= -1 else ""


def attack(study: Study, mic: str, school: School, taken: set[int]) -> list[Finding]:
    """A boost where beater or stick stands out, if that is weaker than on most recorded drums."""
    family = piece_family(parse_mic_name(mic).piece or "")
    sound, times = study.sound(mic, "clean"), study.plain_times(mic)
    hz = attack_hz(sound, study.rate, times, ATTACK_HZ[family])
    if treated(study, mic, hz, 1, 0.7):
        return []
    stands, usual = under_loudest_db(sound, study.rate, times, hz), ATTACK_UNDER_DB[family]
    gain = _boost_db(school, stands, usual)
    place = free_band(study, mic, ATTACK, taken) if gain else None
    if place is None:
        return []
    what = {"kick": "beater", "snare": "stick and wires", "tom": "stick"}[family]
    patch = band_patch(place, hz, gain, 1.0)
    still, with_hits = spared(study, mic, place, patch, hz)
    bleed = f", and lifts the bleed by {still.bleed_db:.1f} dB" if still.bleed_db >= 0.5 else ""
    return [
        Finding(
            NAME,
            "attack",
            mic,
            spoken(
                f"{label(mic)} has its {what} at {hz:.0f} Hz, {-stands:.0f} dB below its loudest "
                f"octave (usual: {-usual:.0f}). {gain:+.1f} dB there brings it out{bleed}."
            ),
            {"hz": hz, "stands_db": round(stands, 1), "bleed_lift_db": round(still.bleed_db, 1)},
            0.7,
            patch,
            {"band_db": Change(0.0, gain)},
            row="eq",
            school=school.name,
            mic=mic,
            others=[with_hits] if with_hits else (),
        )
    ]
