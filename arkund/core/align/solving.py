"""One shift a mic that serves all its pairs: delays of single pairs, solved together.

Each sure pair asks for ``delay + shift(mic) - shift(reference) = 0``. With more pairs than mics not
all can have it: an instrument is nearer to the left overhead than to the right one, and a shift
cannot be both. A drum's mics move as one body (`bodies`). The sum of squares is made small; what lies
far out counts by its distance instead (Huber, 1964), so that one wrong pair bends nothing. A cymbal's mic
goes with the overhead that it is nearer to.
"""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.align.pairs import Pair
from arkund.core.kit.roles import is_shell, parse_mic_name

FAR_OUT_SAMPLES = 3.0
ROUNDS = 30


@dataclass(frozen=True)
class Residual:
    """A pair and what is left of its delay with the shifts in place, in samples."""

    piece: str
    mic: str
    reference: str
    delay_samples: float
    left_samples: float
    sure: bool


@dataclass(frozen=True)
class Solution:
    """``shifts`` in samples by mic (positive is later), and what each pair among them keeps."""

    shifts: Mapping[str, float]
    residuals: Sequence[Residual]


@dataclass(frozen=True)
class Centre:
    """How much later one piece arrives in ``late`` than in ``early``, the two mics of a pair."""

    piece: str
    early: str
    late: str
    samples: float
    sure: bool


def solve_shifts(
    pairs: Iterable[Pair],
    free: Sequence[str],
    held: Mapping[str, float],
    inside: Mapping[str, float],
) -> Solution:
    """Shifts of the ``free`` mics against those that stay where they are (``held``, samples).

    The mics of a piece keep what they are shifted against each other (``inside``, samples, as `offsets`
    has it). Sure pairs decide; a mic that has none takes part with its doubtful ones. Pieces that no pair
    leads from to a mic that is held have no shift.
    """
    among = set(free) | set(held)
    known = [p for p in pairs if {p.mic, p.reference} <= among]
    backed = {m for p in known if p.sure for m in (p.mic, p.reference)}
    used = [p for p in known if p.sure or not {p.mic, p.reference} <= backed]
    used = [p for p in used if not _is_far_side(p, used)]
    bodies = {m: parse_mic_name(m).piece or m for m in free}
    reached = {bodies[m] for m in _reached(used, held) if m in bodies}
    mics = sorted(m for m in free if bodies[m] in reached)
    used = [p for p in used if {p.mic, p.reference} <= {*mics, *held}]
    shifts = dict(held) | _least_squares(used, {m: bodies[m] for m in mics}, held, inside)
    return Solution({m: round(shifts[m], 2) for m in mics}, residuals_of(known, shifts))


def residuals_of(pairs: Iterable[Pair], shifts: Mapping[str, float]) -> list[Residual]:
    """What is left of each pair's delay with these shifts (samples by mic); pairs with another mic are
    left out."""
    return [
        Residual(
            p.piece,
            p.mic,
            p.reference,
            p.delay_samples,
            round(p.delay_samples + shifts[p.mic] - shifts[p.reference], 2),
            p.sure,
        )
        for p in pairs
        if {p.mic, p.reference} <= set(shifts)
    ]


def _is_far_side(pair: Pair, pairs: Sequence[Pair]) -> bool:
    """Whether a cymbal's mic is nearer to another overhead than to this pair's. A drum's long waves
    take the middle between left and right; a cymbal's short ones would be off on both sides."""
    if is_shell(pair.piece) or parse_mic_name(pair.reference).role != "overhead":
        return False
    ways = [
        p.delay_samples
        for p in pairs
        if (p.piece, p.mic) == (pair.piece, pair.mic)
        and parse_mic_name(p.reference).role == "overhead"
    ]
    return pair.delay_samples < max(ways)


def _reached(pairs: Sequence[Pair], held: Mapping[str, float]) -> set[str]:
    """The mics that pairs connect with one that is held."""
    reached = set(held)
    while True:
        new = {m for p in pairs if reached & {p.mic, p.reference} for m in (p.mic, p.reference)}
        if new <= reached:
            return reached
        reached |= new


def _least_squares(
    pairs: Sequence[Pair],
    bodies: Mapping[str, str],
    held: Mapping[str, float],
    inside: Mapping[str, float],
) -> dict[str, float]:
    """A shift for every mic in ``bodies``, which names the body that it belongs to."""
    place = {body: n for n, body in enumerate(sorted(set(bodies.values())))}
    between = [p for p in pairs if bodies.get(p.mic, p.mic) != bodies.get(p.reference, p.reference)]
    if not place or not between:
        return {}
    asks = np.zeros((len(between), len(place)))
    wanted = np.zeros(len(between))
    for row, p in enumerate(between):
        wanted[row] = -p.delay_samples
        for mic, sign in ((p.mic, 1.0), (p.reference, -1.0)):
            if mic in bodies:
                asks[row, place[bodies[mic]]] += sign
                wanted[row] -= sign * inside.get(mic, 0.0)
            else:
                wanted[row] -= sign * held[mic]
    far = np.ones(len(between))
    for _ in range(ROUNDS):
        root = np.sqrt(far)
        found, *_rest = np.linalg.lstsq(asks * root[:, None], wanted * root, rcond=None)
        left = np.abs(asks @ found - wanted)
        far = FAR_OUT_SAMPLES / np.maximum(left, FAR_OUT_SAMPLES)
    return {m: float(found[place[body]]) + inside.get(m, 0.0) for m, body in bodies.items()}


def centre_of(
    pairs: Iterable[Pair], piece: str, role: str, shifts: Mapping[str, float]
) -> Centre | None:
    """Where a piece stands between left and right of a role (overhead or room): its arrival on one
    side against the other, with mics shifted as they are. None where a side was not measured."""
    arrivals: dict[str, tuple[str, float, bool]] = {}
    for p in pairs:
        if p.piece != piece:
            continue
        # A pair's delay is the mic's arrival after its reference's; of the close mic both know.
        for far, near, delay in (
            (p.mic, p.reference, p.delay_samples),
            (p.reference, p.mic, -p.delay_samples),
        ):
            name = parse_mic_name(far)
            leads = parse_mic_name(near).piece == piece
            if name.role == role and name.side and leads and name.side not in arrivals:
                arrivals[name.side] = (far, delay + shifts.get(far, 0.0), p.sure)
    if set(arrivals) != {"l", "r"}:
        return None
    (left, at_left, left_sure), (right, at_right, right_sure) = arrivals["l"], arrivals["r"]
    early, late = (left, right) if at_left <= at_right else (right, left)
    return Centre(piece, early, late, round(abs(at_right - at_left), 2), left_sure and right_sure)
