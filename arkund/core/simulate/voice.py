"""What a hit sounds like by octaves, and the knock that fills what a ring of modes leaves out.

An ideal head struck by a soft hammer has next to nothing above 1 kHz. Beater, stick, shell and
wires put the rest there. `OCTAVES_DB` says how much by octaves, after recorded single hits of
two kits; `voiced` scales a body's modes to it and makes the knock for what they cannot give.
"""

from collections.abc import Callable
from dataclasses import dataclass
from functools import cache

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.kit.roles import is_shell, piece_family

CENTRES_HZ = (63.0, 125.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0, 16000.0)

OCTAVES_DB = {
    "kick": (0, 0, -15, -21, -25, -23, -25, -32, -43),
    "snare": (-23, -4, 0, -6, -7, -9, -10, -14, -25),
    "tom": (-24, 0, -3, -8, -5, -7, -12, -20, -32),
    "floor tom": (-5, 0, -5, -8, -9, -11, -15, -24, -37),
    "hat": (-38, -26, -19, -9, -14, -14, -8, -4, 0),
    "crash": (-40, -32, -15, 0, -12, -12, -11, -19, -30),
    "ride": (-29, -26, -10, 0, -3, -4, -2, -3, -8),
}
"""Levels of a hard hit under its loudest octave in dB, centred on `CENTRES_HZ`, in its first
100 ms (cymbals 400 ms)."""

CLOSE_MIC_DB = {
    "shell": (7.0, 4.5, 2.0, 0.7, 0.0, 0.0, 1.0, 0.0, -3.0),
    "cymbal": (0.0, 0.0, -3.0, 0.0, 0.0, 0.0, 0.0, -0.5, -4.0),
}
"""What a mic close by adds at the bottom and takes at the top: hits are recorded so, and it is
not to be added twice. Of a plate's lows some cancel about its edge."""

WIRES_DB = (0.0, 0.0, 0.0, 0.0, 0.0, 1.0, 5.0, 9.0, 8.0)
"""What the wires under a snare add to its head."""

KNOCK_T60_S = (0.25, 0.2, 0.16, 0.13, 0.11, 0.09, 0.075, 0.06, 0.05)
"""How long the knock on a drum rings in each octave."""

KNOCK_S = 0.25

FLOOR_TOM_HZ = 100.0
"""A tom tuned lower than this stands on the floor."""

BRIGHT_HZ = 4000.0
DULLER_DB = 4.0
"""How much less a hit of velocity 1 than one of 127 gives off above `BRIGHT_HZ`."""

MODES_UP_TO_HZ = 700.0
"""Where modes are few enough to be heard singly and carry a drum's sound."""

ALIKE, OTHERS = 0.9, 3
"""Of the knock's energy, what is the same in every hit, and in how many ways the rest differs."""

Ring = Callable[[NDArray[np.float64]], NDArray[np.float64]]


@dataclass(frozen=True)
class Voice:
    """``gains`` ``(modes,)`` for the modes, and the knock in two parts, below and above
    `BRIGHT_HZ`, as it mostly is and in some other ways, ``(1 + OTHERS, 2, frames)``."""

    gains: NDArray[np.float64]
    knocks: NDArray[np.float64]

    def struck(self, velocity: int, rng: np.random.Generator) -> NDArray[np.float64]:
        """The knock of one hit: duller where it is soft, and no two alike."""
        fresh = rng.normal(0, np.sqrt((1 - ALIKE) / OTHERS), OTHERS)
        mixed = np.tensordot([np.sqrt(ALIKE), *fresh], self.knocks, 1)
        sound: NDArray[np.float64] = mixed[0] + brightness(velocity) * mixed[1]
        return sound


def brightness(velocity: float) -> float:
    """Gain above `BRIGHT_HZ` of a hit of MIDI velocity 1–127."""
    return float(10 ** (-DULLER_DB * (1 - velocity / 127) / 20))


def octave_levels(sound: NDArray[np.floating], rate: int, seconds: float) -> NDArray[np.float64]:
    """Energy in dB by octaves about `CENTRES_HZ`, ``(9,)``, of the first ``seconds`` of ``sound``
    ``(frames,)``, faded out over their last fifth."""
    cut = sound[: round(seconds * rate)].astype(np.float64)
    fade = len(cut) // 5
    cut[len(cut) - fade :] *= 0.5 + 0.5 * np.cos(np.pi * np.arange(fade) / fade)
    energy = np.abs(scipy.fft.rfft(cut, 1 << 16)) ** 2
    return 10 * np.log10(np.array([energy[i].sum() for i in _octaves(rate)]) + 1e-20)


@cache
def _octaves(rate: int) -> list[NDArray[np.bool_]]:
    """Which bins of a spectrum of 65,536 samples each octave holds."""
    hz = scipy.fft.rfftfreq(1 << 16, 1 / rate)
    return [(hz >= c / np.sqrt(2)) & (hz < c * np.sqrt(2)) for c in CENTRES_HZ]


def family_of(piece: str, lowest_hz: float) -> str:
    """Row of `OCTAVES_DB` for a piece by its name and fundamental."""
    family = piece_family(piece)
    return "floor tom" if family == "tom" and lowest_hz < FLOOR_TOM_HZ else family


def window_s(piece: str) -> float:
    """How much of a hit its octave levels are of."""
    return 0.1 if is_shell(piece) else 0.4


def voiced(
    piece: str, frequency: NDArray[np.float64], ring: Ring, rate: int, rng: np.random.Generator
) -> Voice:
    """The voice of a piece whose modes lie at ``frequency`` in Hz ``(modes,)``.

    ``ring`` gives a hard hit's sound for given gains of the modes. Octaves in which modes
    carry the sound are scaled, the others filled by the knock, until the whole has the levels that
    the piece's family has; each kit differs a little, by what ``rng`` draws.
    """
    seconds, shell = window_s(piece), is_shell(piece)
    wanted = np.array(OCTAVES_DB[family_of(piece, float(frequency.min()))], float)
    wanted += rng.normal(0, 0.8, len(wanted))
    wanted -= np.array(CLOSE_MIC_DB["shell" if shell else "cymbal"])
    if piece_family(piece) == "snare":
        wanted -= np.array(WIRES_DB)
    octave = np.round(np.log2(frequency / 1000.0)).astype(int) + 4
    octave = np.clip(octave, 0, len(CENTRES_HZ) - 1)
    by_modes = np.isin(np.arange(len(wanted)), octave) & (
        np.array(CENTRES_HZ) < (MODES_UP_TO_HZ if shell else np.inf)
    )
    loudest = int(np.argmax(np.where(by_modes, wanted, -np.inf)))
    wanted -= wanted[loudest]
    bursts = np.stack([_bursts(rate, rng) for _ in range(1 + OTHERS)])
    modes = np.where(by_modes[octave], 1.0, 0.05 if shell else 1.0)
    knock = np.where(by_modes, 0.0, 1e-3)
    plain = ring(np.ones(len(frequency)))
    for _ in range(12):
        sound = ring(modes)
        sound[: bursts.shape[2]] += knock @ bursts[0]
        level = octave_levels(sound, rate, seconds)
        step = 10 ** (np.clip(wanted - (level - level[loudest]), -9, 9) / 20)
        modes *= np.where(by_modes[octave], step[octave], 1.0)
        knock *= step
    sound = ring(modes)
    sound[: bursts.shape[2]] += knock @ bursts[0]
    # As loud as the body was without a voice, by peak and by energy.
    gain = min(
        np.abs(plain).max() / np.abs(sound).max(), np.sqrt(np.sum(plain**2) / np.sum(sound**2))
    )
    modes, knock = gain * modes, gain * knock
    bright = np.array(CENTRES_HZ) > BRIGHT_HZ
    return Voice(modes, np.stack([(knock * ~bright) @ bursts, (knock * bright) @ bursts], axis=1))


def _bursts(rate: int, rng: np.random.Generator) -> NDArray[np.float64]:
    """Bursts of noise, one an octave, ``(9, frames)``, that begin within a period and die away."""
    frames = round(KNOCK_S * rate)
    out = np.zeros((len(CENTRES_HZ), frames))
    for n, (band, rise, fall) in enumerate(_burst_shapes(rate)):
        noise = scipy.signal.sosfilt(band, rng.standard_normal(2 * frames))[frames:]
        shaped = noise * rise * fall
        out[n] = shaped / np.sqrt(np.sum(shaped**2))
    return out


@cache
def _burst_shapes(
    rate: int,
) -> list[tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]]:
    """What every burst is made with, an octave each: its filter, how it begins and how it dies."""
    time = np.arange(round(KNOCK_S * rate)) / rate
    shapes = []
    for centre, t60 in zip(CENTRES_HZ, KNOCK_T60_S, strict=True):
        low, high = centre / np.sqrt(2), min(centre * np.sqrt(2), 0.46 * rate)
        band = scipy.signal.butter(4, [low, high], "bandpass", fs=rate, output="sos")
        rise = np.sin(np.pi / 2 * np.minimum(time * centre * 2, 1.0)) ** 2
        shapes.append((band, rise, 10 ** (-3 * time / t60)))
    return shapes
