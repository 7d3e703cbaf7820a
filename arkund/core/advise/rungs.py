"""Rungs of a ladder: a few values of one setting to choose among by ear, where they can stand on what the drum
itself does."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from arkund.core.advise.dynamics.stages import at_reduction, typical_reduction_db
from arkund.core.advise.heard import gap_ms
from arkund.core.errors import ArkundError
from arkund.core.measure.hits import mean_envelope_db
from arkund.core.process.compressor import Compressor
from arkund.core.process.stage import Stage
from arkund.core.process.values import Part, Value, described

ATTACKS = (
    (1 / 3, "before its peak"),
    (1.0, "at its peak"),
    (4.0, "after its attack"),
    (12.0, "in its body"),
)
"""Attack times as parts of the time that the average hit takes to its peak."""

RELEASES = (
    (1 / 9, "over long before the next hit"),
    (1 / 3, "over just before the next hit"),
    (1.0, "still there at the next hit"),
    (3.0, "hardly lets go"),
)
"""Release times as parts of a short gap between hits: after three times the release a twentieth is left."""

REDUCTIONS_DB = (2.0, 4.0, 6.0, 9.0)
"""What the typical hit is reduced by, of a threshold's rungs."""

SHORT_GAP, PEAK_WITHIN_S, ENVELOPE_POINTS, SHORTEST_MS, NEAR_DB = 25, 0.08, 400, 0.2, 1.0
AROUND = (-0.25, -0.125, 0.0, 0.125, 0.25)
"""Of anything else: to both sides of what it is, as parts of its ruler."""


@dataclass(frozen=True)
class Rung:
    """The ``values`` of a stage or band by name, and what they stand on, in a few words."""

    values: dict[str, Any]
    why: str = ""


def rungs_of(
    part: Part,
    name: str,
    sound: NDArray[np.float32],
    rate: int,
    times: Sequence[float],
) -> list[Rung]:
    """Two to five rungs of a value of a stage or band. ``sound`` ``(frames,)`` or ``(frames, 2)`` is what comes in
    there, with hits from ``times`` s on. Raises `ArkundError` where it has nothing to choose among."""
    value = described(type(part)).get(name)
    if value is None or value.choices == (False, True):
        raise ArkundError("A ladder is made of a number or of words to choose from.")
    if not value.is_number:
        return _of_words(part, value, sound, rate, times)
    measured = part.measured.get(name) if isinstance(part, Stage) and len(times) else None
    found: list[Rung] = []
    if measured == "hit":
        found = _scaled(value, peak_ms(sound, rate, times), ATTACKS)
    elif measured == "gaps":
        found = _scaled(value, gap_ms(times, SHORT_GAP), RELEASES)
    elif measured == "peaks" and isinstance(part, Compressor):
        for aim in REDUCTIONS_DB:
            there = at_reduction(sound, rate, part.model_copy(update={"on": True}), times, aim)
            found.append(Rung({name: there.threshold_db}, f"{aim:g} dB off the typical hit"))
    found = _distinct(found)
    return found if len(found) > 1 else _around(part, value)


def peak_ms(sound: NDArray[np.float32], rate: int, times: Sequence[float]) -> float:
    """Time in ms that the average hit of ``sound`` takes from its beginning to within `NEAR_DB` of its peak: a
    drum that holds its level has its highest sample anywhere."""
    side = sound if sound.ndim == 1 else np.abs(sound).max(axis=1)
    envelope = mean_envelope_db(side, rate, times, PEAK_WITHIN_S, ENVELOPE_POINTS)
    way = float(np.argmax(envelope >= envelope.max() - NEAR_DB)) / ENVELOPE_POINTS
    return max(way * PEAK_WITHIN_S * 1000, SHORTEST_MS)


def _scaled(value: Value, by_ms: float, steps: Sequence[tuple[float, str]]) -> list[Rung]:
    return [Rung({value.name: _held(value, by_ms * share)}, why) for share, why in steps]


def _of_words(
    part: Part, value: Value, sound: NDArray[np.float32], rate: int, times: Sequence[float]
) -> list[Rung]:
    """One rung a word; of a compressor's families each at the reduction that there is now."""
    reduction = 0.0
    if isinstance(part, Compressor) and value.name == "family" and len(times):
        reduction = typical_reduction_db(sound, rate, part, times)
    out = []
    for word in value.choices[: len(AROUND)]:
        values = {value.name: word}
        if reduction and isinstance(part, Compressor):
            values["threshold_db"] = at_reduction(
                sound, rate, part.model_copy(update=values), times, reduction
            ).threshold_db
        out.append(
            Rung(values, f"{reduction:.1f} dB off the typical hit, as now" if reduction else "")
        )
    if len(out) < 2:
        raise ArkundError("There is nothing to choose among.")
    return out


def _around(part: Part, value: Value) -> list[Rung]:
    """To both sides of the present value, evenly on its ruler."""
    low, high = value.ends
    now = min(max(float(getattr(part, value.name)), low), high)
    if value.scale == "log":
        place = np.log(now / low) / np.log(high / low)
        ways = [low * (high / low) ** float(np.clip(place + by, 0, 1)) for by in AROUND]
    else:
        ways = [now + by * (high - low) for by in AROUND]
    return _distinct([Rung({value.name: _held(value, way)}) for way in ways])


def _held(value: Value, number: float) -> float:
    """Within its range, to three figures, as a hand would set it."""
    assert value.low is not None
    assert value.high is not None
    inside = min(max(number, value.low), value.high)
    return float(f"{inside:.3g}") if value.scale == "log" else round(inside, 2)


def _distinct(rungs: Sequence[Rung]) -> list[Rung]:
    seen: dict[str, Rung] = {}
    for rung in rungs:
        seen.setdefault(repr(rung.values), rung)
    return list(seen.values())
