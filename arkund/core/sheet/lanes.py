"""The lanes of a sheet: which mics there are, in which order, and where their files and lists lie."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from arkund.core.errors import SheetError
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import BESIDE, OFF_KIT
from arkund.core.sheet.sheet import Sheet
from arkund.core.timing.moves import EditList


def no_edits(digest: str) -> EditList:
    """For songs in which nothing was moved."""
    raise SheetError(f"The edit list {digest[:12]} is missing from the media folder.")


def nothing_unlisted(digest: str) -> Mapping[str, Sequence[float]]:
    """For songs whose analysis does not say what their lists of hits may lack."""
    return {}


@dataclass(frozen=True)
class Library:
    """Where the sheet's content hashes lead: stored sound files, hit lists, edit lists, and what
    an analysis heard of each piece that its list lacks (times in the take in s)."""

    path_of: Callable[[str], Path]
    hits_of: Callable[[str], Sequence[Hit]]
    edits_of: Callable[[str], EditList] = no_edits
    unlisted_of: Callable[[str], Mapping[str, Sequence[float]]] = nothing_unlisted


def mic_order(sheet: Sheet) -> list[str]:
    """Mics in the order in which they are summed and listed."""
    return sorted(sheet.mics, key=lambda name: sheet.mics[name].name.order)


def sounding_mics(sheet: Sheet) -> list[str]:
    """Mics of which the drums are made: in use, and none that stands beside them."""
    return [
        m for m in mic_order(sheet) if not sheet.mics[m].unused and sheet.mics[m].role not in BESIDE
    ]


def kit_mics(sheet: Sheet) -> list[str]:
    """Mics that hear the kit as it was played: without overdubs and what is off it. In these
    hits are found and delays measured."""
    return [
        m
        for m in sounding_mics(sheet)
        if not sheet.mics[m].overdub and sheet.mics[m].role not in OFF_KIT
    ]


HITS = "_hits"
"""Behind a piece's name: its list of hits as a sound to listen to, ``snare_hits``."""


def hit_lists(sheet: Sheet) -> list[str]:
    """The lists of hits that a stage may listen to: of each piece that has a close mic."""
    pieces = (sheet.mics[name].name.piece for name in mic_order(sheet))
    return [f"{piece}{HITS}" for piece in dict.fromkeys(pieces) if piece]


ONE_FILE = ("bed", "reference", "return")
"""Roles whose one file lies under all takes, never cut and never moved."""

KICK_ROLES = ("kick_in", "kick_out", "kick_sub")
