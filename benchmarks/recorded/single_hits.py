"""Single hits of real drums, out of a general sound font.

`fluidsynth` plays each note of a kit at several velocities, dry; nothing of it is kept beyond the
folder that is asked for.
"""

import shutil
import subprocess
import tempfile
from dataclasses import dataclass
from pathlib import Path

import mido
import numpy as np
import scipy
import soundfile as sf
from numpy.typing import NDArray

from arkund.core.errors import ArkundError

FONT = Path("/usr/share/sounds/sf2/FluidR3_GM.sf2")
RATE = 48000
VELOCITIES = (24, 44, 64, 84, 104, 124)
APART_S = 3.0
LENGTH_S = 2.6


@dataclass(frozen=True)
class Sounds:
    """Hits of one note: ``(velocity, sound)``, softest first, each ``(frames,)`` float64 that
    begins where the sound first stirs; the loudest peaks at 1. ``wander_db`` is how much more no two
    hits are alike than the font's are, as those of a stick that lands elsewhere each time."""

    layers: tuple[tuple[int, NDArray[np.float64]], ...]
    wander_db: float = 0.0


def check_tools() -> None:
    """Raise `ArkundError` with what to install where the hits cannot be had."""
    if shutil.which("fluidsynth") is None or not FONT.exists():
        raise ArkundError(
            "Recorded hits need Debian's fluidsynth and fluid-soundfont-gm: "
            "apt-get install fluidsynth fluid-soundfont-gm, then run this again."
        )


def render(notes: set[tuple[int, int]]) -> dict[tuple[int, int], Sounds]:
    """Sounds of ``(program, note)`` pairs of the font's percussion bank."""
    check_tools()
    out = {}
    for program in sorted({program for program, _ in notes}):
        own = sorted(note for p, note in notes if p == program)
        played = play(FONT, program, own)
        for number, note in enumerate(own):
            first = number * len(VELOCITIES)
            takes = [played[first + i] for i in range(len(VELOCITIES))]
            loudest = max(float(np.abs(t).max()) for t in takes) or 1.0
            out[program, note] = Sounds(
                tuple((v, t / loudest) for v, t in zip(VELOCITIES, takes, strict=True))
            )
    return out


def play(font: Path, program: int, notes: list[int], channel: int = 9) -> list[NDArray[np.float64]]:
    """One kit's notes, each at every velocity, as `fluidsynth` plays them from a font."""
    file = mido.MidiFile(ticks_per_beat=500)
    track = mido.MidiTrack()
    file.tracks.append(track)
    track.append(mido.Message("program_change", channel=channel, program=program))
    wait = 500
    for note in notes:
        for velocity in VELOCITIES:
            track.append(
                mido.Message("note_on", channel=channel, note=note, velocity=velocity, time=wait)
            )
            track.append(
                mido.Message("note_off", channel=channel, note=note, time=round(LENGTH_S * 1000))
            )
            wait = round((APART_S - LENGTH_S) * 1000)
    with tempfile.TemporaryDirectory() as folder:
        score, sound = Path(folder) / "hits.mid", Path(folder) / "hits.wav"
        file.save(score)
        subprocess.run(
            [
                "fluidsynth",
                "-niq",
                "-R",
                "0",
                "-C",
                "0",
                "-g",
                "0.35",
                "-r",
                str(RATE),
                "-F",
                str(sound),
                str(font),
                str(score),
            ],
            check=True,
            capture_output=True,
        )
        audio, _ = sf.read(str(sound), always_2d=True)
    mono = audio.mean(axis=1)
    hits = []
    for number in range(len(notes) * len(VELOCITIES)):
        begin = round((0.5 + number * APART_S) * RATE)
        hits.append(from_first_stir(mono[begin : begin + round(LENGTH_S * RATE)]))
    return hits


def from_first_stir(sound: NDArray[np.float64]) -> NDArray[np.float64]:
    """The sound from where its slope first comes within 34 dB of its steepest until no more than
    a millionth of its energy is left, faded out."""
    slope = np.abs(np.diff(sound, prepend=0.0))
    first = int(np.argmax(slope > 0.02 * slope.max()))
    left = np.cumsum(sound[::-1] ** 2)[::-1]
    last = int(np.argmax(left < 1e-6 * left[0])) or len(sound)
    cut = sound[max(first - 4, 0) : last].copy()
    fade = min(round(0.1 * RATE), len(cut) // 2)
    cut[-fade:] *= np.linspace(1, 0, fade)
    return cut


TUNING = 0.006


def struck(sounds: Sounds, velocity: int, rng: np.random.Generator) -> NDArray[np.float64]:
    """One hit at a velocity 1 to 127: the layer nearest to it, no two alike.

    Level follows velocity by 10 dB a halving; tuning wavers by 0.6 %, tone by 1.5 dB about
    1.5 kHz, softer hits are up to 4 dB duller above 4 kHz.
    """
    layer = min(sounds.layers, key=lambda pair: abs(pair[0] - velocity))[1]
    wavers = TUNING * (1 + 0.5 * sounds.wander_db)
    at = np.arange(0, len(layer) - 1, 1.0 + rng.normal(0, wavers))
    sound = np.interp(at, np.arange(len(layer)), layer)
    if sounds.wander_db:
        sound = peaks(sound, sounds.wander_db, rng)
    level = 10 ** (33 * np.log10(velocity / 127) / 20) / max(float(np.abs(layer).max()), 1e-6)
    soft_db = -4.0 * (1 - velocity / 127)
    sound = _shelf(_shelf(sound, 4000, soft_db), 1500, float(rng.normal(0, 1.0)))
    return sound * level * 10 ** (rng.normal(0, 0.6) / 20)


def peaks(
    sound: NDArray[np.float64], spread_db: float, rng: np.random.Generator
) -> NDArray[np.float64]:
    """The sound through gentle peaks and dips, drawn anew."""
    sections = []
    for centre in (120.0, 400.0, 1200.0, 3500.0, 9000.0):
        hz, amount = centre * 2 ** rng.uniform(-0.7, 0.7), 10 ** (rng.normal(0, spread_db) / 40)
        w = 2 * np.pi * hz / RATE
        alpha, cos = np.sin(w) / 1.4, np.cos(w)
        b = [1 + alpha * amount, -2 * cos, 1 - alpha * amount]
        a = [1 + alpha / amount, -2 * cos, 1 - alpha / amount]
        sections.append([v / a[0] for v in b + a])
    out: NDArray[np.float64] = scipy.signal.sosfilt(np.array(sections), sound)
    return out


def _shelf(sound: NDArray[np.float64], hz: float, gain_db: float) -> NDArray[np.float64]:
    """A first-order high shelf."""
    gain = 10 ** (gain_db / 20)
    b, a = scipy.signal.butter(1, hz, "highpass", fs=RATE)
    high: NDArray[np.float64] = scipy.signal.lfilter(b, a, sound)
    return sound + (gain - 1) * high
