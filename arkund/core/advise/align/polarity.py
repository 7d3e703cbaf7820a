"""Align: mics that are out of polarity with the rest of the kit."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.align.pairs import Pair
from arkund.core.align.signs import Signs, solve_signs
from arkund.core.kit.roles import label, parse_mic_name, piece_family
from arkund.core.measure.hits import hit_windows
from arkund.core.measure.landmarks import roomy
from arkund.core.sheet.lanes import kit_mics
from arkund.core.sheet.paths import Patch
from arkund.core.sheet.sheet import Sheet
from arkund.core.units import power_to_db

NAME = "align"


def find_polarity(study: Study, mic: str, school: School) -> list[Finding]:
    """Polarity comes before time: a sum that cancels says nothing about delays."""
    pairs = [p for p in study.facts.pairs if {p.mic, p.reference} <= set(study.sheet.mics)]
    own = [p for p in pairs if mic in (p.mic, p.reference)]
    if not own:
        return []
    signs = solve_signs(study.mics, [Standing(p, study.sheet) for p in pairs])
    if signs.sign[mic] > 0:
        return []
    # The pair that says it best: with a mic that stays as it is, the piece's first one, else the surest.
    opposed = [p for p in own if signs.sign[_other(p, mic)] > 0] or own
    best = max(
        opposed, key=lambda p: (p.sure, not p.reference.startswith("overhead"), p.confidence)
    )
    other = _other(best, mic)
    now = study.sheet.mics[mic].polarity
    # A drum's mics are one body: those that stand upside down together are turned together.
    body = parse_mic_name(mic).piece
    mates = [m for m in study.close(body) if m != mic and signs.sign[m] < 0] if body else []
    patch = {f"mics.{mic}.polarity": -now}
    patch |= {f"mics.{m}.polarity": -study.sheet.mics[m].polarity for m in mates}
    agreeing = sum(signs.agrees(Standing(p, study.sheet)) for p in own)
    if parse_mic_name(mic).role == "room":
        return [_room_polarity(mic, own, agreeing, signs.support[mic], patch)]
    span = span_of(best.piece)
    before = sum_level_db(study, best.piece, mic, other, *span)
    after = sum_level_db(study.tried(patch), best.piece, mic, other, *span)
    confidence = _confidence(study, mic, best, signs, pairs, after - before)
    along = f" together with {' and '.join(map(label, mates))}" if mates else ""
    known = (
        f"{label(mic)} is out of polarity with {label(other)} ({agreeing} of {len(own)} pairs). "
        f"Flipped{along}, the two gain {after - before:+.1f} dB from {span[0]:.0f} to {span[1]:.0f} Hz."
        if after >= before + FULLER_DB
        else f"{label(mic)} is out of polarity in {agreeing} of {len(own)} pairs. Its first arrivals push "
        f"where those in {label(other)} pull.{f' It is flipped{along}.' if along else ''}"
    )
    return [
        Finding(
            NAME,
            "polarity",
            mic,
            spoken(known),
            {
                "pairs": len(own),
                "agree": agreeing,
                "against": other,
                "on": best.piece,
                "support": round(signs.support[mic], 2),
            },
            confidence,
            patch,
            {"sum_db": Change(round(before, 2), round(after, 2))}
            if after >= before + FULLER_DB
            else {"pairs_in_step": Change(len(own) - agreeing, agreeing)},
            mic=mic,
        )
    ]


def _confidence(
    study: Study, mic: str, best: Pair, signs: Signs, pairs: Sequence[Pair], gain_db: float
) -> float:
    """How sure a flip of a mic is: by its pairs, by those of its whole drum where all of that stands against the
    kit, and by what the sum with another mic of its drum gains."""
    own = [p for p in pairs if mic in (p.mic, p.reference)]
    piece = parse_mic_name(mic).piece
    if piece is not None and all(signs.sign[m] < 0 for m in study.close(piece)):
        opposed = [p for p in own if signs.sign[_other(p, mic)] > 0] or own
        surest = max((p.confidence for p in opposed if p.sure), default=0.0)
        # All of a drum's mics against the kit: then none of its pairs may say otherwise.
        heard = [p for p in pairs if p.piece == piece and p.confidence >= LEAST_HEARD]
        agree = all(signs.agrees(Standing(p, study.sheet)) for p in heard)
        is_sure = surest >= OPPOSED_ALONE and agree
    else:
        is_sure = any(p.sure for p in own)
    confidence = 0.5 + 0.49 * signs.support[mic] if is_sure else 0.5
    # Two mics of one drum say by their sum how they stand, whatever overheads make of one of them.
    in_one_drum = piece is not None and {piece} == {
        best.piece,
        parse_mic_name(_other(best, mic)).piece,
    }
    if in_one_drum and best.confidence >= OWN_PAIR and gain_db >= OWN_GAIN_DB:
        confidence = max(confidence, OWN_PAIR)
    return float(np.clip(confidence, 0, 0.99))


FULLER_DB = 0.3
"""Least gain of a sum, in dB, that is given as the reason for a flip."""

OWN_PAIR, OWN_GAIN_DB = 0.9, 3.0
"""A pair of mics on one drum needs no other vote from this confidence and this gain of its sum on."""

LEAST_HEARD = 0.4
"""A pair less confident than this contradicts nobody."""

OPPOSED_ALONE = 0.75
"""Least confidence of the surest pair where all mics of a piece oppose the rest of the kit: a drum that was
equalised before may only look like it."""


def _other(pair: Pair, mic: str) -> str:
    """The pair's other mic."""
    return pair.reference if pair.mic == mic else pair.mic


def _room_polarity(mic: str, own: list[Pair], agree: int, support: float, patch: Patch) -> Finding:
    """A room is too far off to be judged by its sum; its first arrivals say how it stands."""
    sure = any(p.sure for p in own)
    pieces = ", ".join(dict.fromkeys(label(p.piece) for p in own))
    return Finding(
        NAME,
        "polarity",
        mic,
        spoken(
            f"{label(mic)} is out of polarity in {agree} of {len(own)} pairs. Its first "
            f"arrivals of {pieces} push where the close mics pull; flipped, it adds to them."
        ),
        {"pairs": len(own), "agree": agree, "support": round(support, 2)},
        float(np.clip(0.5 + 0.49 * support if sure else 0.5, 0, 0.99)),
        patch,
        {"pairs_in_step": Change(len(own) - agree, agree)},
        mic=mic,
    )


def sum_level_db(
    study: Study, piece: str, mic: str, reference: str, low_hz: float, high_hz: float
) -> float:
    """What two mics gain by being added, at the hits of a piece that both hear: power of the
    sum over the sum of powers, in dB between two frequencies. +3 where they agree in all and are
    equally loud, far below 0 where they cancel."""
    times = roomy([h.time_s for h in study.hits_on(piece, ghosts=False)], 0.12)
    if not times:
        return 0.0
    a, b = (_band(study, m, times, low_hz, high_hz) for m in (mic, reference))
    apart = float(np.sum(np.square(a)) + np.sum(np.square(b)))
    return power_to_db(float(np.sum(np.square(a + b)))) - power_to_db(apart)


def _band(
    study: Study, mic: str, times: list[float], low_hz: float, high_hz: float
) -> NDArray[np.float64]:
    rows = hit_windows(study.sound(mic, "placed"), study.rate, times, 0.02, 0.1)
    spectrum = np.fft.rfft(rows * np.hanning(rows.shape[1]), axis=1)
    hz = np.fft.rfftfreq(rows.shape[1], 1 / study.rate)
    spectrum[:, (hz < low_hz) | (hz > high_hz)] = 0
    return np.fft.irfft(spectrum, rows.shape[1], axis=1)


def span_of(piece: str | None) -> tuple[float, float]:
    """Where the sum of two mics on a piece matters most."""
    family = piece_family(piece or "snare")
    return {"kick": (30.0, 120.0), "tom": (50.0, 250.0), "snare": (100.0, 500.0)}.get(
        family, (500.0, 2000.0)
    )


class Standing:
    """A pair as it stands with the sheet's flips."""

    def __init__(self, pair: Pair, sheet: Sheet) -> None:
        self.mic, self.reference, self.confidence = pair.mic, pair.reference, pair.confidence
        self.polarity = (
            pair.polarity * sheet.mics[pair.mic].polarity * sheet.mics[pair.reference].polarity
        )


def reads_all(sheet: Sheet, mic: str) -> list[object]:
    """What the answers on a mic's polarity and delay rest on: how every mic is mended, trimmed, flipped and
    shifted."""
    return [
        (m, s.repair, s.trim_db, s.polarity, s.delay_samples) for m, s in sorted(sheet.mics.items())
    ]


MODULE = Module(NAME, "align", 4, kit_mics, reads_all, find_polarity)
