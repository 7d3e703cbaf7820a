"""Single hits of the simulated kit, each until it has rung out, as its own mic hears them."""

import itertools

import numpy as np
from numpy.typing import NDArray

from arkund.core.errors import ArkundError
from arkund.core.kit.roles import close_mics, is_shell, label, piece_family
from arkund.core.simulate.copper import copper
from arkund.core.simulate.drummer import PlayedHit
from arkund.core.simulate.kit import play
from arkund.core.simulate.room import block_spectra, record

VELOCITIES = (40, 64, 84, 100, 112, 124)
ALIKE = 2
"""Hits at each velocity, no two the same."""

APART_S = {True: 1.6, False: 3.2}
"""How long a drum's, or a cymbal's, hit rings."""

FIRST_S = 0.05


def single_hits(piece: str, seed: int = 1) -> tuple[list[NDArray[np.float32]], int]:
    """Hits of a piece from soft to loud, each ``(frames,)``, and their rate in Hz.

    A piece that the kit does not have is played by another of its family. Raises `ArkundError`
    where there is none with a mic.
    """
    preset = copper()
    names = [mic.name for mic in preset.mics]
    miced = [p for p in preset.kit.pieces if close_mics(names, p)]
    played = next(
        (p for p in miced if p == piece),
        next((p for p in miced if piece_family(p) == piece_family(piece)), None),
    )
    if played is None:
        raise ArkundError(f"The simulated kit has no close mic on {label(piece)}.")
    apart = APART_S[is_shell(played)]
    every = [v for v in VELOCITIES for _ in range(ALIKE)]
    hits = [PlayedHit(FIRST_S + n * apart, played, v) for n, v in enumerate(every)]
    frames, rate = round(len(every) * apart * preset.rate), preset.rate
    rng = np.random.default_rng(seed)
    parts = [p for p in play(preset.kit, hits, frames, rate, rng) if p.piece == played]
    mic = preset.mics[names.index(close_mics(names, played)[0])]
    spectra = block_spectra(parts, preset.room, frames, rate)
    heard = record(parts, mic, preset.room, spectra, frames, rate, rng)[played]
    heard = heard * np.float32(0.9 / max(float(np.abs(heard).max()), 1e-9))
    cuts = np.linspace(0, frames, len(every) + 1).astype(int)
    return [heard[a:b] for a, b in itertools.pairwise(cuts)], rate
