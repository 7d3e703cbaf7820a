"""Level, balance: faders that start the mix, pans from where each drum sits in the overheads."""

import numpy as np

from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.level.trims import typical_dbfs
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.align.solving import centre_of
from arkund.core.kit.roles import label, parse_mic_name
from arkund.core.measure.levels import hit_peaks
from arkund.core.sheet.pairs import lane
from arkund.core.sheet.sheet import Sheet
from arkund.core.units import amplitudes_to_db, power_to_db, samples_to_ms

NAME = "balance"
LEAD_DBFS = -12.0
"""Where the typical hit of what leads comes out of its fader."""

UNDER_LEAD_DB = {
    "kick_and_snare": {
        "kick_in": 0,
        "kick_out": -4,
        "kick_sub": -6,
        "snare_top": 0,
        "snare_side": -6,
        "snare_bottom": -4,
        "tom": -3,
        "hat": -14,
        "ride": -12,
        "crash": -10,
        "overhead": -6,
        "room": -11,
        "crush": -15,
        "kit": -3,
    },
    "overheads": {
        "kick_in": -2,
        "kick_out": -5,
        "kick_sub": -7,
        "snare_top": -3,
        "snare_side": -8,
        "snare_bottom": -7,
        "tom": -5,
        "hat": -17,
        "ride": -15,
        "crash": -12,
        "overhead": 0,
        "room": -8,
        "crush": -15,
        "kit": 0,
    },
}
"""Typical hits against what leads: toms about 3 dB under, snare bottom 4 under top."""

GROUPS = {
    "kick": ("kick_in", "kick_out", "kick_sub"),
    "snare": ("snare_top", "snare_bottom", "snare_side"),
    "toms": ("tom",),
    "cymbals": ("hat", "ride", "crash"),
    "overheads": ("overhead", "kit"),
    "rooms": ("room",),
    "crush": ("crush",),
}
WORTH_PANNING_DB = 1.5
FULL_SIDE_DB, FULL_SIDE_MS = 14.0, 0.8
"""A difference of level and one of time between the overheads that each stand for one side altogether.
They add up: 7.5 % a dB and 13 % a tenth of a ms (Wittek and Theile, 2002)."""

WIDEST_PAN = 0.7


def find(study: Study, group: str, school: School) -> list[Finding]:
    """Faders and pans that bring a group of mics to its place in the school's balance."""
    mics = [
        m
        for m in study.with_role(*GROUPS[group])
        if study.facts.measures[m]["peak_dbfs"] > -150 and lane(study.sheet, m)[0] == m
    ]
    if not mics:
        return []
    return [*_faders(study, group, mics, school), *(f for m in mics for f in _pan(study, m))]


def out_dbfs(study: Study, mic: str) -> float:
    """The typical hit's peak on its way out of the mic's fader."""
    times = study.plain_times(mic)
    if not times:
        return -200.0
    peaks = amplitudes_to_db(hit_peaks(study.sound(mic, "shaped"), study.rate, times))
    return typical_dbfs(peaks) + study.sheet.mics[mic].fader_db


def _faders(study: Study, group: str, mics: list[str], school: School) -> list[Finding]:
    """A start for faders that nobody has touched; a balance made by ear is left alone."""
    if any(study.sheet.mics[m].fader_db for m in mics):
        return []
    under = UNDER_LEAD_DB[school.balance]
    patch: dict[str, float] = {}
    gain: dict[str, Change] = {}
    for mic in mics:
        # Of a linked pair the louder side counts for both.
        now = max(out_dbfs(study, side) for side in lane(study.sheet, mic))
        if now <= -150:
            continue
        target = LEAD_DBFS + under[parse_mic_name(mic).role]
        if school.overheads == "lead" and parse_mic_name(mic).is_close:
            target -= 2.0
        fader = round(float(np.clip(target - now, -60, 12)) * 2) / 2
        if fader:
            patch[f"mics.{mic}.fader_db"] = fader
            gain[f"{mic}_dbfs"] = Change(round(now, 1), round(now + fader, 1))
    if not patch:
        return []
    shown = ", ".join(f"{label(p.split('.')[1])} {v:+.1f}" for p, v in patch.items())
    first = next(iter(gain.values()))
    lead = {"kick_and_snare": "kick and snare", "overheads": "the overheads"}[school.balance]
    return [
        Finding(
            NAME,
            "faders",
            group,
            spoken(
                f"The typical hit leaves its fader at {first.now:.1f} dBFS. Balanced from {lead}, it "
                f"leaves at {first.then:.1f}: {shown} dB."
            ),
            {m: c.now for m, c in gain.items()},
            0.7,
            patch,
            gain,
            row="balance",
            school=school.name,
            mic=mics[0],
        )
    ]


def _pan(study: Study, mic: str) -> list[Finding]:
    name = parse_mic_name(mic)
    sides = [study.with_role("overhead")[i : i + 1] for i in (0, 1)]
    over = {parse_mic_name(s[0]).side: s[0] for s in sides if s}
    settings = study.sheet.mics[mic]
    if name.role not in ("tom", "hat", "ride", "crash") or set(over) != {"l", "r"} or settings.pan:
        return []
    piece = name.piece or ""
    others = np.array([h.time_s for h in study.hits if h.piece != piece])
    times = [h.time_s for h in study.hits_on(piece, ghosts=False)]
    alone = [t for t in times if not len(others) or np.min(np.abs(others - t)) > 0.03]
    if len(alone) < 3:
        return []
    difference = _left_over_right(study, over["l"], over["r"], alone)
    earlier_ms = _earlier_at_left_ms(study, piece)
    place = -difference / FULL_SIDE_DB - (earlier_ms or 0.0) / FULL_SIDE_MS
    pan = round(float(np.clip(place, -WIDEST_PAN, WIDEST_PAN)) * 20) / 20
    if abs(place) < WORTH_PANNING_DB / FULL_SIDE_DB or not pan:
        return []
    agree = earlier_ms is None or difference * earlier_ms >= 0
    confidence = (0.8 if len(alone) >= 4 else 0.65) - (0 if agree else 0.25)
    return [
        Finding(
            NAME,
            "pan",
            mic,
            spoken(
                f"Pan {label(mic)} {abs(pan) * 100:.0f} % {'left' if pan < 0 else 'right'}: "
                f"{_heard(difference, earlier_ms, label(piece))}."
            ),
            {
                "left_over_right_db": round(difference, 1),
                "hits": len(alone),
                "left_before_right_ms": None if earlier_ms is None else round(earlier_ms, 2),
            },
            confidence,
            {f"mics.{mic}.pan": pan},
            {"pan": Change(0.0, pan)},
            mic=mic,
        )
    ]


def _heard(difference_db: float, earlier_ms: float | None, drum: str) -> str:
    """Where the overheads hear a drum, in words."""
    louder = "left" if difference_db > 0 else "right"
    said = f"{drum} is {abs(difference_db):.1f} dB louder"
    if earlier_ms is None or abs(earlier_ms) < 0.02:
        return f"{said} in the {louder} overhead"
    earlier = "left" if earlier_ms > 0 else "right"
    if earlier == louder:
        return f"{said} and {abs(earlier_ms):.2f} ms earlier in the {louder} overhead"
    return f"{said} in the {louder} overhead, but {abs(earlier_ms):.2f} ms earlier in the {earlier} one"


def _earlier_at_left_ms(study: Study, piece: str) -> float | None:
    """How much earlier the left overhead hears a piece than the right one as they stand; None where
    that is not sure."""
    stand = {m: study.sheet.mics[m].delay_samples for m in study.mics}
    found = centre_of(study.facts.pairs, piece, "overhead", stand)
    if found is None or not found.sure:
        return None
    ms = samples_to_ms(found.samples, study.rate)
    return ms if parse_mic_name(found.early).side == "l" else -ms


def _left_over_right(study: Study, left: str, right: str, times: list[float]) -> float:
    """Level of the first 20 ms of hits in the left overhead over the right, in dB."""
    powers = []
    for mic in (left, right):
        sound = study.sound(mic, "placed")
        shift = study.sheet.mics[mic].delay_samples / study.rate
        parts = [
            sound[round((t + shift) * study.rate) : round((t + shift + 0.02) * study.rate)]
            for t in times
        ]
        powers.append([float(np.mean(np.square(p, dtype=np.float64))) + 1e-14 for p in parts])
    ratios = [power_to_db(a) - power_to_db(b) for a, b in zip(*powers, strict=True)]
    trims = study.sheet.mics[left].trim_db - study.sheet.mics[right].trim_db
    return float(np.median(ratios)) - trims


def _reads(sheet: Sheet, group: str) -> list[object]:
    wanted = GROUPS[group]
    own = [m for _, m in sorted(sheet.mics.items()) if m.role in wanted]
    over = [
        (m.trim_db, m.delay_samples, m.repair, m.polarity)
        for _, m in sorted(sheet.mics.items())
        if m.role == "overhead"
    ]
    places = [(n, m.delay_samples) for n, m in sorted(sheet.mics.items())]
    return [own, over, places]


def _subjects(sheet: Sheet) -> list[str]:
    roles = {m.role for m in sheet.mics.values()}
    return [g for g, wanted in GROUPS.items() if roles & set(wanted)]


MODULE = Module(NAME, "level", 3, _subjects, _reads, find)
