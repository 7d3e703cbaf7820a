"""Clean: gates that the school asks for, and drums that sing when another is struck."""

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from arkund.core.advise.eq import RING, band_patch, free_band
from arkund.core.advise.finding import Change, Finding, Way, spoken
from arkund.core.advise.module import Module
from arkund.core.advise.never_hit import open_moments
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.clean.keying import LEAST_GAIN_DB, KeyFilter, propose_key
from arkund.core.clean.proposal import (
    GateProposal,
    GateReport,
    propose_gate,
    report_gate,
    separate,
)
from arkund.core.clean.rule import SOFT_MS
from arkund.core.graph.hits import Hits
from arkund.core.graph.sources import gate_rule
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import label, parse_mic_name, piece_family
from arkund.core.measure.hits import hit_windows
from arkund.core.measure.landmarks import (
    LONGEST_RING_S,
    LineDecay,
    fundamental_hz,
    late_t60_s,
    line_decay,
    line_prominence_db,
)
from arkund.core.measure.levels import hit_peaks
from arkund.core.process.equaliser import Equaliser
from arkund.core.process.key import Key
from arkund.core.sheet.channels import DEEPEST_NOTCH_DB, NOTCH_Q, OFF_DB, Clean
from arkund.core.sheet.lanes import kit_mics
from arkund.core.sheet.sheet import Sheet
from arkund.core.units import amplitude_to_db, amplitudes_to_db, power_to_db

NAME = "clean"
LEAST_TAKEN_DB = 3.0
"""A gate takes at least so much: of bleed between hits, or of the ring of a drum that sings."""

TOM_RANGE_DB = {"strip": -40.0, "tuck": -15.0}
SNARE_RANGE_DB = {"hits": -24.0, "tuck": -12.0}
OTHER_RANGE_DB = -30.0

BLEED_ASKS_DB = -30.0
"""Bleed between hits louder than this against the typical hit asks for a gate."""

CLEAN_DB = -60.0
"""Where it is under this, a gate has nothing to do."""

SINGS_FOR_S = 0.5
SINGS_RISE_DB = 8.0
SINGS_PROMINENCE_DB = 10.0
LEAST_WAKES = 6


def find(study: Study, mic: str, school: School) -> list[Finding]:
    """The gate that the school asks for, or that a drum needs which sings with another."""
    if parse_mic_name(mic).piece is None or study.facts.measures[mic]["peak_dbfs"] <= -150:
        return []
    if study.has_no_hits(mic):
        return _unplayed(study, mic, school)
    sings = _sympathy(study, mic, school)
    # One gate answers both: where a drum sings, its gate is proposed for that.
    return sings or _gate(study, mic, school)


def _unplayed(study: Study, mic: str, school: School) -> list[Finding]:
    """The mic of a tom without a hit in the song, where bleed in toms is not left: it is muted once an ear
    has called all of its loudest moments bleed, and never before (`never_hit`)."""
    settings = study.sheet.mics[mic]
    if settings.mute or settings.clean.on or school.toms not in TOM_RANGE_DB:
        return []
    name = parse_mic_name(mic)
    if name.role != "tom" or not study.is_said_unplayed(mic):
        return []
    if open_moments(study, name.piece or ""):
        return []
    peak = amplitude_to_db(float(np.abs(study.sound(mic, "placed")).max(initial=0.0)))
    return [
        Finding(
            NAME,
            "unplayed",
            mic,
            spoken(
                f"{label(mic).capitalize()} is never hit: you called its loudest moments bleed, and "
                f"they reach {peak:.1f} dBFS. Muting it removes that bleed."
            ),
            {"hits": 0, "peak_dbfs": round(peak, 1)},
            0.85,
            {f"mics.{mic}.mute": True},
            {"peak_dbfs": Change(round(peak, 1), OFF_DB)},
            row="toms",
            school=school.name,
            mic=mic,
        )
    ]


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
    delay = study.sheet.mics[mic].delay_samples
    rate = study.rate
    sound = study.sound(mic, "placed")
    strays = [h.time_s for h in study.unlisted if h.piece == piece]
    mic_so = study.sheet.mics[mic].model_copy(update={"clean": settings})
    rule = gate_rule(mic_so, rate, lambda: Hits([*study.hits, *study.unlisted]))
    key = sound
    if settings.opens_on == "threshold":
        heard = study.graph.node(f"{mic}.clean.key")
        key = np.ascontiguousarray(study.engine.read(heard, 0, study.sheet.frames))
    openings = rule.openings([(0, key)], len(sound))
    return report_gate(
        sound,
        rate,
        piece,
        study.hits,
        openings,
        rule.shape(openings),
        delay,
        strays,
        settings.ghosts_db,
    )


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


def _proposed(study: Study, mic: str) -> GateProposal:
    piece = parse_mic_name(mic).piece or ""
    return propose_gate(
        study.sound(mic, "placed"),
        study.rate,
        piece,
        study.hits,
        study.sheet.mics[mic].delay_samples,
    )


def _patch(mic: str, proposal: GateProposal, range_db: float) -> dict[str, object]:
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


def _gate(study: Study, mic: str, school: School) -> list[Finding]:
    range_db, row = wanted_range_db(mic, school)
    now = study.sheet.mics[mic].clean
    piece = parse_mic_name(mic).piece or ""
    if now.on:
        # What was drawn by hand is the engineer's.
        if now.opens_on == "hand" or not report(study, mic, now).missed:
            return []
        range_db = now.range_db
    if range_db is None or not study.hits_on(piece):
        return []
    bleed_db = _bleed_under_hit_db(study, mic)
    asked = row != "other_gates" or school.other_gates == "hits" or bleed_db > BLEED_ASKS_DB
    if not now.on and (not asked or bleed_db < CLEAN_DB):
        return []
    proposal = _proposed(study, mic)
    patch = _patch(mic, proposal, range_db)
    wanted = now.model_copy(update={k.rsplit(".", 1)[1]: v for k, v in patch.items()})
    does = report(study, mic, wanted)
    before = report(study, mic, now).bleed_reduction_db if now.on else 0.0
    if not now.on and does.bleed_reduction_db < LEAST_TAKEN_DB:
        return []
    missed = f", {does.missed} missed" if does.missed else ""
    strays = f", {does.unlisted} × opened without a hit in the list" if does.unlisted else ""
    ghosts = f", {does.ghosts_kept} of {does.ghosts} ghosts kept" if does.ghosts else ""
    start = f"The gate as set misses {report(study, mic, now).missed} hits. " if now.on else ""
    return [
        Finding(
            NAME,
            "gate",
            mic,
            spoken(
                f"{start}A gate on the {does.hits} hits of {label(mic)} lowers the bleed between them by "
                f"{does.bleed_reduction_db:.1f} dB: open for "
                f"{proposal.hold_ms + proposal.release_ms:.0f} ms, {range_db:.0f} dB when shut; "
                f"{does.passed} passed{missed}{ghosts}{strays}."
            ),
            {
                "passed": does.passed,
                "missed": does.missed,
                "ghosts": does.ghosts,
                "ghosts_kept": does.ghosts_kept,
                "false_open": does.false_open,
                "unlisted": does.unlisted,
                "bleed_under_hit_db": round(bleed_db, 1),
            },
            0.5 if proposal.doubtful else 0.9 if not does.missed else 0.65,
            patch,
            {"bleed_reduction_db": Change(round(before, 1), does.bleed_reduction_db)},
            row=row,
            school=school.name,
            mic=mic,
        )
    ]


def _bleed_under_hit_db(study: Study, mic: str) -> float:
    """Level between hits (RMS) under the typical hit's peak."""
    sound = study.sound(mic, "placed")
    times = study.plain_times(mic)
    if not times:
        return -120.0
    typical = float(np.median(amplitudes_to_db(hit_peaks(sound, study.rate, times))))
    between = np.ones(len(sound), bool)
    shift = study.sheet.mics[mic].delay_samples / study.rate
    for h in study.hits_on(parse_mic_name(mic).piece or ""):
        at = h.time_s + shift
        between[max(round((at - 0.02) * study.rate), 0) : round((at + 0.4) * study.rate)] = False
    if not between.any():
        return -120.0
    return power_to_db(float(np.mean(np.square(sound[between], dtype=np.float64)))) - typical


def _sympathy(study: Study, mic: str, school: School) -> list[Finding]:
    """A tom whose own fundamental swells and rings on when the kick or snare is struck."""
    piece = parse_mic_name(mic).piece or ""
    c = study.sheet.mics[mic].clean
    # A school that leaves the toms alone leaves this too.
    if school.toms == "leave":
        return []
    if piece_family(piece) != "tom" or (c.on and c.opens_on == "hits" and c.range_db <= -10):
        return []
    own = [h.time_s for h in study.hits_on(piece)]
    sound = study.sound(mic, "placed")
    hz = fundamental_hz(sound, study.rate, own, "tom")
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
    proposal = _proposed(study, mic)
    patch = _patch(mic, proposal, range_db)
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


HALF_SHUT_DB, LEAST_LESS_DB, NOTCH_DB = -12.0, 8.0, -9.0


def _half_shut(
    study: Study, mic: str, proposal: GateProposal, wakes: list[float], hz: float, range_db: float
) -> list[Way]:
    """The same gate with less range."""
    if range_db > HALF_SHUT_DB - LEAST_LESS_DB:
        return []
    patch = _patch(mic, proposal, HALF_SHUT_DB)
    before, after = (ring_level_dbfs(s, mic, wakes, hz) for s in (study, study.tried(patch)))
    said = f"a gate that shuts by {-HALF_SHUT_DB:.0f} dB and keeps the kit audible."
    return _way("half a gate", said, patch, before, after)


def _notched(
    study: Study, mic: str, proposal: GateProposal, wakes: list[float], hz: float
) -> list[Way]:
    """The same gate, which shuts the ring and nothing else."""
    path = f"mics.{mic}.clean"
    patch = {
        **_patch(mic, proposal, DEEPEST_NOTCH_DB),
        f"{path}.shuts": "ring",
        f"{path}.ring_hz": round(hz, 1),
    }
    before, after = (ring_level_dbfs(s, mic, wakes, hz) for s in (study, study.tried(patch)))
    said = f"a notch at {hz:.0f} Hz between the drum's own hits; the hits stay as they are."
    return _way("notch while it sings", said, patch, before, after)


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


def _reads(sheet: Sheet, mic: str) -> list[object]:
    m = sheet.mics[mic]
    first = [
        (n, s.delay_samples, s.repair, s.trim_db, s.polarity)
        for n, s in sorted(sheet.mics.items())
        if s.role in ("kick_in", "kick_out", "snare_top")
    ]
    own = [m.repair, m.trim_db, m.polarity, m.delay_samples, m.clean, m.mute, m.first(Equaliser)]
    return [*own, first]


MODULE = Module(NAME, "clean", 9, kit_mics, _reads, find)
