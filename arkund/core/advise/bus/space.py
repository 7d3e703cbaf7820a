"""Bus, space: a room or a plate where the kit is dry for its school, fed by the drums' hits alone.

How dry a kit is, is heard in its mix: how long the snare takes to fall where no other drum plays, against the gap to
the snare's next hit. What the room adds is measured in the same way, and on the whole card; it is a matter of taste
besides, so it asks.
"""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from scipy import signal

from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.goal import costs_a_goal, is_finished
from arkund.core.advise.heard import gap_ms, heard, heard_times
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.kit.roles import parse_mic_name
from arkund.core.measure.hits import mean_envelope_db
from arkund.core.measure.loudness import loudness_lufs
from arkund.core.process.room import Room
from arkund.core.sheet.channels import Bus, Send
from arkund.core.sheet.lanes import sounding_mics
from arkund.core.sheet.sheet import Sheet
from arkund.core.units import SILENCE_DB

NAME = "space"

WANTED = {"punch_size": 0.15, "size": 0.2}
"""A kit is dry where the snare has fallen within this share of its gap. A school that draws its rooms in wants none."""

UNDER_LU = {"punch_size": 18.0, "size": 15.0}
"""How far the room lies under the mix."""

BUS = "space"
FED = {"snare_top": 0.0, "tom": -3.0}
"""What feeds it, in dB: drums that are heard one by one. A kick in a room is a rumble."""

BODY_HZ = (200.0, 1500.0)
"""Where a snare rings and a hat does not."""

FALL_DB, LONGEST_S, POINTS = 30.0, 1.2, 240
ALONE_S = 0.3
FEWEST = 4
DECAY_S = (0.35, 1.8)
LEAST_GAIN = 1.15
"""A room that makes the snare fall less than this much later adds nothing that is worth a bus."""


def find(study: Study, subject: str, school: School) -> list[Finding]:
    """A room on a bus of its own for a finished kit that is dry; none where there is one, or where the card would
    lose a goal by it."""
    sheet = study.sheet
    if school.goal not in WANTED or not is_finished(sheet) or _has_room(sheet):
        return []
    sends = _sends(sheet)
    times = _alone(study)
    if not sends or len(times) < FEWEST:
        return []
    gap = gap_ms(heard_times(study, ("snare",)), 50)
    now, wanted = fall_ms(study, times), WANTED[school.goal] * gap
    if now >= wanted:
        return []
    room = Room(on=True, mix=1.0, surface="plate" if school.goal == "size" else "room").model_copy(
        update={"decay_s": round(float(np.clip(gap / 1000.0, *DECAY_S)), 2)}
    )
    bus = Bus(sends=sends, chain=(room,), fader_db=0.0)
    at_unity = study.tried({f"buses.{BUS}": bus.model_dump()})
    wet = loudness_lufs(heard(at_unity, at_unity.graph.chains[BUS].end), study.rate)
    dry = loudness_lufs(heard(study, study.graph.sum), study.rate)
    if SILENCE_DB in (wet, dry):
        return []
    blend = round(2 * float(np.clip(dry - UNDER_LU[school.goal] - wet, -60, 12))) / 2
    patch = {f"buses.{BUS}": bus.model_copy(update={"fader_db": blend}).model_dump()}
    tried = study.tried(patch)
    then = fall_ms(tried, times)
    if then < LEAST_GAIN * now or costs_a_goal(study, tried, school):
        return []
    return [
        Finding(
            NAME,
            "dry",
            subject,
            spoken(
                f"The kit is dry for {school.name}: the snare falls by {FALL_DB:.0f} dB in {now:.0f} ms, its next hit "
                f"comes after {gap:.0f} ms. A {room.surface} of {room.decay_s:g} s, fed by the hits of snare and toms "
                f"alone and {UNDER_LU[school.goal]:.0f} LU under the mix, makes that {then:.0f} ms."
            ),
            {"gap_ms": round(gap), "wanted_ms": round(wanted)},
            0.6,
            patch,
            {"snare_falls_ms": Change(round(now), round(then))},
            row="goal",
            school=school.name,
            asks=True,
        )
    ]


def fall_ms(study: Study, times: Sequence[float]) -> float:
    """How long the mix takes to fall by `FALL_DB` after hits at ``times`` (s), in ms, in the snare's band."""
    sound = heard(study, study.graph.output)
    band = signal.butter(2, BODY_HZ, "bandpass", fs=study.rate, output="sos")
    mono: NDArray[np.float32] = signal.sosfilt(band, sound.mean(axis=1)).astype(np.float32)
    envelope = mean_envelope_db(mono, study.rate, times, LONGEST_S, POINTS)
    peak = int(np.argmax(envelope[: POINTS // 8]))
    under = np.flatnonzero(envelope[peak:] < envelope[peak] - FALL_DB)
    return 1000.0 * LONGEST_S * (under[0] if len(under) else POINTS - peak) / POINTS


def _alone(study: Study) -> list[float]:
    """Snare hits after which no drum plays for `ALONE_S`."""
    every = np.sort(np.asarray(heard_times(study), np.float64))
    own = heard_times(study, ("snare",))
    return [t for t in own if not np.any((every > t + 0.02) & (every < t + ALONE_S))]


def _sends(sheet: Sheet) -> dict[str, Send]:
    roles = {
        mic: parse_mic_name(mic).role for mic in sounding_mics(sheet) if not sheet.mics[mic].mute
    }
    return {m: Send(db=FED[r], pre=False, by_hits=True) for m, r in roles.items() if r in FED}


def _has_room(sheet: Sheet) -> bool:
    channels = (*sheet.mics.values(), *sheet.groups.values(), *sheet.buses.values(), sheet.drum_bus)
    return BUS in sheet.buses or any(s.on for c in channels for s in c.stages(Room))


def _subjects(sheet: Sheet) -> list[str]:
    return [BUS] if _sends(sheet) else []


def _reads(sheet: Sheet, subject: str) -> list[object]:
    return [sheet.mics, sheet.layers, sheet.groups, sheet.buses, sheet.drum_bus, sheet.over]


MODULE = Module(NAME, "bus", 1, _subjects, _reads, find)
