"""Answers by problem: what an engineer says is wrong, where it is put right, and what was found on it in a song."""

from dataclasses import dataclass
from fnmatch import fnmatchcase
from typing import Any
from urllib.parse import urlencode

from arkund.core.sheet.lanes import mic_order
from arkund.core.sheet.sheet import Sheet
from arkund.songs import findings
from arkund.songs.models import Song
from arkund.songs.timing import sheet_of


@dataclass(frozen=True)
class Problem:
    """A complaint, its ``answer``, the ``station`` where it is put right and the pieces whose mic is in hand there
    (the first that the song has). ``findings`` are patterns of ids that speak of it."""

    name: str
    said: str
    answer: str
    station: str
    pieces: tuple[str, ...] = ()
    findings: tuple[str, ...] = ()


PROBLEMS = (
    Problem(
        "boxy-snare",
        "My snare is boxy",
        "Boxiness is too much 300–600 Hz for its attack. Cut it there on the snare top, narrow if it rings on"
        " one note, and compare equally loud. A reflection between top and bottom can do the same: align the "
        "two mics first.",
        "eq",
        ("snare",),
        ("eq.box:snare*", "eq.ring:snare*", "align.*:snare*"),
    ),
    Problem(
        "hat-everywhere",
        "The hat is everywhere",
        "The hat mostly comes in by the snare top and the overheads. Gate the snare top on its hits, lower or"
        " mute the hat mic, and make treble boosts on the snare dynamic, so that they open on its hits alone."
        " Level shows who carries it.",
        "clean",
        ("snare",),
        ("clean.gate:snare*", "balance.*:hat*", "level.trim:hat*"),
    ),
    Problem(
        "kick-weight",
        "The kick has no weight next to the bass",
        "Let one of them own the lowest octave. Lift the kick's fundamental, cut the bass there or duck it by"
        " the kick, and check that kick in and kick out do not cancel. Sections, “In the song”, shows where "
        "the bass hides the kick.",
        "eq",
        ("kick",),
        ("eq.body:kick*", "low_end.*", "align.*:kick*", "replace.under:kick*"),
    ),
    Problem(
        "louder-not-punchier",
        "It got louder, not punchier",
        "Loudness wins every unfair comparison. Keep “matched” on, and read the punch card: attack over body,"
        " and low end in the first 50 ms, at equal peak. If the attack fell, slow the compressors' attack or "
        "lower their mix.",
        "first-pass",
        (),
        ("goal.*", "dynamics.*", "density.*", "mix.peak:*"),
    ),
    Problem(
        "overheads-pull",
        "The overheads pull to one side",
        "Measure where the snare sits between them. Delay the nearer overhead or level the pair until the "
        "snare is in the middle; do not pan it there.",
        "align",
        ("overhead",),
        ("align.centre:*", "align.delay:overhead*", "level.trim:overhead*"),
    ),
    Problem(
        "thin-snare",
        "The snare is thin",
        "Flip the polarity of the snare bottom first; then line top, bottom and overheads up. Only then lift "
        "its body, between 150 and 250 Hz.",
        "align",
        ("snare",),
        ("align.polarity:snare*", "align.delay:snare*", "eq.body:snare*"),
    ),
    Problem(
        "lost-ghosts",
        "Ghost notes vanish",
        "A gate that opens on the hit list keeps them, whatever their level. Choose “hits”, check that the "
        "ghosts are in the list on Edit, and set the range rather than the threshold.",
        "clean",
        ("snare",),
        ("clean.gate:snare*", "unexplained.*"),
    ),
    Problem(
        "missing-tom",
        "A tom hit is missing",
        "Look on Edit: a gate on hits passes only what is in the hit list. Add the hit there with a "
        "double click, or answer the question on that tom. Nothing is muted on a guess.",
        "edit",
        ("tom",),
        ("never_hit.*", "unexplained.*", "edit.dropped:*", "clean.unplayed:*"),
    ),
    Problem(
        "ringing-toms",
        "The toms ring into everything",
        "A tom answers the kick on its own note. Gate it on its own hits, or cut that note while the kick "
        "plays. Shorten a ring before you cut it: the note is also its body.",
        "clean",
        ("tom",),
        ("clean.sympathy:*", "clean.gate:tom*", "eq.ring:tom*"),
    ),
    Problem(
        "harsh-cymbals",
        "The cymbals are harsh",
        "Do not boost what is already bright. Cut 2–5 kHz on the overheads with a dynamic band that the snare"
        " opens, or lower the overheads and let the rooms carry the space. Shape shows who spends the boosts "
        "between 1 and 5 kHz.",
        "eq",
        ("overhead",),
        ("eq.*:overhead*", "balance.*:overheads"),
    ),
    Problem(
        "small-kit",
        "The kit sounds small and dry",
        "Rooms first: squeeze them, and blend them in until you miss them when they are bypassed. Without "
        "rooms, add a bus with a room and feed it by hits, so that no hat is in it. Then lift the chorus, not"
        " the song.",
        "bus",
        (),
        ("bus.blend:*", "balance.faders:rooms", "balance.faders:crush", "sections.more:*"),
    ),
    Problem(
        "flams",
        "Kick and snare flam where they should not",
        "Listen to those bars on Edit. Moving one hit moves it in every mic; replacing it takes a clean hit "
        "from another bar. A flam that was meant stays: decline the finding.",
        "edit",
        ("kick", "snare"),
        ("edit.apart:*", "timing.rule:*"),
    ),
    Problem(
        "clipping",
        "Something clips",
        "Find out where. A mic that clipped when it was recorded can only be rebuilt (Load-in). One wild hit "
        "is trimmed by itself (Level). A mix over full scale wants less drum bus, not a lower master alone.",
        "level",
        (),
        (
            "load-in.clipped:*",
            "level.wild:*",
            "level.headroom:*",
            "mix.peak:*",
            "density.limiter:*",
        ),
    ),
)
"""What is asked most, the most frequent first."""

BY_NAME = {problem.name: problem for problem in PROBLEMS}
ON_THE_DESK = 5
MOST_SAID = 4


def answered(song: Song | None) -> list[dict[str, Any]]:
    """Every problem with its answer; of a song also its findings on it (open ones first) and the mic in hand."""
    if song is None:
        return [{"problem": problem} for problem in PROBLEMS]
    sheet = sheet_of(song)
    known, counting = findings.known_findings(song)
    rows = findings.with_states(song, known)
    return [
        {
            "problem": problem,
            "found": _of(problem, rows),
            "counting": counting,
            "query": urlencode({"mic": mic}) if (mic := _mic(problem, sheet)) else "",
        }
        for problem in PROBLEMS
    ]


def _of(problem: Problem, rows: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """The findings that speak of a problem, in the order of its patterns, open ones first."""
    found = [
        row
        | {"query": urlencode({"finding": row["id"]} | ({"mic": row["mic"]} if row["mic"] else {}))}
        for pattern in problem.findings
        for row in rows
        if fnmatchcase(row["id"], pattern)
    ]
    once = {row["id"]: row for row in found}.values()
    return sorted(once, key=lambda row: row["state"] != findings.OPEN)[:MOST_SAID]


def _mic(problem: Problem, sheet: Sheet) -> str:
    mics = mic_order(sheet)
    return next((mic for piece in problem.pieces for mic in mics if mic.startswith(piece)), "")
