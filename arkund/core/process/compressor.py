"""The compressor."""

from collections.abc import Mapping
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from arkund.core.process.holding import held_back
from arkund.core.process.key import Key
from arkund.core.process.stage import Audio, Id, Measured, Stage
from arkund.core.process.values import choice, time_ms, value
from arkund.core.shape import compressor
from arkund.core.shape.compressor import Family
from arkund.core.shape.sides import louder_side
from arkund.core.units import ms_to_samples

_DB = (-60.0, -48.0, -36.0, -24.0, -12.0, 0.0)


class Compressor(Stage):
    """One static curve, followed in the way of a family (`core/shape/compressor.py`); times to 63 %."""

    label: ClassVar[str] = "compressor"
    about: ClassVar[str] = "Turns down what is above the threshold, by ratio, attack and release."
    reduces: ClassVar[bool] = True
    measured: ClassVar[Mapping[str, Measured]] = {
        "threshold_db": "peaks",
        "attack_ms": "hit",
        "release_ms": "gaps",
    }

    kind: Literal["compressor"] = "compressor"
    id: Id = "compressor"
    family: Family = choice(
        "straight",
        "family",
        hint="straight: times as set · grip: releases peaks faster than sustained sound · ease: follows power and "
        "releases in two stages · slam: releases faster the deeper it goes, and distorts",
    )
    detector: Literal["peak", "power"] = choice(
        "peak",
        "detector",
        hint="peak: the waves themselves · power: what lasts 10 ms, a sine as its peak; ease always hears power",
    )
    threshold_db: float = value(
        -18.0,
        -60,
        0,
        "dB",
        "threshold",
        ticks=_DB,
        carried=True,
        hint="peaks of the hits at its input",
    )
    ratio: float = value(
        4.0, 1, 100, ": 1", "ratio", shown=(1, 20), scale="log", step=1.06, ticks=(1, 2, 4, 8, 20)
    )
    knee_db: float = value(
        6.0,
        0,
        24,
        "dB",
        "knee",
        ticks=(0, 6, 12, 18, 24),
        hint="0: a hard corner at the threshold; more: a softer, earlier onset",
    )
    attack_ms: float = time_ms(
        15.0,
        0.05,
        200,
        "attack",
        step=1.08,
        ticks=(0.1, 1, 10, 100),
        hint="area: the average hit's envelope",
    )
    release_ms: float = time_ms(
        120.0,
        1,
        5000,
        "release",
        shown=(5, 2000),
        ticks=(10, 30, 100, 300, 1000),
        hint="bars: time to the next hit",
    )
    makeup_db: float = value(0.0, -12, 24, "dB", "makeup", ticks=(-12, 0, 12, 24))
    mix: float = value(
        1.0, 0, 1, "×", "mix", step=0.02, ticks=(0, 0.25, 0.5, 0.75, 1), hint="0 dry, 1 wet only"
    )
    link: float = value(
        1.0,
        0,
        1,
        "×",
        "stereo link",
        step=0.05,
        ticks=(0, 0.5, 1),
        hint="1: both sides turn down together; 0: each by itself",
    )
    key: Key = Key()
    lookahead_ms: float = value(
        0.0,
        0,
        10,
        "ms",
        "lookahead",
        step=0.1,
        ticks=(0, 2, 5, 10),
        hint="begins this long before a hit",
    )

    def transfer_db(self, levels_db: NDArray[np.float64]) -> NDArray[np.float64]:
        """Steady levels ``(n,)`` behind its static curve."""
        return levels_db - compressor.static_reduction_db(levels_db, self.setup)

    @property
    def is_transparent(self) -> bool:
        """Whether it reduces nothing."""
        return not self.on or self.setup.is_transparent

    @property
    def setup(self) -> compressor.Settings:
        """The kernel's settings."""
        return compressor.Settings(
            self.threshold_db,
            self.ratio,
            self.knee_db,
            self.attack_ms,
            self.release_ms,
            self.makeup_db,
            self.mix,
            self.family,
            self.detector == "power",
        )

    def process(self, rate: int) -> "CompressorProcess":
        """The compressor at a rate."""
        return CompressorProcess(self, rate)


class CompressorProcess:
    """The compressor at a rate, its sides linked as far as it says. With lookahead the sound is held back that
    long behind the detector, which is its latency."""

    def __init__(self, part: Compressor, rate: int) -> None:
        self.rate, self.setup, self.link = rate, part.setup, part.link
        self.latency = ms_to_samples(part.lookahead_ms, rate)
        self.memory = compressor.memory(self.setup, rate) + self.latency

    def settings(self) -> Any:
        """What its sound rests on."""
        return ["compressor", 2, repr(self.setup), self.link, self.latency, self.rate]

    def at_rest(self, channels: int = 1) -> NDArray[np.float64]:
        """What each side's detector follows, then the samples still held back (two sides)."""
        return np.zeros(2 * compressor.new_state().size + 2 * self.latency)

    def run(
        self, audio: Audio, state: NDArray[np.float64], key: Audio | None = None, at: int = 0
    ) -> Audio:
        """``audio`` ``(frames,)`` or ``(frames, 2)`` compressed, by what the ``key`` is where there is one."""
        return self.run_traced(audio, state, key)[0]

    def run_traced(
        self, audio: Audio, state: NDArray[np.float64], key: Audio | None = None
    ) -> tuple[Audio, NDArray[np.float32]]:
        """Output and the reduction in dB, that of the side which is reduced more, a point every
        `compressor.TRACE_STEP` samples."""
        heard = audio if key is None else key
        followers, held = np.split(state, [2 * compressor.new_state().size])
        first, second = np.split(followers, 2)
        sound = np.ascontiguousarray(held_back(audio, held, self.latency))
        if self.link == 1.0 or sound.ndim == 1 or heard.ndim == 1:
            return compressor.run(sound, louder_side(heard), self.setup, self.rate, first)
        sides, traces = [], []
        for n, own in enumerate((first, second)):
            level = linked(heard, n, self.link)
            side = np.ascontiguousarray(sound[:, n])
            out, trace = compressor.run(side, level, self.setup, self.rate, own)
            sides.append(out)
            traces.append(trace)
        return np.stack(sides, axis=1), np.maximum(*traces)


def linked(heard: Audio, side: int, link: float) -> Audio:
    """What a side's detector hears of ``heard`` ``(frames, 2)``: in dB, ``link`` parts of the louder side and the
    rest of its own."""
    own = np.abs(heard[:, side])
    if link == 0.0:
        return np.ascontiguousarray(own)
    both: Audio = (louder_side(heard) ** np.float32(link) * own ** np.float32(1 - link)).astype(
        np.float32
    )
    return both
