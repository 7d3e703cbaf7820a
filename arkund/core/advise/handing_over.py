"""Several mics on one drum: where they take from each other, and the filters that hand one over to the other."""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from itertools import permutations
from typing import Any

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.advise.level.carries import alone
from arkund.core.advise.study import Study
from arkund.core.errors import ArkundError
from arkund.core.kit.roles import is_shell, label, parse_mic_name
from arkund.core.measure.masking import (
    THIRDS_HZ,
    Masking,
    Spectra,
    masking,
    power_to_db_of,
    spectra_at_hits,
    third_powers,
)
from arkund.core.process.cascade import Filter, filter_sections
from arkund.core.process.equaliser import Equaliser
from arkund.core.sheet.channels import stage_path
from arkund.core.sheet.lanes import sounding_mics

CANCELS_DB = -1.0
"""Mics that have so much less together than apart take from each other."""

COUNTS_DB = -30.0
"""Thirds farther under the drum's loudest do not matter."""

GAINS_DB, COSTS_DB, QUIET_COSTS_DB = 0.7, -0.7, -3.0
"""A hand-over gives at least so much where mics cancelled, and takes no more than so much anywhere, of what lies
more than `QUIET_DB` under the drum's loudest third no more than the last."""

QUIET_DB = -20.0

SILENT = 1e-9
"""Power at all hits together of mics that are dead or muted."""

SLOPES = (12, 24)
LEADS = 0.5
"""Share of the power from which a mic has a third to itself."""


@dataclass(frozen=True)
class HandOver:
    """Filters that let one mic have what lies under ``hz`` and another what lies over it: the ``patch``, and by how
    many dB each third of the drum changes as it was rendered ``(thirds,)``."""

    hz: float
    low: str
    high: str
    patch: dict[str, Any]
    change_db: NDArray[np.float64]


def masking_of(study: Study, piece: str) -> Masking:
    """A drum's mics and what lies over it: the other drums' close mics by drum, and the bed. Raises `ArkundError`
    where the drum has no mic or hit of its own."""
    own, others, hz = _spectra(study, piece)
    if sum(float(np.sum(np.abs(s) ** 2)) for s in own.values()) < SILENT:
        raise ArkundError(f"Nothing is heard of the {label(piece)} in its own mics.")
    return masking(own, others, hz)


def _spectra(study: Study, piece: str) -> tuple[Spectra, Spectra, NDArray[np.float64]]:
    mics = [m for m in study.close(piece) if m in sounding_mics(study.sheet)]
    times = alone(study, piece)
    if not mics or not times:
        what = "mic" if not mics else "hit"
        raise ArkundError(f"{label(piece).capitalize()} has no {what} of its own that sounds.")
    own, hz = spectra_at_hits({m: _out(study, m) for m in mics}, study.rate, times)
    beside: dict[str, NDArray[np.float32]] = {}
    for mic in sounding_mics(study.sheet):
        other = parse_mic_name(mic).piece
        if other and other != piece and is_shell(other) and mic in study.graph.outs:
            beside[other] = beside.get(other, 0) + _out(study, mic)
    if "bed" in study.graph.beside:
        beside["bed"] = study.engine.read(study.graph.beside["bed"], 0, study.sheet.frames)
    return own, spectra_at_hits(beside, study.rate, times)[0], hz


def _out(study: Study, mic: str) -> NDArray[np.float32]:
    return study.engine.read(study.graph.outs[mic], 0, study.sheet.frames)


def hand_over(study: Study, piece: str) -> HandOver | None:
    """The filters that end what two mics of a drum take from each other, checked as they sound; None where they
    take nothing, or where no filters give more than they cost."""
    own, _, hz = _spectra(study, piece)
    now = masking(own, {}, hz)
    counts = now.drum_db >= COUNTS_DB
    cancels = counts & (now.together_db < CANCELS_DB)
    if len(own) < 2 or not cancels.any():
        return None
    best: tuple[float, HandOver] | None = None
    for low, high in permutations(own, 2):
        for patch, at_hz, filtered in _ways(study, own, hz, low, high, now):
            change = _change_db(own, {**own, **filtered}, hz)
            worth = float(change[cancels].mean())
            if _is_worth_it(change, cancels, now) and (best is None or worth > best[0]):
                best = worth, HandOver(at_hz, low, high, patch, change)
    if best is None:
        return None
    after, _, _ = _spectra(study.tried(best[1].patch), piece)
    change = _change_db(own, after, hz)
    # As it is rendered, dynamics and all.
    return replace(best[1], change_db=change) if _is_worth_it(change, cancels, now) else None


def _ways(
    study: Study,
    own: Spectra,
    hz: NDArray[np.float64],
    low: str,
    high: str,
    now: Masking,
) -> list[tuple[dict[str, Any], float, dict[str, NDArray[np.complex128]]]]:
    """Filters on two mics whose ways part: patch, frequency, and the mics' spectra with them."""
    found = []
    ends = _parts_at(now, low, high)
    for at_hz in ends:
        for slope in SLOPES:
            parts = {
                "high_pass": (high, Filter(on=True, frequency_hz=at_hz, slope_db_oct=slope)),
                "low_pass": (low, Filter(on=True, frequency_hz=at_hz, slope_db_oct=slope)),
            }
            for names in (("high_pass",), ("low_pass",), ("high_pass", "low_pass")):
                patch: dict[str, Any] = {}
                filtered: dict[str, NDArray[np.complex128]] = {}
                for name in names:
                    mic, part = parts[name]
                    one = _filter_patch(study, mic, name, part)
                    if one is None:
                        break
                    patch |= one
                    filtered[mic] = own[mic] * _response(name, part, hz, study.rate)
                else:
                    found.append((patch, at_hz, filtered))
    return found


def _parts_at(now: Masking, low: str, high: str) -> list[float]:
    """Where the one leads below and the other above: borders of thirds between them."""
    below, above = now.share[low] >= LEADS, now.share[high] >= LEADS
    counts = now.drum_db >= COUNTS_DB
    lows, highs = np.flatnonzero(below & counts), np.flatnonzero(above & counts)
    if not len(lows) or not len(highs) or lows.min() > highs.max():
        return []
    return [THIRDS_HZ[n] for n in range(lows.min(), highs.max() + 1) if 60 <= THIRDS_HZ[n] <= 4000]


def _filter_patch(study: Study, mic: str, name: str, part: Filter) -> dict[str, Any] | None:
    """What sets a filter of a mic's first EQ; None where it has none, or where the filter is in use."""
    eq = study.sheet.mics[mic].first(Equaliser)
    if eq is None or getattr(eq, name).on:
        return None
    path = stage_path(f"mics.{mic}", eq)
    return {
        f"{path}.on": True,
        f"{path}.{name}.on": True,
        f"{path}.{name}.frequency_hz": part.frequency_hz,
        f"{path}.{name}.slope_db_oct": part.slope_db_oct,
    }


def _response(
    name: str, part: Filter, hz: NDArray[np.float64], rate: int
) -> NDArray[np.complex128]:
    out = Filter()
    sections = filter_sections(*((part, out) if name == "high_pass" else (out, part)), rate)
    sos = [[b0, b1, b2, 1.0, a1, a2] for b0, b1, b2, a1, a2 in sections]
    response: NDArray[np.complex128] = scipy.signal.sosfreqz(sos, hz, fs=rate)[1]
    return response


def _change_db(
    before: Spectra, after: Mapping[str, NDArray[np.complex128]], hz: NDArray[np.float64]
) -> NDArray[np.float64]:
    """By how many dB the sum of a drum's mics changes in each third."""
    was, now = (
        power_to_db_of(third_powers(np.sum(list(one.values()), axis=0), hz))
        for one in (before, after)
    )
    return now - was


def _is_worth_it(change: NDArray[np.float64], cancels: NDArray[np.bool_], now: Masking) -> bool:
    loud, counts = now.drum_db >= QUIET_DB, now.drum_db >= COUNTS_DB
    return bool(
        change[cancels].mean() >= GAINS_DB
        and change[loud].min() >= COSTS_DB
        and change[counts].min() >= QUIET_COSTS_DB
    )
