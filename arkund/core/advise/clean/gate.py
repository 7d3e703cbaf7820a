"""The gate that the school asks for, or that a drum needs which sings with another."""

import numpy as np

from arkund.core.advise.clean.proposing import (
    LEAST_TAKEN_DB,
    TOM_RANGE_DB,
    gate_patch,
    proposed,
    report,
    wanted_range_db,
)
from arkund.core.advise.clean.sympathy import NAME, sympathy
from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.load_in.never_hit import open_moments
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.kit.roles import label, parse_mic_name
from arkund.core.measure.levels import hit_peaks
from arkund.core.process.equaliser import Equaliser
from arkund.core.sheet.lanes import kit_mics
from arkund.core.sheet.limits import OFF_DB
from arkund.core.sheet.sheet import Sheet
from arkund.core.units import amplitude_to_db, amplitudes_to_db, power_to_db

BLEED_ASKS_DB = -30.0
"""Bleed between hits louder than this against the typical hit asks for a gate."""

CLEAN_DB = -60.0
"""Where it is under this, a gate has nothing to do."""


def find(study: Study, mic: str, school: School) -> list[Finding]:
    """The gate that the school asks for, or that a drum needs which sings with another."""
    if parse_mic_name(mic).piece is None or study.facts.measures[mic]["peak_dbfs"] <= -150:
        return []
    if study.has_no_hits(mic):
        return _unplayed(study, mic, school)
    sings = sympathy(study, mic, school)
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
    proposal = proposed(study, mic)
    patch = gate_patch(mic, proposal, range_db)
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
