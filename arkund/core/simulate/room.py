"""From the parts of a kit to the microphones: distance, pattern, response, room.

Direct sound by spherical spreading at the speed of sound, six first reflections (image sources),
a diffuse tail; each path through the mic's response as a minimum-phase filter, so that nothing
arrives before the sound does.
"""

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.simulate.kit import Part, Position
from arkund.core.units import SPEED_OF_SOUND_M_S

TAPS = 512
BLOCK = 1 << 16
SINC_HALF = 32
_WINDOW = np.kaiser(2 * SINC_HALF, 9.0)
SHADOW = 0.3
"""What legs and drums let through of the top of a surface that faces away."""


@dataclass(frozen=True)
class Microphone:
    """A mic in space. ``pattern`` is 0 for omni, 0.5 cardioid, 0.63 supercardioid (share of the
    gradient); ``low_hz`` and ``high_hz`` its −3 dB points; ``presence_db`` a lift at 5 kHz;
    ``peak_dbfs`` where its typical loud hit is set; ``inverted`` a swapped plug."""

    name: str
    position: Position
    aim: Position
    pattern: float = 0.5
    low_hz: float = 35.0
    high_hz: float = 17000.0
    presence_db: float = 0.0
    peak_dbfs: float = -10.0
    inverted: bool = False
    inside: str = ""


@dataclass(frozen=True)
class Room:
    """A box: size in m around the drummer, share reflected by walls, T60 in s, tail level at 1 m."""

    size: Position = (6.0, 5.4, 2.9)
    origin: Position = (3.1, 1.4, 0.0)
    reflect: float = 0.45
    t60_s: float = 0.42
    diffuse: float = 0.16


def arrival_samples(part: Part, mic: Microphone, rate: int) -> float:
    """When sound given off at sample 0 first reaches the mic, in fractional samples."""
    return (_distance(part.position, mic.position) + part.delay_m) / SPEED_OF_SOUND_M_S * rate


def direct_gain(part: Part, mic: Microphone) -> float:
    """Amplitude and sign of the direct sound of a part at a mic, 1 at 1 m on axis.

    The root of r² + a² stands for r, since a head of radius a is no point; inside a drum the
    other pieces are 12 dB quieter.
    """
    r = _distance(part.position, mic.position)
    gain = _directivity(part.position, mic) / float(np.hypot(r, 0.45 * part.size_m))
    if mic.inside and mic.inside != part.piece:
        gain *= 0.25
    if part.dipole and mic.position[2] > part.position[2]:
        gain = -gain
    return -gain if mic.inverted else gain


def impulse_response(
    part: Part, mic: Microphone, room: Room, rate: int, rng: np.random.Generator
) -> NDArray[np.float32]:
    """All that lies between a part and the signal of a mic, as one filter."""
    length = _response_length(room, rate)
    dry = np.zeros(length + 2 * SINC_HALF)
    _add_arrival(dry, arrival_samples(part, mic, rate), direct_gain(part, mic))
    direct = np.convolve(dry, _response(part, mic, rate))[:length]

    wet = np.zeros(length + 2 * SINC_HALF)
    sign = -1.0 if mic.inverted else 1.0
    for image in _images(part.position, room):
        r = _distance(image, mic.position)
        _add_arrival(
            wet,
            (r + part.delay_m) / SPEED_OF_SOUND_M_S * rate,
            sign * room.reflect * _directivity(image, mic) / r,
        )
    start = round(arrival_samples(part, mic, rate) + 0.006 * rate)
    time = np.arange(len(wet) - start) / rate
    swell = 1 - np.exp(-time / 0.008)
    tail = rng.standard_normal(len(time)) * 10 ** (-3 * time / room.t60_s) * swell
    wet[start:] += tail * room.diffuse / np.sqrt(0.15 * rate * room.t60_s)
    if mic.inside:
        wet *= 0.25
    # What has been around the room has lost its top.
    alpha = np.exp(-2 * np.pi * 5500 / rate)
    softened = np.convolve(wet, (1 - alpha) * alpha ** np.arange(24))[:length]
    far = np.convolve(softened, _response(None, mic, rate))[:length]
    return (direct + far).astype(np.float32)


def _distance(a: Position, b: Position) -> float:
    return float(np.linalg.norm(np.subtract(a, b)))


def _directivity(source: Position, mic: Microphone) -> float:
    to_source = np.subtract(source, mic.position)
    axis = np.subtract(mic.aim, mic.position)
    cos = float(
        np.dot(to_source, axis) / max(np.linalg.norm(to_source) * np.linalg.norm(axis), 1e-9)
    )
    # No real mic is perfectly deaf to any side.
    return max(1 - mic.pattern + mic.pattern * cos, 0.12)


def _images(source: Position, room: Room) -> list[Position]:
    images = []
    for axis in range(3):
        for wall in (-room.origin[axis], room.size[axis] - room.origin[axis]):
            image = list(source)
            image[axis] = 2 * wall - source[axis]
            images.append((image[0], image[1], image[2]))
    return images


def _add_arrival(out: NDArray[np.float64], at: float, gain: float) -> None:
    """Add an impulse at a fractional sample: a sinc under a Kaiser window."""
    whole = int(np.floor(at))
    taps = np.arange(-SINC_HALF + 1, SINC_HALF + 1)
    kernel = np.sinc(taps - (at - whole)) * _WINDOW
    first = whole - SINC_HALF + 1
    cut = max(-first, 0)
    stop = min(first + len(kernel), len(out))
    if stop > first + cut:
        out[first + cut : stop] += gain * kernel[cut : stop - first]


def _response(part: Part | None, mic: Microphone, rate: int) -> NDArray[np.float64]:
    """Minimum-phase filter of the mic: band limits, presence, proximity, dull off axis."""
    hz = np.maximum(scipy.fft.rfftfreq(8 * TAPS, 1 / rate), 1.0)
    magnitude = 1 / np.sqrt(1 + (mic.low_hz / hz) ** 4) / np.sqrt(1 + (hz / mic.high_hz) ** 4)
    magnitude *= 10 ** (mic.presence_db / 20 * np.exp(-(np.log2(hz / 5000) ** 2)))
    if part is not None:
        r = max(_distance(part.position, mic.position), 0.03)
        near = 55.0 / hz / r * mic.pattern
        magnitude *= np.sqrt(1 + np.minimum(near, 2.0) ** 2)
        off_axis = 1 - _directivity(part.position, mic)
        magnitude /= np.sqrt(1 + (hz / 9000) ** 2 * off_axis * mic.pattern * 2)
        if mic.inside and mic.inside != part.piece:
            magnitude /= np.sqrt(1 + (hz / 1500) ** 2)
        behind = part.faces_from is not None and mic.position[1] < part.faces_from
        if behind and mic.inside != part.piece:
            magnitude *= np.sqrt((1 + (SHADOW * hz / 900) ** 2) / (1 + (hz / 900) ** 2))
    return _minimum_phase(magnitude)[:TAPS]


def _minimum_phase(magnitude: NDArray[np.float64]) -> NDArray[np.float64]:
    """Impulse response of least delay with a given magnitude, by the real cepstrum."""
    cepstrum = scipy.fft.irfft(np.log(np.maximum(magnitude, 1e-6)))
    half = len(cepstrum) // 2
    cepstrum[1:half] *= 2
    cepstrum[half + 1 :] = 0
    response: NDArray[np.float64] = scipy.fft.irfft(np.exp(scipy.fft.rfft(cepstrum)))
    return response


def record(
    parts: list[Part],
    mic: Microphone,
    room: Room,
    spectra: list[list[NDArray[np.complex64]]],
    frames: int,
    rate: int,
    rng: np.random.Generator,
) -> dict[str, NDArray[np.float32]]:
    """What one mic hears of each piece, ``{piece: (frames,)}``, before its preamp.

    ``spectra`` comes from `block_spectra`: it is the same for all mics.
    """
    pieces = list(dict.fromkeys(part.piece for part in parts))
    heard = {piece: np.zeros(frames + BLOCK, np.float32) for piece in pieces}
    filters = [
        scipy.fft.rfft(impulse_response(part, mic, room, rate, rng), BLOCK).astype(np.complex64)
        for part in parts
    ]
    step = _block_step(room, rate)
    for b, start in enumerate(range(0, frames, step)):
        for piece in pieces:
            own = [p for p, part in enumerate(parts) if part.piece == piece and spectra[p][b].any()]
            if own:
                total = spectra[own[0]][b] * filters[own[0]]
                for p in own[1:]:
                    total += spectra[p][b] * filters[p]
                heard[piece][start : start + BLOCK] += scipy.fft.irfft(total, BLOCK)
    return {piece: sound[:frames] for piece, sound in heard.items()}


def block_spectra(
    parts: list[Part], room: Room, frames: int, rate: int
) -> list[list[NDArray[np.complex64]]]:
    """Spectra of the parts, block by block, for overlap-add with the impulse responses."""
    step = _block_step(room, rate)
    return [
        [
            scipy.fft.rfft(part.sound[start : min(start + step, frames)], BLOCK)
            for start in range(0, frames, step)
        ]
        for part in parts
    ]


def _block_step(room: Room, rate: int) -> int:
    return BLOCK - _response_length(room, rate) + 1


def _response_length(room: Room, rate: int) -> int:
    return round((0.9 * room.t60_s + 0.03) * rate) + TAPS
