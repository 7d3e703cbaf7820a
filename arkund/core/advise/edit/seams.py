"""Edit: places where an edit can be heard as a click, measured on the edited sound of every mic."""

import itertools
from typing import NamedTuple

import numpy as np

from arkund.core.advise.finding import Finding
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.graph.laying import laid_out
from arkund.core.kit.roles import label
from arkund.core.sheet.lanes import KICK_ROLES
from arkund.core.timing.moves import ALL, KICK
from arkund.core.timing.stretch import Slice, seam_ratio, stands_out
from arkund.core.units import ms_to_samples

NAME = "seams"
QUIET = 1e-4
"""Amplitude of the largest bend under which a seam is masked by anything (−80 dBFS)."""


def find(study: Study, subject: str, school: School) -> list[Finding]:
    """One finding with every suspect seam: seconds, mic, how far it stands out, what it is."""
    places = suspect_seams(study)
    if not places:
        return []
    t, mic, ratio, what = max(places, key=lambda p: p[2])
    count = len(places)
    return [
        Finding(
            NAME,
            "clicks",
            "song",
            f"{count} seam{'s' if count > 1 else ''} may click; the worst is {ratio:.1f} times as rough as "
            f"its surroundings, on {label(mic)} in bar {study.bar_of(t)} ({what}). Listen; a longer "
            "fade or another place for the hit mends it.",
            {"count": count, "places": [[round(t, 4), m, round(r, 2), w] for t, m, r, w in places]},
            0.6,
            mic=mic,
            bars=study.bars_around(t),
        )
    ]


def suspect_seams(study: Study) -> list[tuple[float, str, float, str]]:
    """``(seconds, mic, ratio, what)`` of seams that stand out (`stands_out`), the plainest mic of
    each."""
    sheet, rate = study.sheet, study.rate
    tracks = study.library.edits_of(sheet.moves).tracks if sheet.moves else {}
    joins = [
        (at, f"join into take {s.take}")
        for s in laid_out(sheet)[1:]
        for at in (s.at, s.at - ms_to_samples(s.fade_ms, rate))
    ]
    found: dict[int, tuple[float, str, float, str]] = {}
    for mic in study.mics:
        alone = sheet.mics[mic].role in KICK_ROLES and KICK in tracks
        slices = tracks.get(KICK if alone else ALL, ())
        sound = study.sound(mic, "source")
        seams = [_Seam(_heard_at(at, slices), what) for at, what in joins]
        seams += [
            _Seam(at, "hits moved", (at + before.offset, at + s.offset))
            for before, s in itertools.pairwise(slices)
            for at in (s.at, s.at - s.fade)
        ]
        reach = round(0.03 * rate)
        for at, what, cut_at in seams:
            low = max(at - reach, 0)
            near = sound[low : at + reach]
            if len(near) < reach or float(np.abs(np.diff(near, 2)).max(initial=0.0)) < QUIET:
                continue
            ratio = seam_ratio(near, at - low, rate)
            key = round(at / rate / 0.02)
            if ratio <= found.get(key, (0.0, "", 0.0, ""))[2] or not stands_out(ratio, 0.0):
                continue
            if stands_out(ratio, max((_ratio_before(study, mic, n) for n in cut_at), default=0.0)):
                found[key] = (at / rate, mic, ratio, what)
    return [found[k] for k in sorted(found)]


class _Seam(NamedTuple):
    """A sample at which a seam begins or ends, what it is, and where its two sides were cut from the
    sound before moves."""

    at: int
    what: str
    cut_at: tuple[int, ...] = ()


def _ratio_before(study: Study, mic: str, at: int) -> float:
    """`seam_ratio` of the sound before moves."""
    reach = round(0.03 * study.rate)
    low = max(at - reach, 0)
    return seam_ratio(study.engine.read(study.joined(mic), low, at + reach), at - low, study.rate)


def _heard_at(source: int, slices: tuple[Slice, ...]) -> int:
    """Where a sample of the song before moves is heard."""
    at = source
    for s in slices:
        if s.at + s.offset <= source:
            at = source - s.offset
    return at


MODULE = Module(NAME, "edit", 3, lambda sheet: ["kit"], lambda sheet, subject: [], find)
