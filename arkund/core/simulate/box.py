"""A simulated outboard box: late, louder or softer, noisy, coloured, on a clock of its own."""

from dataclasses import dataclass

import numpy as np
import soxr
from numpy.typing import NDArray
from scipy import signal

from arkund.core.units import db_to_amplitude


@dataclass(frozen=True)
class Box:
    """What it does: ``late_samples`` (whole), ``gain_db``, ``polarity`` 1 or −1, white ``noise_dbfs`` (RMS),
    saturation by ``drive`` (0 is none) and its top rolled off by one pole at ``top_hz`` (0 is none), and ``drift_ppm``
    of its clock (positive: what comes back is longer)."""

    late_samples: int = 1043
    gain_db: float = -2.3
    polarity: int = 1
    noise_dbfs: float = -84.0
    drive: float = 0.4
    top_hz: float = 18000.0
    drift_ppm: float = 0.0


def coloured(box: Box, sound: NDArray[np.float32], rate: int) -> NDArray[np.float32]:
    """``(frames, sides)`` with the box's colour alone."""
    out = np.asarray(sound, dtype=np.float64)
    if box.drive > 0:
        out = np.tanh(box.drive * out) / box.drive
    if box.top_hz > 0:
        pole = np.exp(-2 * np.pi * box.top_hz / rate)
        out = signal.lfilter([1 - pole], [1, -pole], out, axis=0)
    return np.asarray(out, dtype=np.float32)


def through(box: Box, sound: NDArray[np.float32], rate: int, seed: int = 1) -> NDArray[np.float32]:
    """``(frames, sides)`` as it is recorded back from the box, as many frames as were sent."""
    frames, sides = sound.shape
    out = box.polarity * np.float32(db_to_amplitude(box.gain_db)) * coloured(box, sound, rate)
    if box.drift_ppm:
        out = soxr.resample(out, rate, rate * (1 + 1e-6 * box.drift_ppm), quality="VHQ")
    back = np.zeros((frames, sides), np.float32)
    placed = out[: frames - box.late_samples]
    back[box.late_samples : box.late_samples + len(placed)] = placed
    noise = np.random.default_rng(seed).standard_normal((frames, sides))
    return back + np.float32(db_to_amplitude(box.noise_dbfs)) * noise.astype(np.float32)
