"""Single hits of real drums from free sound fonts, fetched as Debian's packages and never at run time.

Each source is an independent recording of drums; its file is pinned by hash, so that a figure names what
it was measured on. `benchmarks/worlds` leaves whole sources out when it reports. (The drums of Debian's
musescore-general-soundfont-lossless are the first source's, sample by sample, but for three hats: it is
none of its own.)
"""

import hashlib
import pickle
import shutil
import struct
import tempfile
from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path

import numpy as np
import soxr
from numpy.typing import NDArray

from arkund.core.errors import ArkundError
from arkund.core.simulate.drummer import PlayedHit
from arkund.core.simulate.kit import Kit
from arkund.core.simulate.kit import play as play_kit
from arkund.core.simulate.presets import PRESETS
from benchmarks.recorded.single_hits import RATE, VELOCITIES, Sounds, from_first_stir, play

FONTS = Path("/usr/share/sounds/sf2")
PATCHES = Path("/usr/share/midi/freepats/Drum_000")

PIECE_NOTES: dict[str, tuple[int, ...]] = {
    "kick": (36, 35),
    "snare": (38, 40),
    "tom_1": (50, 48),
    "tom_2": (47, 45),
    "tom_3": (43, 41),
    "hat": (42,),
    "hat pedal": (44,),
    "hat open": (46,),
    "ride": (51, 59),
    "crash_1": (49, 57),
    "crash_2": (57, 49),
}
"""Notes of the percussion key map of General MIDI by which a piece is played."""


@dataclass(frozen=True)
class Source:
    """A font: Debian's ``package``, the file with its hash, the percussion ``programs`` that are acoustic
    kits, and the MIDI channel on which it plays them."""

    name: str
    package: str
    file: Path
    sha256: str
    programs: tuple[int, ...]
    channel: int = 9

    def check(self) -> None:
        """Raise `ArkundError` where the file is missing, or is not the one that figures rest on."""
        if not self.file.exists():
            raise ArkundError(
                f"Worlds need Debian's {self.package}: apt-get install {self.package}."
            )
        if _digest(self.file) != self.sha256:
            raise ArkundError(f"{self.file} is not the version that worlds are made of.")

    def kit(self, program: int) -> dict[int, Sounds]:
        """The hits of one kit by note; notes on which it is silent are left out."""
        self.check()
        if self.file.is_dir():
            return _patches(self.file, _all_notes())
        played = play(self.file, program, _all_notes(), self.channel)
        out = {}
        for number, note in enumerate(_all_notes()):
            layers = played[number * len(VELOCITIES) : (number + 1) * len(VELOCITIES)]
            loudest = max(float(np.abs(layer).max(initial=0.0)) for layer in layers)
            if loudest > 1e-3:
                out[note] = Sounds(
                    tuple((v, x / loudest) for v, x in zip(VELOCITIES, layers, strict=True))
                )
        return out


SOURCES: tuple[Source, ...] = (
    Source(
        "fluid",
        "fluid-soundfont-gm",
        FONTS / "FluidR3_GM.sf2",
        "74594e8f4250680adf590507a306655a299935343583256f3b722c48a1bc1cb0",
        (0, 8, 16, 32, 40),
    ),
    Source(
        "tim",
        "timgm6mb-soundfont",
        FONTS / "TimGM6mb.sf2",
        "c5378b62028c920cb11e4803327983fee2f2cdff5dc89c708e39da417e51c854",
        (0, 8, 16, 32, 40),
    ),
    Source(
        "pearl",
        "avldrums.lv2-soundfont",
        FONTS / "Black_Pearl_4_LV2.sf2",
        "3bc27deb1b9d6a919c7cfc4ba5fc5c077ac7899fc21becbbb234749ffc523d13",
        (0,),
        0,
    ),
    Source(
        "zeppelin",
        "avldrums.lv2-soundfont",
        FONTS / "Red_Zeppelin_4_LV2.sf2",
        "e8710b899ece8f83b109d0e2f6a89b007b864c8c088ca3ad3cd6e47bd8e629cc",
        (0,),
        0,
    ),
    Source(
        "freepats",
        "freepats",
        PATCHES,
        "f47147693cc5933a3d08767ea39c3b4df146dfc9aa5b004bb936b8169646a3c2",
        (0,),
    ),
)
BY_NAME = {source.name: source for source in SOURCES}

SIMULATED, PRESET = "simulated", "copper"
"""A source for tests: hits of the simulator's own kit, which every machine has."""

STIRS_S, RINGS_S = 0.02, 2.6


def simulated_kit() -> dict[int, Sounds]:
    """The simulator's hits by note, as those of a font are."""
    kit = PRESETS[PRESET]().kit
    played = {piece: notes[0] for piece, notes in PIECE_NOTES.items() if piece in kit.pieces}
    out = {}
    for piece, note in played.items():
        layers = [(v, _simulated(kit, piece, v)) for v in VELOCITIES[::2]]
        loudest = max(float(np.abs(sound).max()) for _, sound in layers)
        out[note] = Sounds(tuple((v, sound / loudest) for v, sound in layers))
    return out


def _simulated(kit: Kit, piece: str, velocity: int) -> NDArray[np.float64]:
    alone = replace(
        kit,
        drums=tuple(drum for drum in kit.drums if drum.piece == piece),
        cymbals=tuple(cymbal for cymbal in kit.cymbals if cymbal.piece == piece),
    )
    hit, rng = PlayedHit(STIRS_S, piece, velocity), np.random.default_rng(velocity)
    parts = play_kit(alone, [hit], round((STIRS_S + RINGS_S) * RATE), RATE, rng)
    own = [part.sound for part in parts if not part.answers]
    return from_first_stir(np.sum(own, axis=0, dtype=np.float64))


def _all_notes() -> list[int]:
    return sorted({note for notes in PIECE_NOTES.values() for note in notes})


def _patch_files(folder: Path, notes: list[int]) -> list[Path]:
    return [path for path in sorted(folder.glob("*.pat")) if int(path.name[:3]) in notes]


@lru_cache(maxsize=16)
def _digest(path: Path) -> str:
    if path.is_dir():
        parts = hashlib.sha256()
        for patch in _patch_files(path, _all_notes()):
            parts.update(patch.read_bytes())
        return parts.hexdigest()
    with path.open("rb") as stream:
        return hashlib.file_digest(stream, "sha256").hexdigest()


@lru_cache(maxsize=8)
def kit_of(name: str, program: int) -> dict[int, Sounds]:
    """The hits of a source's kit, rendered once and kept in the machine's temporary folder; what another
    source before it in the list has too is left out."""
    if name == SIMULATED:
        return simulated_kit()
    folder = Path(tempfile.gettempdir()) / "arkund-worlds"
    folder.mkdir(exist_ok=True)
    path = folder / f"{name}-{program}.layers"
    if path.exists():
        return {note: Sounds(layers) for note, layers in pickle.loads(path.read_bytes()).items()}
    if shutil.which("fluidsynth") is None:
        raise ArkundError("Worlds need Debian's fluidsynth: apt-get install fluidsynth.")
    made = BY_NAME[name].kit(program)
    part = path.with_suffix(f".{id(made)}")
    part.write_bytes(pickle.dumps({note: s.layers for note, s in made.items()}))
    part.replace(path)
    return made


def _patches(folder: Path, notes: list[int]) -> dict[int, Sounds]:
    """Hits of a folder of GUS patches: one recording a note, so its velocities differ in level alone."""
    out = {}
    for path in _patch_files(folder, notes):
        sound = from_first_stir(_patch(path.read_bytes()))
        sound = sound / (float(np.abs(sound).max(initial=0.0)) or 1.0)
        layers = tuple((v, sound * (v / VELOCITIES[-1])) for v in VELOCITIES)
        out[int(path.name[:3])] = Sounds(layers)
    return out


PATCH_HEADER, INSTRUMENT_HEADER, LAYER_HEADER, SAMPLE_HEADER = 129, 63, 47, 96


def _patch(content: bytes) -> NDArray[np.float64]:
    """The first sample of a GUS patch (GF1PATCH110) at `RATE`."""
    if content[:11] != b"GF1PATCH110":
        raise ArkundError("This is no GUS patch.")
    at = PATCH_HEADER + INSTRUMENT_HEADER + LAYER_HEADER
    size, rate, modes = (
        struct.unpack_from("<I", content, at + 8)[0],
        struct.unpack_from("<H", content, at + 20)[0],
        content[at + 55],
    )
    data = content[at + SAMPLE_HEADER : at + SAMPLE_HEADER + size]
    wide, unsigned = bool(modes & 1), bool(modes & 2)
    kind = ("<u2" if unsigned else "<i2") if wide else ("u1" if unsigned else "i1")
    raw = np.frombuffer(data[: len(data) - len(data) % (2 if wide else 1)], kind).astype(float)
    full = 32768.0 if wide else 128.0
    sound = (raw - full) / full if unsigned else raw / full
    out: NDArray[np.float64] = soxr.resample(sound, rate, RATE)
    return out
