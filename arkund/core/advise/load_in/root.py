"""Load-in: the note that kick and toms are tuned around, proposed as the song's root."""

import numpy as np

from arkund.core.advise.finding import Finding, spoken
from arkund.core.advise.module import Module
from arkund.core.advise.pitch import drum_hz
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.kit.roles import label, piece_family
from arkund.core.units import NOTE_NAMES, hz_to_note

NAME = "root"
WEIGHTS = {"kick": 2.0, "tom": 1.0}
NEAR_SEMITONES = 0.5
AGREES = 3.0
"""Weight that must stand behind a note (the kick and a tom, or three toms) to be sure of it."""


def find(study: Study, subject: str, school: School) -> list[Finding]:
    """The pitch class on which most of kick and toms lie; fifths of it count half."""
    if study.sheet.root_note:
        return []
    tuned = {}
    for piece in study.pieces:
        if piece_family(piece) not in WEIGHTS:
            continue
        if (hz := drum_hz(study, piece)) > 0:
            tuned[piece] = hz
    if not tuned:
        return []
    pitches = {p: 12 * float(np.log2(hz / 440.0)) + 9 for p, hz in tuned.items()}

    def behind(root: int) -> float:
        total = 0.0
        for piece, pitch in pitches.items():
            for interval, worth in ((0, 1.0), (7, 0.5)):
                off = (pitch - root - interval + 6) % 12 - 6
                if abs(off) <= NEAR_SEMITONES:
                    total += worth * WEIGHTS[piece_family(piece)]
        return total

    best = max(range(12), key=behind)
    sure = behind(best) >= AGREES
    note = NOTE_NAMES[best]
    heard = ", ".join(f"{label(p)} {hz:.1f} Hz ({hz_to_note(hz)})" for p, hz in tuned.items())
    text = (
        f"Kick and toms are tuned around {note}: {heard}."
        if sure
        else f"Kick and toms share no note: {heard}. {note} is nearest; check against the bass."
    )
    return [
        Finding(
            NAME,
            "note",
            "song",
            spoken(f"{text} Sub layers and rings are named against the root."),
            {"note": note, **{f"{p}_hz": round(hz, 1) for p, hz in tuned.items()}},
            0.75 if sure else 0.45,
            {"root_note": note},
        )
    ]


MODULE = Module(
    NAME, "load-in", 1, lambda sheet: ["song"], lambda sheet, subject: [sheet.root_note], find
)
