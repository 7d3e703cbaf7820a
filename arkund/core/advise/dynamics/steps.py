"""A compressor set step by step: each control with the figure that it answers, and the ways to dial it in."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from arkund.core.advise.dynamics.stages import (
    LEFT_DB,
    at_reduction,
    left_before_hits_db,
    typical_reduction_db,
)
from arkund.core.measure.levels import attack_to_body_db, hit_peaks
from arkund.core.measure.loudness import loudness_lufs
from arkund.core.process.compressor import Compressor
from arkund.core.process.values import described
from arkund.core.shape.compressor import TRACE_STEP
from arkund.core.units import amplitudes_to_db

TOO_STRONG_DB, TARGETS_DB = 12.0, (2.0, 4.0, 6.0)
"""What the typical hit is reduced by while times are chosen, and what it may be taken back to."""

FEW_MATCH_DB = 0.1
"""The least makeup that is worth a click."""

MATCH_ROUNDS = 12
LOUD, SOFT = 90, 10


@dataclass(frozen=True)
class Way:
    """Something to click: ``words``, and the values of the stage that it sets."""

    words: str
    values: dict[str, Any]


@dataclass(frozen=True)
class Step:
    """One control: its ``name`` in the stage, what is ``said`` of it, and ``ways`` to set it."""

    name: str
    said: str
    ways: list[Way] = field(default_factory=list)


def steps_of(
    stage: Compressor,
    sound: NDArray[np.float32],
    rate: int,
    times: Sequence[float],
    ghosts: Sequence[float] = (),
) -> list[Step]:
    """The steps of a compressor that is active. ``sound`` ``(frames,)`` or ``(frames, 2)`` is what comes in, with
    hits at ``times`` s and ghosts at ``ghosts`` s; none where there are no hits."""
    if not len(times):
        return []
    active = stage.model_copy(update={"on": True})
    out, trace = _played(active, sound, rate)
    reduction = typical_reduction_db(sound, rate, active, times)
    return [
        _threshold(active, sound, rate, times, ghosts, trace, reduction),
        _ratio(sound, out, rate, sorted([*times, *ghosts])),
        _knee(active),
        _attack(sound, out, rate, times),
        _release(rate, sorted([*times, *ghosts]), trace),
        _makeup(active, sound, out, rate),
    ]


def _played(
    stage: Compressor, sound: NDArray[np.float32], rate: int
) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """What comes out, in step with what goes in, and the trace of the reduction."""
    process = stage.process(rate)
    out, trace = process.run_traced(sound, process.at_rest(2 if sound.ndim == 2 else 1))
    late = process.latency
    return np.concatenate([out[late:], np.zeros((late, *out.shape[1:]), np.float32)]), trace


def _threshold(
    stage: Compressor,
    sound: NDArray[np.float32],
    rate: int,
    times: Sequence[float],
    ghosts: Sequence[float],
    trace: NDArray[np.float32],
    reduction: float,
) -> Step:
    said = f"{reduction:.1f} dB off the typical hit"
    if len(ghosts):
        touched = sum(
            float(_within(trace, rate, t, 0.08).max(initial=0.0)) > LEFT_DB for t in ghosts
        )
        said += f"; {touched} of {len(ghosts)} ghosts are turned down"
    ways = [("too strong, to hear the times", TOO_STRONG_DB)]
    ways += [(f"back to {aim:g} dB", aim) for aim in TARGETS_DB]
    return Step(
        "threshold_db",
        said,
        [
            Way(words, {"threshold_db": at_reduction(sound, rate, stage, times, aim).threshold_db})
            for words, aim in ways
        ],
    )


def _ratio(
    sound: NDArray[np.float32], out: NDArray[np.float32], rate: int, times: Sequence[float]
) -> Step:
    before, after = (_spread_db(x, rate, times) for x in (sound, out))
    return Step(
        "ratio", f"loud and soft hits are {after:.1f} dB apart; {before:.1f} dB without compression"
    )


def _spread_db(sound: NDArray[np.float32], rate: int, times: Sequence[float]) -> float:
    peaks = amplitudes_to_db(hit_peaks(sound, rate, times))
    return float(np.subtract(*np.percentile(peaks, [LOUD, SOFT])))


def _knee(stage: Compressor) -> Step:
    low, high = (stage.threshold_db + way * stage.knee_db / 2 for way in (-1, 1))
    said = f"sets in at {low:.1f} dB, full ratio from {high:.1f} dB"
    return Step("knee_db", said if stage.knee_db else f"a hard corner at {low:.1f} dB")


def _attack(
    sound: NDArray[np.float32], out: NDArray[np.float32], rate: int, times: Sequence[float]
) -> Step:
    change = attack_to_body_db(out, rate, times) - attack_to_body_db(sound, rate, times)
    way = "louder" if change >= 0 else "softer"
    return Step("attack_ms", f"the attack is {abs(change):.1f} dB {way} against the body")


def _release(rate: int, times: Sequence[float], trace: NDArray[np.float32]) -> Step:
    """What is left just before each hit that follows another."""
    left = left_before_hits_db(trace, rate, times)
    if not len(left):
        return Step("release_ms", "one hit alone; nothing follows it")
    within = float(np.mean(left <= LEFT_DB))
    return Step(
        "release_ms",
        f"{np.median(left):.1f} dB of it is typically left at the next hit; "
        f"{LEFT_DB} dB or less in {within:.0%} of gaps",
    )


def _makeup(
    stage: Compressor, sound: NDArray[np.float32], out: NDArray[np.float32], rate: int
) -> Step:
    wanted_lufs = loudness_lufs(sound, rate)
    change = loudness_lufs(out, rate) - wanted_lufs
    if not np.isfinite(change) or abs(change) < FEW_MATCH_DB:
        return Step("makeup_db", "as loud as bypassed")
    said = f"{abs(change):.1f} LU {'louder' if change > 0 else 'softer'} than bypassed"
    # Makeup turns up the compressed part alone, so beside a dry part it takes more than the difference.
    reach = described(Compressor)["makeup_db"]
    wanted, off = stage.makeup_db, change
    for _ in range(MATCH_ROUNDS):
        wanted = round(float(np.clip(wanted - off, reach.low, reach.high)), 1)
        made = _played(stage.model_copy(update={"makeup_db": wanted}), sound, rate)[0]
        off = loudness_lufs(made, rate) - wanted_lufs
        if abs(off) < FEW_MATCH_DB:
            break
    return Step("makeup_db", said, [Way(f"match: {wanted:+.1f} dB", {"makeup_db": wanted})])


def _within(
    trace: NDArray[np.float32], rate: int, at_s: float, reach_s: float
) -> NDArray[np.float32]:
    start = max(round(at_s * rate / TRACE_STEP), 0)
    return trace[start : start + round(reach_s * rate / TRACE_STEP)]
