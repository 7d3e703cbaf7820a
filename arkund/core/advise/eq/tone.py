"""What lies below the drum, rings or is boxy, and where its body and attack are."""

from typing import Any

from arkund.core.advise.eq.bands import NAME
from arkund.core.advise.eq.high_pass import high_pass
from arkund.core.advise.eq.lifts import attack, body
from arkund.core.advise.eq.rings import box, ring
from arkund.core.advise.finding import Finding
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.kit.roles import is_shell, parse_mic_name
from arkund.core.process.equaliser import Equaliser
from arkund.core.sheet.pairs import lanes
from arkund.core.sheet.sheet import Sheet


def find(study: Study, mic: str, school: School) -> list[Finding]:
    """What lies below the drum, rings or is boxy, and where its body and attack are."""
    if study.facts.measures[mic]["peak_dbfs"] <= -150 or parse_mic_name(mic).role in _OFF:
        return []
    # Bleed has no landmarks.
    if study.has_no_hits(mic):
        return []
    out = [*high_pass(study, mic, school)]
    piece = parse_mic_name(mic).piece or ""
    if is_shell(piece) and len(study.hits_on(piece, ghosts=False)) >= 3:
        taken: set[int] = set()
        out += ring(study, mic, school, taken)
        out += box(study, mic, school, taken)
        if mic == study.close(piece)[0] or parse_mic_name(mic).role == "kick_out":
            out += body(study, mic, school, taken)
            out += attack(study, mic, school, taken)
    return out


_OFF = ("click", "bed", "other", "percussion", "return")


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


MODULE = Module(NAME, "eq", 7, lanes, _reads, find)
