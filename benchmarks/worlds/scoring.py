"""How right a list of hits is on a world, beside what a plain threshold finds."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Self

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import close_mics, is_shell, piece_family
from benchmarks.recorded.recording import Recording
from benchmarks.recorded.scoring import matches

TOLERANCE_S, FAR_S = 0.005, 0.010
ASIDE_S = 0.012
"""A hit that is found so far from its time is heard, though it is placed wrongly."""

OBVIOUS_DB = 10.0
"""A hit so far above all else that its mic hears at that moment is obvious."""

BURIED_DB = -6.0
"""A hit that no mic of its drum has above this, against all else, is counted apart."""

NEAR_S = (0.030, 0.020)
"""How long before and after a hit begins whatever else is heard counts."""

PLAIN_UNDER_DB, PLAIN_HOLD_S = 12.0, 0.06


class Counts:
    """Base of counts that add up field by field."""

    def __add__(self, other: Self) -> Self:
        both = zip(vars(self).values(), vars(other).values(), strict=True)
        return type(self)(*(a + b for a, b in both))


@dataclass
class Tally(Counts):
    """Counts of one piece on one world: right, true and found hits; obvious ones, how many of them were
    missed, and how many of the missed were found `ASIDE_S` away at most; buried ones, which are not among
    the true."""

    right: int = 0
    true: int = 0
    found: int = 0
    obvious: int = 0
    obvious_missed: int = 0
    buried: int = 0
    aside: int = 0

    @property
    def f(self) -> float:
        """F-measure; 1 where nothing is true or found."""
        return 2 * self.right / (self.true + self.found) if self.true + self.found else 1.0


@dataclass
class Scores:
    """Tallies by piece."""

    pieces: dict[str, Tally] = field(default_factory=dict)


def plain_hits(sound: NDArray[np.float32], rate: int) -> list[float]:
    """What a plain gate finds in a mic ``(frames,)``: where it rises over a threshold 12 dB under its
    loudest, once in 60 ms; times in s."""
    hop = max(rate // 2000, 1)
    count = len(sound) // hop
    peaks = np.abs(sound[: count * hop]).reshape(count, hop).max(axis=1)
    loud = peaks > peaks.max(initial=0.0) * 10 ** (-PLAIN_UNDER_DB / 20)
    out: list[float] = []
    for at in np.flatnonzero(loud & ~np.concatenate([[False], loud[:-1]])):
        time_s = at * hop / rate
        if not out or time_s - out[-1] > PLAIN_HOLD_S:
            out.append(float(time_s))
    return out


def plain_list(recording: Recording) -> dict[str, list[float]]:
    """`plain_hits` of the first close mic of every piece."""
    pieces = {h["piece"] for h in recording.hits} | set(_miced(recording))
    out = {}
    for piece in pieces:
        if ears := close_mics(recording.mics, piece):
            out[piece] = plain_hits(recording.mics[ears[0]], recording.rate)
    return out


def score(recording: Recording, times: Mapping[str, Sequence[float]]) -> Scores:
    """Tallies of a list of hits (times in s by piece) against the truth."""
    out = Scores()
    pieces = {h["piece"] for h in recording.hits} | set(times) | set(_miced(recording))
    for piece in sorted(pieces):
        ears = close_mics(recording.mics, piece)
        own = [h for h in recording.hits if h["piece"] == piece]
        spared = [h["time_s"] for h in own if h["kind"] in ("grace", "roll")]
        listed = [h for h in own if h["kind"] not in ("grace", "roll")]
        true = [h["time_s"] for h in listed]
        found = sorted(times.get(piece, ()))
        pairs = matches(true, found, TOLERANCE_S if ears else FAR_S)
        got = {i for i, _ in pairs}
        buried = {i for i, h in enumerate(listed) if _is_buried(recording, ears, h)}
        matched = {j for _, j in pairs}
        stray = [t for j, t in enumerate(found) if j not in matched and not _near(t, spared, 0.03)]
        right = len(got - buried)
        clear = [_clearance_db(recording, ears[0], h) if ears else np.nan for h in listed]
        obvious = {i for i, db in enumerate(clear) if db >= OBVIOUS_DB}
        out.pieces[piece] = Tally(
            right,
            len(true) - len(buried),
            right + len(stray),
            len(obvious),
            len(obvious - got),
            len(buried),
            sum(any(abs(t - true[i]) <= ASIDE_S for t in stray) for i in obvious - got),
        )
    return out


@dataclass(frozen=True)
class Judged:
    """One found hit of a piece with a mic: its row of the table, how sure it is said to be, whether it is
    right, by how many s it is late if so (else NaN), and whether it is soft."""

    group: str
    confidence: float
    right: bool
    late_s: float
    is_soft: bool


def each(recording: Recording, hits: Sequence[Hit]) -> list[Judged]:
    """Every found hit, judged; those of grace notes and rolls are spared."""
    out = []
    for piece in sorted({h.piece for h in hits}):
        own = [h for h in recording.hits if h["piece"] == piece]
        spared = [h["time_s"] for h in own if h["kind"] in ("grace", "roll")]
        true = [h["time_s"] for h in own if h["kind"] not in ("grace", "roll")]
        found = [h for h in hits if h.piece == piece]
        near = TOLERANCE_S if close_mics(recording.mics, piece) else FAR_S
        late = {
            j: found[j].time_s - true[i] for i, j in matches(true, [h.time_s for h in found], near)
        }
        out += [
            Judged(
                group_of(recording, piece),
                h.confidence,
                j in late,
                late.get(j, float("nan")),
                h.kind == "ghost",
            )
            for j, h in enumerate(found)
            if j in late or not _near(h.time_s, spared, 0.03)
        ]
    return out


@dataclass(frozen=True)
class Ghosts(Counts):
    """Of a snare's ghosts how many are found and how many there are, without the ``buried`` ones; and how many
    soft hits are made up."""

    found: int = 0
    true: int = 0
    made_up: int = 0
    buried: int = 0

    @property
    def f(self) -> float:
        """F-measure; 1 where nothing is true or made up."""
        every = self.found + self.true + self.made_up
        return 2 * self.found / every if every else 1.0


def ghosts(recording: Recording, hits: Sequence[Hit]) -> Ghosts:
    """What became of a snare's ghosts, whatever kind they are found as."""
    own = [h for h in recording.hits if h["piece"] == "snare"]
    true = [h for h in own if h["kind"] not in ("grace", "roll")]
    spared = [h["time_s"] for h in own if h["kind"] in ("grace", "roll")]
    found = [h for h in hits if h.piece == "snare"]
    pairs = matches([h["time_s"] for h in true], [h.time_s for h in found], TOLERANCE_S)
    ears = close_mics(recording.mics, "snare")
    every = {i for i, h in enumerate(true) if h["kind"] == "ghost"}
    buried = {i for i in every if _is_buried(recording, ears, true[i])}
    soft = every - buried
    matched = {j for _, j in pairs}
    stray = sum(
        h.kind == "ghost" and j not in matched and not _near(h.time_s, spared, 0.03)
        for j, h in enumerate(found)
    )
    return Ghosts(sum(i in soft for i, _ in pairs), len(soft), stray, len(buried))


def times_of(hits: Sequence[Hit]) -> dict[str, list[float]]:
    """Hits as `score` takes them."""
    out: dict[str, list[float]] = {}
    for hit in hits:
        out.setdefault(hit.piece, []).append(hit.time_s)
    return out


def group_of(recording: Recording, piece: str) -> str:
    """The row of the table that a piece belongs to."""
    family = piece_family(piece)
    return family if close_mics(recording.mics, piece) else f"{family} without a mic"


def _is_buried(recording: Recording, ears: Sequence[str], hit: Mapping[str, Any]) -> bool:
    """Whether no close mic of its drum has a hit above `BURIED_DB`."""
    return bool(ears) and max(_clearance_db(recording, e, hit) for e in ears) < BURIED_DB


def _clearance_db(recording: Recording, mic: str, played: Mapping[str, Any]) -> float:
    """By how many dB a hit's own sound in a mic exceeds all else that it hears around."""
    rate, at_s = recording.rate, played["time_s"]
    own, total = recording.own.get(mic), recording.mics[mic]
    if own is None:
        return float("nan")
    begin = round(at_s * rate)
    hit = float(np.abs(own[max(begin, 0) : begin + round(0.012 * rate)]).max(initial=0.0))
    first, last = max(begin - round(NEAR_S[0] * rate), 0), begin + round(NEAR_S[1] * rate)
    rest = float(np.abs(total[first:last] - own[first:last]).max(initial=0.0))
    # What the drum itself still rings with before the hit is in its way too.
    ring = float(
        np.abs(own[max(begin - round(0.012 * rate), 0) : max(begin - round(0.001 * rate), 0)]).max(
            initial=0.0
        )
    )
    # What lies under the drum's own ring has the ring's peak: what it would have alone is known.
    hit = min(hit, ring * 10 ** (played.get("over_ring_db", np.inf) / 20)) if ring else hit
    return 20 * float(np.log10(max(hit, 1e-9) / max(rest, ring, 1e-9)))


def _near(at: float, others: Sequence[float], within: float) -> bool:
    return any(abs(at - other) < within for other in others)


def _miced(recording: Recording) -> list[str]:
    """Shells with a mic of their own."""
    from arkund.core.kit.roles import parse_mic_name

    pieces = {parse_mic_name(m).piece for m in recording.mics}
    return [p for p in pieces if p and is_shell(p)]
