"""What lies below a drum, and the filter for it."""

import numpy as np

from arkund.core.advise.eq.bands import NAME, fundamental, spectrum_below
from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.kit.roles import is_shell, label, parse_mic_name, piece_family
from arkund.core.process.cascade import Filter
from arkund.core.process.equaliser import Equaliser, equaliser_sections
from arkund.core.shape.biquad import response_db
from arkund.core.sheet.channels import stage_path
from arkund.core.units import power_to_db

SOFTEST_BELOW_DBFS = -66.0
"""What is quieter than this below a drum needs no filter."""


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
    base = fundamental(study, mic) if family in ("kick", "snare", "tom") else 0.0
    if family == "kick":
        return float(np.clip(0.6 * base if base else 32, 28, 40)), ""
    if family == "snare":
        floor = 150.0 if name.role == "snare_bottom" else 60.0
        return float(np.clip(0.6 * base, floor, 150 if floor < 100 else 300)), ""
    return float(np.clip(0.62 * base, 42, 90)) if base else 60.0, ""


def high_pass(study: Study, mic: str, school: School) -> list[Finding]:
    """A high-pass where rumble lies below what the drum itself has."""
    eq = study.sheet.mics[mic].first(Equaliser)
    if eq is None or any(e.on and e.high_pass.on for e in study.sheet.mics[mic].stages(Equaliser)):
        return []
    cutoff, row = cutoff_hz(study, mic, school)
    cutoff = float(round(cutoff))
    power, bins = spectrum_below(study.sound(mic, "clean"), study.rate)
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
