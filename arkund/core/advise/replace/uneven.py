"""Accents that are uneven, and evening them."""

from collections.abc import Sequence

import numpy as np

from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.module import Module
from arkund.core.advise.replace.layers import NAME, followed
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.errors import ArkundError
from arkund.core.kit.roles import is_shell, label
from arkund.core.measure.levels import hit_peaks
from arkund.core.sheet.pairs import lanes
from arkund.core.sheet.paths import Patch
from arkund.core.sheet.sheet import Sheet
from arkund.core.units import amplitudes_to_db

UNEVEN_DB = {"punch": 4.0, "punch_size": 6.0}
"""Accents that spread by more (90th over 10th percentile) are found uneven; Open lets them be."""

EVEN_SHARE = {"punch": 0.6, "punch_size": 0.4}


def even_patch(study: Study, piece: str, amount: float) -> Patch:
    """Even hits on all close mics of a piece, by the same share. Raises `ArkundError`."""
    followed(study, piece)
    if not 0 <= amount <= 1:
        raise ArkundError("The amount of even hits is a share from 0 to 1, e.g. 0.5.")
    return {f"mics.{mic}.even.amount": amount for mic in study.close(piece)}


def spread_db(study: Study, mic: str) -> tuple[float, int]:
    """By how much the accents of a mic's piece spread (90th over 10th percentile of their peaks) as
    they enter its chain, and how many there are."""
    piece, shift = (
        study.sheet.mics[mic].name.piece,
        study.sheet.mics[mic].delay_samples / study.rate,
    )
    times = [h.time_s + shift for h in study.hits if h.piece == piece and h.kind == "accent"]
    return _spread(study, mic, times), len(times)


def _spread(study: Study, mic: str, times: Sequence[float]) -> float:
    if len(times) < 8:
        return 0.0
    entry = study.graph.mics[mic].chained.entry
    sound = study.engine.read(entry, 0, study.sheet.frames)
    peaks = amplitudes_to_db(hit_peaks(np.ascontiguousarray(sound), study.rate, times))
    return float(np.subtract(*np.percentile(peaks, [90, 10])))


def find(study: Study, mic: str, school: School) -> list[Finding]:
    """Uneven accents of a shell, where the school minds; for the ear to settle."""
    name = study.sheet.mics[mic].name
    aim, share = UNEVEN_DB.get(school.goal), EVEN_SHARE.get(school.goal, 0.0)
    piece = name.piece or ""
    if aim is None or not is_shell(piece) or study.close(piece)[:1] != [mic]:
        return []
    if study.sheet.mics[mic].even.amount:
        return []
    spread, count = spread_db(study, mic)
    if spread <= aim:
        return []
    patch = even_patch(study, piece, share)
    then, _ = spread_db(study.tried(patch), mic)
    return [
        Finding(
            NAME,
            "even",
            piece,
            spoken(
                f"{label(piece)}: soft and loud accents ({count} of them) differ by {spread:.1f} dB. "
                f"Even hits by {share:.0%} leaves {then:.1f} dB and no other change. Listen whether "
                "the playing should be that even."
            ),
            {"spread_db": round(spread, 1), "accents": count},
            0.55,
            patch,
            {"spread_db": Change(round(spread, 1), round(then, 1))},
            row="goal",
            school=school.name,
            mic=mic,
        )
    ]


def _reads(sheet: Sheet, mic: str) -> list[object]:
    m = sheet.mics[mic]
    return [
        m.repair,
        m.trim_db,
        m.polarity,
        m.delay_samples,
        m.clean,
        m.even,
        {n: layer.model_dump() for n, layer in sheet.layers.items()},
    ]


MODULE = Module(NAME, "replace", 1, lanes, _reads, find)
