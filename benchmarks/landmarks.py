"""``python -m benchmarks.landmarks``: fundamentals and rings of drums under a playing kit, on worlds left out.

A drum's fundamental is what its mic has of it alone, by the hits that were played; it is asked for in the mic as
recorded, by the hits that were found. Into one shell of each world a ring is planted, in its mic alone, that lasts
twice as long as the drum: what a drum's own body outlasts is no ring. A ring that is told is made up where the drum
alone has no line there that its hits set off and that lasts nearly as long. Beside it the plain method:
the highest line of the mic's spectrum in the drum's range.
"""

import argparse
import tempfile
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.advise.eq.bands import fundamental
from arkund.core.advise.eq.rings import rings_of
from arkund.core.advise.pitch import drum_line
from arkund.core.kit.roles import is_shell, parse_mic_name, piece_family
from arkund.core.measure.landmarks import (
    FUNDAMENTAL_HZ,
    Ring,
    fundamental_hz,
    line_decay,
    roomy,
)
from arkund.core.simulate.studying import study_of
from benchmarks.punch import as_session
from benchmarks.recorded.recording import Recording
from benchmarks.worlds.drawn import LEFT_OUT, recorded, worlds
from benchmarks.worlds.world import World

PROCESSES = 2
RIGHT = 0.03
"""A frequency is right within 3 %."""

RING_S, RING_UNDER_DB = 1.0, 14.0
"""A planted ring's T60 at least, and how far under its hit's peak it begins."""

NEARLY, SET_OFF_DB = 0.7, 10.0

LEAST_HITS = 6


@dataclass(frozen=True)
class Judged:
    """One drum of one world: its fundamental alone, as found and by the plain method (Hz), a ring that was planted
    and what was found of it, and how many rings were made up."""

    world: str
    mic: str
    alone_hz: float
    found_hz: float
    is_clear: bool
    plain_hz: float
    planted_hz: float
    ring_hz: float
    made_up: int


def judged(world: World) -> list[Judged]:
    """The shells of a world that are hit often enough, the first of them with a ring."""
    recording = recorded(world)
    rng = np.random.default_rng(world.seed)
    mics = [m for m in recording.own if is_shell(parse_mic_name(m).piece or "")]
    mics = [m for m in mics if len(played_times(recording, m)) >= LEAST_HITS]
    if not mics:
        return []
    rung = str(rng.choice(mics))
    alone = {m: _alone_hz(recording, m) for m in mics}
    planted = alone[rung] * float(rng.uniform(2.2, 3.6))
    body = line_decay(
        recording.own[rung], recording.rate, roomy(played_times(recording, rung), 0.45), alone[rung]
    )
    with_ring = _ringing(recording, rung, planted, max(RING_S, 2 * body.t60_s))
    with tempfile.TemporaryDirectory() as scratch:
        study = study_of([as_session(with_ring, world.name)], Path(scratch))
        out = []
        for mic in mics:
            family = piece_family(parse_mic_name(mic).piece or "")
            heard = rings_of(study, mic)
            told = [r for r in heard if mic != rung or not _same(r.hz, planted)]
            out.append(
                Judged(
                    world.name,
                    mic,
                    alone[mic],
                    fundamental(study, mic),
                    drum_line(study, parse_mic_name(mic).piece or "").is_clear,
                    _plain_hz(recording.mics[mic], recording.rate, family),
                    planted if mic == rung else 0.0,
                    min((r.hz for r in heard), key=lambda hz: abs(hz - planted), default=0.0)
                    if mic == rung
                    else 0.0,
                    sum(not _has(recording, mic, r) for r in told),
                )
            )
    return out


def _has(recording: Recording, mic: str, told: Ring) -> bool:
    """Whether a drum alone has the line of a ring: set off by its hits, and lasting nearly as long."""
    times = roomy(played_times(recording, mic), 0.45)
    own = line_decay(recording.own[mic], recording.rate, times, told.hz)
    return own.rise_db >= SET_OFF_DB and own.t60_s >= NEARLY * told.t60_s


def played_times(recording: Recording, mic: str) -> list[float]:
    """When a mic's own drum was played, in s, without ghosts, graces and rolls."""
    piece = parse_mic_name(mic).piece
    kinds = ("ghost", "grace", "roll")
    return [h["time_s"] for h in recording.hits if h["piece"] == piece and h["kind"] not in kinds]


def _alone_hz(recording: Recording, mic: str) -> float:
    family = piece_family(parse_mic_name(mic).piece or "")
    return fundamental_hz(recording.own[mic], recording.rate, played_times(recording, mic), family)


def _plain_hz(sound: NDArray[np.float32], rate: int, family: str) -> float:
    hz, power = scipy.signal.welch(sound, rate, nperseg=1 << 14)
    inside = (hz >= FUNDAMENTAL_HZ[family][0]) & (hz <= FUNDAMENTAL_HZ[family][1])
    return float(hz[inside][np.argmax(power[inside])])


def _ringing(recording: Recording, mic: str, hz: float, t60_s: float) -> Recording:
    """With a line that every hit of a mic's drum sets off, there alone."""
    rate, own = recording.rate, recording.own[mic]
    t = np.arange(round(1.5 * t60_s * rate)) / rate
    line = np.sin(2 * np.pi * hz * t) * 10 ** (-3 * t / t60_s)
    added = np.zeros(len(own) + len(line))
    for time in played_times(recording, mic):
        at = round(time * rate)
        peak = float(np.abs(own[at : at + round(0.02 * rate)]).max(initial=0.0))
        added[at : at + len(line)] += peak * 10 ** (-RING_UNDER_DB / 20) * line
    sound = recording.mics[mic] + added[: len(own)].astype(np.float32)
    return replace(recording, mics=recording.mics | {mic: sound})


def _same(hz: float, other: float) -> bool:
    return bool(other) and abs(hz / other - 1) <= RIGHT


def table(rows: Sequence[Judged]) -> str:
    """Shares that are right, by family, ours beside the plain method; rings found and made up."""
    lines = [
        "| drum | fundamental right | of those called clear | by the plain method | worst |",
        "|---|---|---|---|---|",
    ]
    for family in ("kick", "snare", "tom"):
        own = [r for r in rows if piece_family(parse_mic_name(r.mic).piece or "") == family]
        if not own:
            continue
        worst = max(own, key=lambda r: abs(np.log(max(r.found_hz, 1.0) / r.alone_hz)))
        lines.append(
            f"| {family} | {sum(_same(r.found_hz, r.alone_hz) for r in own)} of {len(own)} | "
            f"{sum(_same(r.found_hz, r.alone_hz) for r in own if r.is_clear)} of {sum(r.is_clear for r in own)} | "
            f"{sum(_same(r.plain_hz, r.alone_hz) for r in own)} | {worst.found_hz:.0f} Hz of {worst.alone_hz:.0f}, "
            f"{worst.world} |"
        )
    planted = [r for r in rows if r.planted_hz]
    found = sum(_same(r.ring_hz, r.planted_hz) for r in planted)
    made_up = sum(r.made_up for r in rows)
    return "\n".join(
        [
            *lines,
            "",
            f"Rings: {found} of {len(planted)} found; {made_up} made up on {len(rows)} mics.",
        ]
    )


def main() -> None:
    """Judge worlds and print the table."""
    parser = argparse.ArgumentParser(prog="benchmarks.landmarks", description=__doc__)
    parser.add_argument("--count", type=int, default=24)
    parser.add_argument("--seed", type=int, default=1)
    args = parser.parse_args()
    rows: list[Judged] = []
    with ProcessPoolExecutor(PROCESSES) as pool:
        for found in pool.map(judged, worlds(LEFT_OUT, args.seed, args.count)):
            rows += found
    print(table(rows))


if __name__ == "__main__":
    main()
