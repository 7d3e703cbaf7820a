"""What a station's changes did to the hits, and which of them are made smaller or left out.

After a station the card is measured on a part of the song. Where a figure lies under the recording
and fell at this station, the changes that can be its cause are halved or left out in turn, and what
gives most of it back decides.
"""

from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from typing import NamedTuple

from arkund.core.advise.excerpt import Excerpt
from arkund.core.advise.finding import Finding, spoken
from arkund.core.advise.goal import LOW_LEVEL, Figure, is_finished
from arkund.core.advise.study import Study
from arkund.core.kit.roles import label, parse_mic_name
from arkund.core.sheet.patches import read_path
from arkund.core.sheet.paths import Patch

STATIONS = {
    "align": ("attack",),
    "clean": ("attack", "over body"),
    "eq": ("attack", "over body"),
    "dynamics": ("attack", "over body"),
    "replace": ("attack", "over body"),
}
"""What is done there can cost hits what no later station gives back; and the figures, besides
the low end, that are looked at. Mics in step have more body, which is no loss of attack."""

FALL_DB, CLOSE_FALL_DB = 0.7, 0.4
"""A figure that fell by less is as it was; and in a kit that is finished already, or by a school that wants no more
attack than was played and so gives none back."""

GIVEN_BACK = 0.5
"""A change is the cause where so much of the fall comes back without it."""

MOST_TRIED = 5
SURE_FLIP = 0.9
HALVED = ("gain_db", "attack_db", "sustain_db", "range_db")
"""Values of which half is half the change."""


@dataclass(frozen=True)
class Kept:
    """The changes that stay, some of them smaller, and those that are left out, with the reason."""

    stay: Sequence[Finding]
    left_out: Sequence[Finding]


def look_back(before: Study, made: Sequence[Finding], excerpt: Excerpt, station: str) -> Kept:
    """``before`` is the kit before the station, ``made`` its changes in order."""
    ends = STATIONS[station]
    stay, left_out = list(made), []
    now = _figures(excerpt, with_changes(before, stay), ends)
    fell = _Fell(is_finished(before.sheet), excerpt.goal.attack_db > 0)
    for name, was in _figures(excerpt, before, ends).items():
        fall = fell.by(was, now[name])
        if fall < fell.least_db:
            continue
        cause = _cause(before, stay, excerpt, ends, was, fell, fall)
        if cause is None:
            continue
        lost = f"{fall:.1f} dB of {name}"
        if cause.instead:
            (finding,) = cause.findings
            reason = spoken(f"{finding.reason} Halved: the whole of it would cost {lost}.")
            stay[stay.index(finding)] = replace(cause.instead, reason=reason)
        else:
            cost = "it would cost" if len(cause.findings) == 1 else "with its like it would cost"
            for finding in cause.findings:
                stay.remove(finding)
                reason = spoken(f"Skipped: {cost} {lost}. {finding.reason}")
                left_out.append(replace(finding, reason=reason))
        now = _figures(excerpt, with_changes(before, stay), ends)
    return Kept(stay, left_out)


class _Cause(NamedTuple):
    """Changes that cost a figure, and what to make instead: half of a single one, or nothing."""

    findings: tuple[Finding, ...]
    instead: Finding | None = None


def _cause(
    before: Study,
    made: Sequence[Finding],
    excerpt: Excerpt,
    ends: tuple[str, ...],
    was: Figure,
    fell: "_Fell",
    fall: float,
) -> _Cause | None:
    """The change without which most of a fall comes back, or half of it where that is enough; else the changes
    of one kind on all mics of the drum. None where nothing gives half of the fall back."""
    best, found = GIVEN_BACK * fall, None

    def left_with(tried: _Cause) -> float:
        others = [tried.instead if f in tried.findings else f for f in made]
        then = with_changes(before, [f for f in others if f])
        return fell.by(was, _figures(excerpt, then, ends, is_beside=True)[was.name])

    with ThreadPoolExecutor(2) as pool:
        suspects = [f for f in made if _may_go(f, before) and _concerns(f, was.name)]
        for finding in suspects[:MOST_TRIED]:
            half, none = _halved(before, finding), _Cause((finding,))
            tried = [_Cause((finding,), half), none] if half else [none]
            *of_half, of_none = pool.map(left_with, tried)
            if of_half and of_half[0] < fell.least_db:
                return tried[0]
            if fall - of_none > best:
                best, found = fall - of_none, none
        if found is None:
            alike = [_Cause(own) for own in _of_one_kind(suspects)]
            for cause, left in zip(alike, pool.map(left_with, alike), strict=True):
                if fall - left > best:
                    best, found = fall - left, cause
    return found


def _of_one_kind(suspects: Sequence[Finding]) -> list[tuple[Finding, ...]]:
    """The suspects that say the same of several mics of the drum, by kind."""
    kinds: dict[str, list[Finding]] = {}
    for finding in suspects:
        kinds.setdefault(finding.kind, []).append(finding)
    return [tuple(own) for own in kinds.values() if len(own) > 1]


def _may_go(finding: Finding, study: Study) -> bool:
    """Whether a change may be left out for what it costs. A flip that is sure is right where a drum's mics oppose
    each other: what a figure loses by it before levels are set is theirs to give back. One of a whole drum against
    the others is as good as what comes of it."""
    if finding.quantity != "polarity" or finding.confidence < SURE_FLIP:
        return True
    drum = parse_mic_name(finding.subject).piece
    flipped = {path.split(".")[1] for path in finding.proposal}
    return bool(drum) and flipped >= set(study.close(drum or ""))


def with_changes(study: Study, made: Sequence[Finding]) -> Study:
    """The study with changes made one after another."""
    patch: dict[str, object] = {}
    for finding in made:
        patch |= finding.proposal
    return study.tried(patch)


def _figures(
    excerpt: Excerpt, study: Study, ends: tuple[str, ...], *, is_beside: bool = False
) -> dict[str, Figure]:
    """Attack, attack over body and low end at equal loudness: what later stations cannot give back
    by being louder."""
    return {
        f.name: f
        for f in excerpt.wanted(excerpt.card(study, is_beside=is_beside))
        if f.name.endswith((*ends, LOW_LEVEL))
    }


@dataclass(frozen=True)
class _Fell:
    """How far figures fell: in a kit under way so far as they lie under the recording, in a ``finished`` one all the
    way. ``gives_back`` says whether later stations lift attacks."""

    finished: bool
    gives_back: bool

    @property
    def least_db(self) -> float:
        """A fall that counts."""
        return FALL_DB if self.gives_back and not self.finished else CLOSE_FALL_DB

    def by(self, was: Figure, now: Figure) -> float:
        """From one figure to the other, in dB."""
        lost = was.now - now.now
        return lost if self.finished else min(lost, -now.gained)


def _concerns(finding: Finding, figure: str) -> bool:
    """Whether a change touches a mic of the figure's piece."""
    pieces = {
        parse_mic_name(path.split(".")[1]).piece
        for path in finding.proposal
        if path.startswith("mics.")
    }
    return any(piece and figure.startswith(f"{label(piece)} ") for piece in pieces)


def _halved(before: Study, finding: Finding) -> Finding | None:
    """The change by half, where it is one of gains."""
    half: dict[str, object] = {}
    for path, value in finding.proposal.items():
        if path.endswith(HALVED) and isinstance(value, (int, float)):
            start = float(read_path(before.sheet, path))
            if path.endswith("range_db"):
                start = 0.0
            value = round((start + value) / 2, 1)
        half[path] = value
    patch: Patch = half
    return replace(finding, proposal=patch) if half != dict(finding.proposal) else None
