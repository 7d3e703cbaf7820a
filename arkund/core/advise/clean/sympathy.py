"""Drums that ring when another is hit, and the ways to remove the ring."""

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from arkund.core.advise.clean.proposing import LEAST_TAKEN_DB, TOM_RANGE_DB, gate_patch, proposed
from arkund.core.advise.eq.bands import RING, band_patch, free_band
from arkund.core.advise.finding import Change, Finding, Way, spoken
from arkund.core.advise.pitch import drum_hz
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.clean.proposal import (
    GateProposal,
)
from arkund.core.kit.roles import label, parse_mic_name, piece_family
from arkund.core.measure.hits import hit_windows
from arkund.core.measure.landmarks import (
    LONGEST_RING_S,
    LineDecay,
    late_t60_s,
    line_decay,
    line_prominence_db,
)
from arkund.core.sheet.treating import DEEPEST_NOTCH_DB, NOTCH_Q
from arkund.core.units import amplitudes_to_db

NAME = "clean"
SINGS_FOR_S = 0.5
SINGS_RISE_DB = 8.0
SINGS_PROMINENCE_DB = 10.0
LEAST_WAKES = 6
HALF_SHUT_DB, LEAST_LESS_DB, NOTCH_DB = -12.0, 8.0, -9.0


def sympathy(study: Study, mic: str, school: School) -> list[Finding]:
    """A tom whose own fundamental swells and rings on when the kick or snare is struck."""
    piece = parse_mic_name(mic).piece or ""
    c = study.sheet.mics[mic].clean
    # A school that leaves the toms alone leaves this too.
    if school.toms == "leave":
        return []
    if piece_family(piece) != "tom" or (c.on and c.opens_on == "hits" and c.range_db <= -10):
        return []
    sound = study.sound(mic, "placed")
    hz = drum_hz(study, piece)
    if not hz:
        return []
    for waker in ("kick", "snare"):
        wakes = _alone(study, waker, piece)
        if len(wakes) < LEAST_WAKES:
            continue
        rise = line_decay(sound, study.rate, wakes, hz).rise_db
        t60 = late_t60_s(sound, study.rate, wakes, hz)
        if rise < SINGS_RISE_DB or not SINGS_FOR_S <= t60 <= LONGEST_RING_S:
            continue
        if line_prominence_db(sound, study.rate, wakes, hz) < SINGS_PROMINENCE_DB:
            continue
        if _is_bleed(study, mic, waker, wakes, hz):
            continue
        found = _sings(
            study, mic, waker, wakes, hz, LineDecay(t60, rise), TOM_RANGE_DB[school.toms]
        )
        # A gate that is there already may take as much.
        ring = found.gain["ring_dbfs"]
        return [found] if ring.then < ring.now - LEAST_TAKEN_DB else []
    return []


def _alone(study: Study, waker: str, piece: str) -> list[float]:
    """Hits of ``waker`` after which, and a second before, ``piece`` is not struck."""
    own = np.array([h.time_s for h in study.hits_on(piece)])
    out = []
    for h in study.hits_on(waker, ghosts=False):
        since = h.time_s - own
        if not np.any((since > -0.45) & (since < 1.5)):
            out.append(h.time_s)
    return out[:60]


def _is_bleed(study: Study, mic: str, waker: str, wakes: list[float], hz: float) -> bool:
    """Whether the waker's own mic hears the same line, standing out there too and louder: then it
    is not the tom's."""
    mics = study.close(waker)
    if not mics:
        return False
    there, here = study.sound(mics[0], "placed"), study.sound(mic, "placed")
    if line_prominence_db(there, study.rate, wakes, hz) < SINGS_PROMINENCE_DB:
        return False
    louder = line_level_dbfs(there, study.rate, wakes, hz)
    return louder > line_level_dbfs(here, study.rate, wakes, hz)


def _sings(
    study: Study,
    mic: str,
    waker: str,
    wakes: list[float],
    hz: float,
    decay: LineDecay,
    range_db: float,
) -> Finding:
    piece = parse_mic_name(mic).piece or ""
    proposal = proposed(study, mic)
    patch = gate_patch(mic, proposal, range_db)
    before = ring_level_dbfs(study, mic, wakes, hz)
    after = ring_level_dbfs(study.tried(patch), mic, wakes, hz)
    return Finding(
        NAME,
        "sympathy",
        piece,
        spoken(
            f"{label(piece)} rings at {hz:.0f} Hz for {decay.t60_s:.1f} s whenever the {label(waker)} "
            f"plays ({len(wakes)} hits measured). A gate on its own hits lowers the ring by "
            f"{before - after:.0f} dB."
        ),
        {
            "hz": round(hz, 1),
            "t60_s": round(decay.t60_s, 2),
            "woken_by": waker,
            "rise_db": round(decay.rise_db, 1),
            "hits": len(wakes),
        },
        float(np.clip(0.55 + decay.rise_db / 50, 0.6, 0.97)),
        patch,
        {"ring_dbfs": Change(round(before, 1), round(after, 1))},
        mic=mic,
        bars=study.bars_around(wakes[len(wakes) // 2]),
        others=[
            *_half_shut(study, mic, proposal, wakes, hz, range_db),
            *_notched(study, mic, proposal, wakes, hz),
            *_notch(study, mic, wakes, hz),
        ],
    )


def _half_shut(
    study: Study, mic: str, proposal: GateProposal, wakes: list[float], hz: float, range_db: float
) -> list[Way]:
    """The same gate with less range."""
    if range_db > HALF_SHUT_DB - LEAST_LESS_DB:
        return []
    patch = gate_patch(mic, proposal, HALF_SHUT_DB)
    before, after = (ring_level_dbfs(s, mic, wakes, hz) for s in (study, study.tried(patch)))
    said = f"a gate that shuts by {-HALF_SHUT_DB:.0f} dB and keeps the kit audible."
    return _way("half a gate", said, patch, before, after)


def _notched(
    study: Study, mic: str, proposal: GateProposal, wakes: list[float], hz: float
) -> list[Way]:
    """The same gate, which shuts the ring and nothing else."""
    path = f"mics.{mic}.clean"
    patch = {
        **gate_patch(mic, proposal, DEEPEST_NOTCH_DB),
        f"{path}.shuts": "ring",
        f"{path}.ring_hz": round(hz, 1),
    }
    before, after = (ring_level_dbfs(s, mic, wakes, hz) for s in (study, study.tried(patch)))
    said = f"a notch at {hz:.0f} Hz between the drum's own hits; the hits stay as they are."
    return _way("notch while it rings", said, patch, before, after)


def _notch(study: Study, mic: str, wakes: list[float], hz: float) -> list[Way]:
    """A cut where the drum sings, which its own hits pay for too."""
    place = free_band(study, mic, RING, set())
    if place is None:
        return []
    patch = band_patch(place, hz, NOTCH_DB, NOTCH_Q)
    before, after = (
        line_level_dbfs(s.sound(mic, "equalised"), study.rate, wakes, hz)
        for s in (study, study.tried(patch))
    )
    said = f"a notch at {hz:.0f} Hz. It takes {-NOTCH_DB:.0f} dB off the drum's own hits there too."
    return _way("notch", said, patch, before, after)


def _way(
    name: str, said: str, patch: Mapping[str, object], before: float, after: float
) -> list[Way]:
    """A way with what it takes off the ring; none where that is too little."""
    if after > before - LEAST_TAKEN_DB:
        return []
    gain = {"ring_dbfs": Change(round(before, 1), round(after, 1))}
    return [Way(name, spoken(f"{before - after:.0f} dB off the ring: {said}"), patch, gain)]


def ring_level_dbfs(study: Study, mic: str, wakes: list[float], hz: float) -> float:
    """`line_level_dbfs` after the gate."""
    return line_level_dbfs(study.sound(mic, "clean"), study.rate, wakes, hz)


def line_level_dbfs(
    audio: NDArray[np.float32], rate: int, onsets_s: list[float], hz: float
) -> float:
    """Level in dBFS of a line of ``audio`` ``(frames,)`` 150 to 400 ms after hits: the median over them."""
    rows = hit_windows(audio, rate, onsets_s, 0.0, 0.4)[:, round(0.15 * rate) :]
    window = np.hanning(rows.shape[1])
    turn = np.exp(-2j * np.pi * hz * np.arange(rows.shape[1]) / rate)
    level = 2 * np.abs(rows * window @ turn) / window.sum()
    return float(np.median(amplitudes_to_db(level)))
