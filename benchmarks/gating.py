"""What a gate that strokes open does to accents, measured on the drum's own sound alone."""

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from arkund.core.clean.gate import Timing, apply_envelope, envelope, stroke_openings
from arkund.core.clean.proposal import propose_gate
from arkund.core.hits.detect import Hit
from arkund.core.kit.roles import is_shell, parse_mic_name
from arkund.core.units import ms_to_samples, power_to_db

FIRST_S = 0.020
MOST_CUT_DB = 1.0
ATTACK_MS, LOOKAHEAD_MS, RANGE_DB = 0.5, 1.0, -40.0


def cut_accents(
    mics: Mapping[str, NDArray[np.float32]],
    own: Mapping[str, NDArray[np.float32]],
    rate: int,
    hits: Sequence[Hit],
    unlisted: Mapping[str, Sequence[float]],
    truth: Sequence[Mapping[str, Any]],
) -> list[tuple[int, int]]:
    """Of each shell's close mic with a gate as proposed: how many accents it hears, and how many
    lose more than 1 dB of the energy of their first 20 ms.

    ``own`` is what each mic hears of its own piece alone.
    """
    out = []
    for mic, sound in own.items():
        piece = parse_mic_name(mic).piece or ""
        strokes = [h.time_s for h in hits if h.piece == piece]
        if not is_shell(piece) or not strokes:
            continue
        proposal = propose_gate(mics[mic], rate, piece, hits)
        timing = Timing(
            *(
                ms_to_samples(ms, rate)
                for ms in (ATTACK_MS, proposal.hold_ms, proposal.release_ms, LOOKAHEAD_MS)
            )
        )
        opens = np.array([round(t * rate) for t in [*strokes, *unlisted.get(piece, ())]], np.int64)
        openings = stroke_openings(opens, 0, 1, len(sound))
        shape = envelope([(int(a), int(b)) for a, b in openings], RANGE_DB, timing)
        gated = apply_envelope(sound, 0, shape)
        accents = [h["time_s"] for h in truth if h["piece"] == piece and h["kind"] == "accent"]
        cuts = [_cut_db(sound, gated, round(t * rate), round(FIRST_S * rate)) for t in accents]
        out.append((len(cuts), sum(c > MOST_CUT_DB for c in cuts)))
    return out


def _cut_db(sound: NDArray[np.float32], gated: NDArray[np.float32], at: int, frames: int) -> float:
    before, after = (
        float(np.sum(np.square(x[at : at + frames], dtype=np.float64))) for x in (sound, gated)
    )
    return power_to_db(before) - power_to_db(after) if before > 0 else 0.0


def row(pool: Sequence[tuple[int, int]], what: str) -> tuple[str, str, str, bool]:
    """Row of the accuracy table."""
    total, cut = (sum(r[i] for r in pool) for i in range(2))
    return (
        f"{what}accents that a gate on strokes cuts by more than 1 dB",
        f"{cut} of {total}",
        "0",
        cut == 0,
    )
