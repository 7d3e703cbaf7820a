"""A chain copied to another drum, fitted to it: frequencies to its landmarks, thresholds to its level, releases
to how long it rings."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from arkund.core.advise.pitch import drum_hz
from arkund.core.advise.study import Study
from arkund.core.errors import ArkundError
from arkund.core.kit.roles import label, parse_mic_name, piece_family
from arkund.core.measure.hits import ring_time_s
from arkund.core.measure.landmarks import ATTACK_HZ, attack_hz
from arkund.core.measure.levels import hit_peaks
from arkund.core.process.stage import Stage
from arkund.core.process.values import described
from arkund.core.sheet.lanes import HITS
from arkund.core.units import amplitude_to_db

RINGS = (0.5, 2.0)
"""A release becomes no more than so many times shorter or longer."""

FEWEST_HITS = 3


@dataclass(frozen=True)
class Landmarks:
    """What of a drum a chain is set by: fundamental and attack in Hz, its typical hit in dBFS, how long it takes
    to fall by 20 dB in s."""

    pitch_hz: float
    attack_hz: float
    peak_dbfs: float
    ring_s: float


def landmarks_of(study: Study, mic: str) -> Landmarks:
    """Of the drum in a close mic. Raises `ArkundError` where the mic is close to no shell or the drum is hit
    too seldom to be known."""
    piece = parse_mic_name(mic).piece or ""
    family = piece_family(piece)
    if mic not in study.mics or family not in ATTACK_HZ:
        raise ArkundError(f"{label(mic).capitalize()} is close to no kick, snare or tom.")
    times = study.plain_times(mic)
    if len(times) < FEWEST_HITS:
        raise ArkundError(
            f"{label(piece).capitalize()} has {len(times)} hits; a chain is fitted to {FEWEST_HITS} or more."
        )
    sound, rate = study.sound(mic, "clean"), study.rate
    return Landmarks(
        drum_hz(study, piece),
        attack_hz(sound, rate, times, ATTACK_HZ[family]),
        amplitude_to_db(float(np.median(hit_peaks(sound, rate, times)))),
        ring_time_s(sound, rate, times),
    )


def moved_hz(hz: float, there: Landmarks, here: Landmarks) -> float:
    """Where a frequency of one drum lies on another: its fundamental on that one's, its attack on that one's,
    what lies between in proportion, beyond them as far away."""
    if not (there.pitch_hz and here.pitch_hz):
        return hz
    known = np.log([there.pitch_hz, there.attack_hz])
    shifts = np.log([here.pitch_hz / there.pitch_hz, here.attack_hz / there.attack_hz])
    return float(hz * np.exp(np.interp(np.log(hz), known, shifts)))


@dataclass(frozen=True)
class Chain:
    """Stages as they are set on a drum, and what they are set by."""

    piece: str
    landmarks: Landmarks
    stages: tuple[Stage, ...]


def chain_of(study: Study, mic: str, kinds: Sequence[str] = ()) -> Chain:
    """A mic's chain, or its stages of some ``kinds``, with its drum's landmarks. Raises `ArkundError` where the
    drum is not known or there is no such stage."""
    landmarks = landmarks_of(study, mic)
    stages = [s for s in study.sheet.mics[mic].chain if not kinds or s.kind in kinds]  # type: ignore[attr-defined]
    if not stages:
        raise ArkundError(f"{label(mic).capitalize()} has no such stage in its chain.")
    return Chain(parse_mic_name(mic).piece or "", landmarks, tuple(stages))


def added(study: Study, chain: Chain, target: str) -> dict[str, Any]:
    """The patch that adds a chain behind a mic's own, fitted to its drum, every stage bypassed until somebody has
    heard it. Raises `ArkundError` where the drum is not known."""
    here, own = landmarks_of(study, target), study.sheet.mics[target].chain
    pieces = (chain.piece, parse_mic_name(target).piece or "")
    taken, last = {s.id for s in own}, own[-1].id if own else ""
    patch: dict[str, Any] = {}
    for stage in chain.stages:
        kind = stage.kind  # type: ignore[attr-defined]
        name = _free_id(kind, taken)
        fitted = _fitted(stage, chain.landmarks, here, pieces)
        patch[f"mics.{target}.chain.{name}"] = fitted | {"id": name, "after": last, "on": False}
        last = name
    return patch


def _free_id(kind: str, taken: set[str]) -> str:
    """An id for one more stage of a kind, added to those that are taken."""
    name = next(n for n in (kind, *(f"{kind}{k}" for k in range(2, 99))) if n not in taken)
    taken.add(name)
    return name


def copied(study: Study, source: str, target: str, kinds: Sequence[str] = ()) -> dict[str, Any]:
    """The patch that gives a mic the other's chain, or its stages of some ``kinds``, fitted to its drum.

    The stages of one kind take each other's places in order; what the target lacks is added at its end, what it
    has too many of is bypassed. Raises `ArkundError` where either drum is not known, or nothing is to be copied.
    """
    if source == target:
        raise ArkundError("Name another mic to copy to.")
    chain, here = chain_of(study, source, kinds), landmarks_of(study, target)
    stages, there = chain.stages, chain.landmarks
    own = list(study.sheet.mics[target].chain)
    path = f"mics.{target}.chain"
    taken = {s.id for s in own}
    last = own[-1].id if own else ""
    patch: dict[str, Any] = {}
    pieces = (chain.piece, parse_mic_name(target).piece or "")
    for kind in dict.fromkeys(s.kind for s in stages):  # type: ignore[attr-defined]
        wanted = [_fitted(s, there, here, pieces) for s in stages if s.kind == kind]  # type: ignore[attr-defined]
        has = [s for s in own if s.kind == kind]  # type: ignore[attr-defined]
        for values, stage in zip(wanted, has, strict=False):
            patch |= _changes(values, stage.model_dump(), f"{path}.{stage.id}")
        for values in wanted[len(has) :]:
            name = _free_id(kind, taken)
            patch[f"{path}.{name}"] = {**values, "id": name, "kind": kind, "after": last}
            last = name
        patch |= {f"{path}.{s.id}.on": False for s in has[len(wanted) :] if s.on}
    return patch


def _fitted(
    stage: Stage, there: Landmarks, here: Landmarks, pieces: Sequence[str]
) -> dict[str, Any]:
    """A stage's values as they are on the other drum."""
    louder = here.peak_dbfs - there.peak_dbfs
    longer = float(np.clip(here.ring_s / max(there.ring_s, 1e-3), *RINGS))
    limits = {name: value for name, value in described(type(stage)).items() if value.is_number}

    def held(name: str, value: float, digits: int = 1) -> float:
        low, high = limits[name].low, limits[name].high
        return round(min(max(value, low or -np.inf), high if high is not None else np.inf), digits)

    out = stage.model_dump(exclude={"id"})
    if "threshold_db" in limits:
        out["threshold_db"] = held("threshold_db", out["threshold_db"] + louder)
    if "release_ms" in limits:
        out["release_ms"] = held("release_ms", out["release_ms"] * longer, 0)
    for name in ("high_pass", "low_pass"):
        if name in out and out[name]["on"]:
            out[name]["frequency_hz"] = _within_hz(out[name]["frequency_hz"], there, here)
    for band in out.get("bands", ()):
        band["frequency_hz"] = _within_hz(band["frequency_hz"], there, here)
        if band.get("range_db") and band["hears"] == "band":
            band["threshold_db"] = round(min(max(band["threshold_db"] + louder, -80.0), 0.0), 1)
    if out.get("key", {}).get("source") == f"{pieces[0]}{HITS}":
        out["key"]["source"] = f"{pieces[1]}{HITS}"
    return out


def _within_hz(hz: float, there: Landmarks, here: Landmarks) -> float:
    return round(min(max(moved_hz(hz, there, here), 20.0), 16_000.0), 1)


def _changes(wanted: Mapping[str, Any], now: Mapping[str, Any], path: str) -> dict[str, Any]:
    """What of a part differs, by path; parts in lists are told by their ids, and those that are not wanted are
    taken out."""
    out: dict[str, Any] = {}
    for name, value in wanted.items():
        at = f"{path}.{name}"
        if isinstance(value, Mapping):
            out |= _changes(value, now[name], at)
        elif isinstance(value, (list, tuple)) and all(isinstance(v, Mapping) for v in value):
            own = {one["id"]: one for one in now[name]}
            for one in value:
                there = f"{at}.{one['id']}"
                has = own.pop(one["id"], None)
                out |= _changes(one, has, there) if has else {there: dict(one)}
            out |= {f"{at}.{left}": None for left in own}
        elif value != now.get(name):
            out[at] = value
    return out
