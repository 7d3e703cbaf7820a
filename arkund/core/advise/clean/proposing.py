"""What a gate on a mic would be, and what it would pass and miss."""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.clean.gate import Envelope, Openings
from arkund.core.clean.keying import LEAST_GAIN_DB, KeyFilter, propose_key
from arkund.core.clean.proposal import (
    GateProposal,
    GateReport,
    passed,
    propose_gate,
    report_gate,
    separate,
)
from arkund.core.clean.rule import SOFT_MS
from arkund.core.graph.hits import Hits
from arkund.core.graph.sources import gate_rule
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import parse_mic_name, piece_family
from arkund.core.process.key import Key
from arkund.core.sheet.treating import Clean

LEAST_TAKEN_DB = 3.0
"""A gate takes at least so much: of bleed between hits, or of the ring of a drum that sings."""

TOM_RANGE_DB = {"strip": -40.0, "tuck": -15.0}
SNARE_RANGE_DB = {"hits": -24.0, "tuck": -12.0}
OTHER_RANGE_DB = -30.0


def wanted_range_db(mic: str, school: School) -> tuple[float | None, str]:
    """Range of the gate that a school wants on a mic (None: no gate), and the row that says so."""
    name = parse_mic_name(mic)
    if name.role == "tom":
        return TOM_RANGE_DB.get(school.toms), "toms"
    if name.role in ("snare_top", "snare_side"):
        return SNARE_RANGE_DB.get(school.snare), "snare"
    if piece_family(name.piece or "") in ("kick", "snare"):
        return (None if school.other_gates == "off" else OTHER_RANGE_DB), "other_gates"
    return None, ""


def report(study: Study, mic: str, settings: Clean) -> GateReport:
    """What a gate of these settings does on the mic over the whole take."""
    piece = parse_mic_name(mic).piece or ""
    strays = [h.time_s for h in study.unlisted if h.piece == piece]
    openings, shape = _opened(study, mic, settings)
    return report_gate(
        study.sound(mic, "placed"),
        study.rate,
        piece,
        study.hits,
        openings,
        shape,
        study.sheet.mics[mic].delay_samples,
        strays,
        settings.ghosts_db,
    )


def hits_through(study: Study, mic: str, settings: Clean) -> list[tuple[Hit, bool]]:
    """Each hit of the mic's drum, and whether a gate of these settings passes it."""
    piece = parse_mic_name(mic).piece or ""
    own = [h for h in study.hits if h.piece == piece]
    _, shape = _opened(study, mic, settings)
    delay = study.sheet.mics[mic].delay_samples
    through = passed(shape, own, study.rate, delay, settings.ghosts_db)
    return list(zip(own, map(bool, through), strict=True))


def _opened(study: Study, mic: str, settings: Clean) -> tuple[Openings, Envelope]:
    """Where a gate of these settings opens on the mic, and the gain that it makes of that."""
    sound = study.sound(mic, "placed")
    mic_so = study.sheet.mics[mic].model_copy(update={"clean": settings})
    rule = gate_rule(mic_so, study.rate, lambda: Hits([*study.hits, *study.unlisted]))
    key = sound
    if settings.opens_on == "threshold":
        heard = study.graph.node(f"{mic}.clean.key")
        key = np.ascontiguousarray(study.engine.read(heard, 0, study.sheet.frames))
    openings = rule.openings([(0, key)], len(sound))
    return openings, rule.shape(openings)


def wanted_key(
    sound: NDArray[np.float32], rate: int, piece: str, hits: Sequence[Hit], delay: float
) -> KeyFilter | None:
    """The filter for a gate's key on a mic's ``sound`` ``(frames,)`` as its gate receives it, measured with the
    filter in; None where it does not part hits from bleed better than none."""
    band = propose_key(sound, rate, piece, hits, delay)
    if band is None:
        return None
    filters = Key(high_pass_hz=band.low_hz, low_pass_hz=band.high_hz).filters(rate)
    filtered = filters.run(sound, filters.at_rest(1))
    plain_db, margin_db = (
        separate(x, rate, piece, hits, delay).margin_db for x in (sound, filtered)
    )
    if margin_db < plain_db + LEAST_GAIN_DB:
        return None
    return replace(band, margin_db=round(margin_db, 1), plain_db=round(plain_db, 1))


def proposed(study: Study, mic: str) -> GateProposal:
    """The gate that suits a mic, from its sound as placed and the hits of its drum."""
    piece = parse_mic_name(mic).piece or ""
    return propose_gate(
        study.sound(mic, "placed"),
        study.rate,
        piece,
        study.hits,
        study.sheet.mics[mic].delay_samples,
    )


def gate_patch(mic: str, proposal: GateProposal, range_db: float) -> dict[str, object]:
    """The settings of a proposed gate, by path; ``range_db`` is negative dB when shut."""
    c = f"mics.{mic}.clean"
    return {
        f"{c}.on": True,
        f"{c}.opens_on": proposal.opens_on,
        f"{c}.threshold_db": proposal.threshold_db,
        f"{c}.hold_ms": proposal.hold_ms,
        f"{c}.release_ms": proposal.release_ms,
        f"{c}.range_db": range_db,
        f"{c}.soft_ms": SOFT_MS,
        f"{c}.shuts": "level",
    }
