"""What a gate that hits open does to accents, ghosts and bleed, measured on the drum's own sound
alone and against the hits that were played."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from arkund.core.clean.gate import Openings, Timing, apply_envelope, envelope, hit_openings
from arkund.core.clean.proposal import propose_gate
from arkund.core.clean.rule import LOUD_KINDS, SOFT_MS
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import is_shell, parse_mic_name
from arkund.core.units import ms_to_samples, power_to_db

FIRST_S = 0.020
MOST_CUT_DB = 1.0
NEAR_S, PASSES_S = 0.03, 0.003
ATTACK_MS, LOOKAHEAD_MS, RANGE_DB = 0.5, 1.0, -40.0


@dataclass(frozen=True)
class Gated:
    """Of a shell's close mic: how many accents it hears and how many of them lose more than 1 dB of
    the energy of their first 20 ms; how many ghosts, and how many find the gate shut; how often it
    opens, and how often without a hit of its drum within `NEAR_S`."""

    accents: int
    cut: int
    ghosts: int
    missed: int
    openings: int
    false: int


def gates_of(
    mics: Mapping[str, NDArray[np.float32]],
    own: Mapping[str, NDArray[np.float32]],
    rate: int,
    hits: Sequence[Hit],
    unlisted: Mapping[str, Sequence[float]],
    truth: Sequence[Mapping[str, Any]],
    spans: Sequence[tuple[str, float, float]] = (),
) -> list[Gated]:
    """What a gate as proposed does on each shell's close mic.

    ``own`` is what each mic hears of its own piece alone; ``spans`` are rolls (piece, begin, end in s),
    in which the gate may open at will.
    """
    out = []
    for mic, sound in own.items():
        piece = parse_mic_name(mic).piece or ""
        struck = [h for h in hits if h.piece == piece]
        if not is_shell(piece) or not struck:
            continue
        proposal = propose_gate(mics[mic], rate, piece, hits)
        timing = Timing(
            *(
                ms_to_samples(ms, rate)
                for ms in (ATTACK_MS, proposal.hold_ms, proposal.release_ms, LOOKAHEAD_MS)
            )
        )
        openings = openings_of(struck, unlisted.get(piece, ()), rate, len(sound))
        shape = envelope([(int(a), int(b)) for a, b in openings], RANGE_DB, timing)
        gated = apply_envelope(sound, 0, shape)
        mine = [h for h in truth if h["piece"] == piece]
        accents = [h["time_s"] for h in mine if h["kind"] == "accent"]
        ghosts = np.array([h["time_s"] for h in mine if h["kind"] == "ghost"])
        cuts = [_cut_db(sound, gated, round(t * rate), round(FIRST_S * rate)) for t in accents]
        shut = shape.at((ghosts + PASSES_S) * rate) < -3.0 if len(ghosts) else ghosts
        true = np.array([h["time_s"] for h in mine])
        rolls = [(begin, end) for p, begin, end in spans if p == piece]
        starts = openings[:, 0] / rate
        false = [
            t
            for t in starts
            if np.abs(true - t).min(initial=np.inf) > NEAR_S
            and not any(begin - NEAR_S <= t <= end + NEAR_S for begin, end in rolls)
        ]
        out.append(
            Gated(
                len(cuts),
                sum(c > MOST_CUT_DB for c in cuts),
                len(ghosts),
                int(np.sum(shut)),
                len(starts),
                len(false),
            )
        )
    return out


def openings_of(hits: Sequence[Hit], unlisted: Sequence[float], rate: int, frames: int) -> Openings:
    """Where a gate opens for a drum's hits and for what the list may lack: for soft ones earlier."""
    soft = [*(h.time_s for h in hits if h.kind not in LOUD_KINDS), *unlisted]
    opens = [*(h.time_s for h in hits if h.kind in LOUD_KINDS), *soft]
    lead = np.repeat([0, ms_to_samples(SOFT_MS, rate)], [len(opens) - len(soft), len(soft)])
    return hit_openings(np.round(np.array(opens) * rate).astype(np.int64), lead, 1, frames)


def _cut_db(sound: NDArray[np.float32], gated: NDArray[np.float32], at: int, frames: int) -> float:
    before, after = (
        float(np.sum(np.square(x[at : at + frames], dtype=np.float64))) for x in (sound, gated)
    )
    return power_to_db(before) - power_to_db(after) if before > 0 else 0.0


def cut_row(pool: Sequence[Gated], what: str) -> tuple[str, str, str, bool]:
    """Row of the accuracy table for accents."""
    total, cut = (sum(getattr(g, name) for g in pool) for name in ("accents", "cut"))
    return (
        f"{what}accents that a gate on hits cuts by more than 1 dB",
        f"{cut} of {total}",
        "0",
        cut == 0,
    )


def rows(pool: Sequence[Gated], what: str) -> list[tuple[str, str, str, bool]]:
    """Rows for ghosts and for openings."""
    kinds = (
        ("ghosts that a gate on hits misses", "missed", "ghosts", 0.02),
        ("openings of a gate on hits without one", "false", "openings", 0.01),
    )
    out = []
    for words, bad, every, bar in kinds:
        wrong, total = (sum(getattr(g, name) for g in pool) for name in (bad, every))
        out.append((f"{what}{words}", f"{wrong} of {total}", f"≤ {bar:.0%}", wrong <= bar * total))
    return out
