"""Second-order sections: designed to match the analogue curve, run in cascade.

Poles are mapped by z = e^{sT}, so they decay and ring as the analogue filter does and are stable
at every setting. The numerator is then solved so that the magnitude equals the analogue one at
three frequencies (after Vicanek, "Matched Second Order Digital Filters", 2016): no cramping
toward half the sample rate, which the bilinear transform brings.
"""

import math
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from arkund.core.kernel import kernel
from arkund.core.shape.sides import are_alike

Section = tuple[float, float, float, float, float]
"""b0, b1, b2, a1, a2 with a0 = 1."""


def analogue_magnitude(
    numerator: tuple[float, float, float],
    denominator: tuple[float, float, float],
    hz: NDArray[np.float64],
    frequency: float,
) -> NDArray[np.float64]:
    """\\|H\\| at ``hz`` of (n2 s² + n1 s + n0) / (d2 s² + d1 s + d0), s normalised to ``frequency``."""
    s = 1j * np.asarray(hz, dtype=np.float64) / frequency
    n2, n1, n0 = numerator
    d2, d1, d0 = denominator
    result: NDArray[np.float64] = np.abs((n2 * s * s + n1 * s + n0) / (d2 * s * s + d1 * s + d0))
    return result


Prototype = tuple[tuple[float, float, float], tuple[float, float, float]]


def bell(gain_db: float, q: float) -> Prototype:
    """Analogue bell: gain at its frequency, constant Q between half-gain points."""
    a = 10 ** (gain_db / 40)
    return (1.0, a / q, 1.0), (1.0, 1.0 / (a * q), 1.0)


def low_shelf(gain_db: float, q: float) -> Prototype:
    """Analogue low shelf: ``gain_db`` far below, half of it at the frequency."""
    a = 10 ** (gain_db / 40)
    root = math.sqrt(a)
    return (1.0, root / q, a), (1.0, root / (q * a), 1.0 / a)


def high_shelf(gain_db: float, q: float) -> Prototype:
    """Analogue high shelf: ``gain_db`` far above, half of it at the frequency."""
    a = 10 ** (gain_db / 40)
    root = math.sqrt(a)
    return (a, root / q, 1.0), (1.0 / a, root / (q * a), 1.0)


def tilt(gain_db: float) -> Prototype:
    """Analogue tilt: ``gain_db`` far above its frequency, as much less far below, none at it; 6 dB an octave at
    most."""
    a = 10 ** (gain_db / 20)
    return (0.0, a, 1.0), (0.0, 1.0, a)


def notch(depth_db: float, q: float) -> Prototype:
    """Analogue notch: ``depth_db`` (under 0) at its frequency, −3 dB where a resonance of Q is."""
    return (1.0, 10 ** (depth_db / 20) / q, 1.0), (1.0, 1.0 / q, 1.0)


def high_pass_2(q: float) -> Prototype:
    """Analogue second-order high-pass."""
    return (1.0, 0.0, 0.0), (1.0, 1.0 / q, 1.0)


def low_pass_2(q: float) -> Prototype:
    """Analogue second-order low-pass."""
    return (0.0, 0.0, 1.0), (1.0, 1.0 / q, 1.0)


def high_pass_1() -> Prototype:
    """Analogue first-order high-pass."""
    return (0.0, 1.0, 0.0), (0.0, 1.0, 1.0)


def low_pass_1() -> Prototype:
    """Analogue first-order low-pass."""
    return (0.0, 0.0, 1.0), (0.0, 1.0, 1.0)


@lru_cache(4096)
def match(prototype: Prototype, frequency: float, rate: int) -> Section:
    """Digital section whose magnitude follows the analogue prototype up to half the rate.

    ``frequency`` in Hz, held below 0.49 of ``rate``. A filter that takes away is the exact
    inverse of the one that gives as much, whose poles lie lower and map more truly.
    """
    frequency = min(frequency, 0.49 * rate)
    numerator, denominator = prototype
    if numerator[2] == 0.0:
        return _match_high_pass(prototype, frequency, rate)
    if numerator[0] != 0.0 and _resonance(numerator) > _resonance(denominator):
        b0, b1, b2, a1, a2 = _match_three(denominator, numerator, frequency, rate)
        # A fit, unlike an exact match, may leave zeros on the unit circle; as poles they must not.
        radius = float(np.max(np.abs(np.roots([b0, b1, b2]))))
        if radius > LARGEST_RADIUS:
            shrink = LARGEST_RADIUS / radius
            b1, b2 = b1 * shrink, b2 * shrink * shrink
        return 1 / b0, a1 / b0, a2 / b0, b1 / b0, b2 / b0
    return _match_three(numerator, denominator, frequency, rate)


LARGEST_RADIUS = 1 - 1e-6


def _resonance(polynomial: tuple[float, float, float]) -> float:
    """How low and narrow the roots of n2 s² + n1 s + n0 lie, for comparison of two."""
    n2, n1, n0 = polynomial
    return math.sqrt(n2 / n0) + 0.01 * math.sqrt(n2 * n0) / n1


def _match_three(
    numerator: tuple[float, float, float],
    denominator: tuple[float, float, float],
    frequency: float,
    rate: int,
) -> Section:
    """Numerator solved for equal magnitude near zero, at the filter's frequency and as high as
    it goes; high up, or where no real filter does that, for the least relative error from zero
    to 0.26 of the rate (11.5 kHz at 44.1 kHz)."""
    a1, a2 = _poles(denominator, 2 * math.pi * frequency / rate)
    power = np.array([(1 + a1 + a2) ** 2, (1 - a1 + a2) ** 2, -4 * a2])

    def system(at: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        wanted = analogue_magnitude(numerator, denominator, at, frequency) ** 2
        sine = np.sin(math.pi * at / rate) ** 2
        basis = np.stack([1 - sine, sine, 4 * sine * (1 - sine)], axis=1)
        return basis, wanted * (basis @ power)

    b = np.linalg.solve(
        *system(np.array([_low_point(frequency), min(frequency, 0.3 * rate), 0.5 * rate]))
    )
    cramped = frequency > 0.2 * rate
    if cramped or b[1] <= 0 or (0.5 * (math.sqrt(max(b[0], 0)) + math.sqrt(b[1]))) ** 2 + b[2] < 0:
        at = np.concatenate([[_low_point(frequency)], np.linspace(0.01, 0.26, 60) * rate])
        basis, right = system(at)
        scale = np.abs(right)
        scale[0] *= 0.01
        b = np.linalg.lstsq(basis / scale[:, None], right / scale, rcond=None)[0]
    return (*_numerator(b.astype(np.float64)), a1, a2)


def _match_high_pass(prototype: Prototype, frequency: float, rate: int) -> Section:
    """Zeros at zero frequency, as the slope wants, and the analogue magnitude at the frequency."""
    numerator, denominator = prototype
    a1, a2 = _poles(denominator, 2 * math.pi * frequency / rate)
    zeros = (1.0, -2.0, 1.0) if numerator[0] else (1.0, -1.0, 0.0)
    at = np.array([frequency])
    wanted = analogue_magnitude(numerator, denominator, at, frequency)[0]
    bare = 10 ** (response_db([(*zeros, a1, a2)], at, rate)[0] / 20)
    g = float(wanted / bare)
    return g * zeros[0], g * zeros[1], g * zeros[2], a1, a2


def _low_point(frequency: float) -> float:
    return min(1e-3 * frequency, 0.1)


def _poles(denominator: tuple[float, float, float], angle: float) -> tuple[float, float]:
    d2, d1, d0 = denominator
    if d2 == 0.0:
        return -math.exp(-angle * d0 / d1), 0.0
    damping, natural = d1 / (2 * d2), d0 / d2
    under = damping * damping - natural
    if under >= 0:
        root = math.sqrt(under)
        p1, p2 = math.exp(-angle * (damping - root)), math.exp(-angle * (damping + root))
        return -(p1 + p2), p1 * p2
    radius = math.exp(-angle * damping)
    return -2 * radius * math.cos(angle * math.sqrt(-under)), radius * radius


def _numerator(b: NDArray[np.float64]) -> tuple[float, float, float]:
    """Minimum-phase b0, b1, b2 of the squared magnitude's coefficients (Vicanek 2016, eq. 29)."""
    root_low, root_high = math.sqrt(max(b[0], 0.0)), math.sqrt(max(b[1], 0.0))
    w = 0.5 * (root_low + root_high)
    b0 = 0.5 * (w + math.sqrt(max(w * w + b[2], 0.0)))
    b1 = 0.5 * (root_low - root_high)
    return b0, b1, -b[2] / (4 * b0)


def butterworth(
    kind: str, frequency: float, slope_db_oct: int, resonance: float, rate: int
) -> list[Section]:
    """Sections of a ``high_pass`` or ``low_pass`` of 6 to 48 dB an octave.

    ``resonance`` (0.5 to 4) multiplies the Q of the sharpest section; 1 is maximally flat.
    """
    order = slope_db_oct // 6
    high = kind == "high_pass"
    sections = [match(high_pass_1() if high else low_pass_1(), frequency, rate)] * (order % 2)
    pairs = order // 2
    for k in range(pairs):
        q = 1 / (2 * math.cos(math.pi * (2 * k + 1 + order % 2) / (2 * order)))
        if order % 2:
            q = 1 / (2 * math.cos(math.pi * (k + 1) / order))
        if k == pairs - 1:
            q *= resonance
        sections.append(match(high_pass_2(q) if high else low_pass_2(q), frequency, rate))
    return sections


def response_db(sections: list[Section], hz: NDArray[np.float64], rate: int) -> NDArray[np.float64]:
    """Magnitude in dB ``(n,)`` of the cascade at ``hz`` ``(n,)``."""
    z = np.exp(-2j * np.pi * np.asarray(hz, dtype=np.float64) / rate)
    total = np.ones(len(z), np.complex128)
    for b0, b1, b2, a1, a2 in sections:
        total *= (b0 + b1 * z + b2 * z * z) / (1 + a1 * z + a2 * z * z)
    return 20 * np.log10(np.abs(total) + 1e-12)


def memory(sections: list[Section], floor_db: float = -110.0) -> int:
    """Samples after which what went in before is below ``floor_db`` at the output."""
    longest = 1.0
    for _, _, _, a1, a2 in sections:
        radius = _radius(a1, a2)
        if radius > 0:
            # Twice, for sections in a row pass their ringing on to each other.
            longest = max(longest, 2 * floor_db / 20 / math.log10(min(radius, 1 - 1e-9)))
    return math.ceil(longest)


@lru_cache(4096)
def _radius(a1: float, a2: float) -> float:
    """Magnitude of the larger pole."""
    return float(np.max(np.abs(np.roots([1.0, a1, a2]))))


def new_state(sections: list[Section]) -> NDArray[np.float64]:
    """State at rest: two values per section."""
    return np.zeros((len(sections), 2))


def run(
    audio: NDArray[np.float32], sections: list[Section], state: NDArray[np.float64]
) -> NDArray[np.float32]:
    """``audio`` ``(frames,)`` through the cascade; ``state`` is carried from block to block."""
    sound: NDArray[Any] = np.ascontiguousarray(audio, np.float32)
    table = np.array(sections, np.float64).reshape(-1, 5)
    for first in range(0, len(table), 3):
        # Sections in a row work while each waits for its own last sample. Rounded once, at the end.
        some = slice(first, min(first + 3, len(table)))
        out = np.empty(len(sound), np.float32 if some.stop == len(table) else np.float64)
        _IN_A_ROW[some.stop - first](sound, out, table[some], state[some])
        sound = out
    return sound if len(table) else sound.copy()


def run_sides(
    audio: NDArray[np.float32], sections: list[Section], state: NDArray[np.float64]
) -> NDArray[np.float32]:
    """`run` for ``(frames,)`` or each side of ``(frames, 2)``; of two sides the ``state`` holds
    one's after the other's."""
    if audio.ndim == 1:
        return run(audio, sections, state)
    left, right = state[: len(sections)], state[len(sections) :]
    alike = are_alike(audio, left, right)
    one = run(audio[:, 0], sections, left)
    if alike:
        right[:] = left
        return np.stack([one, one], axis=1)
    return np.stack([one, run(audio[:, 1], sections, right)], axis=1)


BLOCK = 4096
TINY = 1e-18

# What the next sample waits for comes last in each line, as one multiply-add ("contract").


@kernel(fastmath={"contract"})
def _one(x, out, c, z):  # type: ignore[no-untyped-def]
    b0, b1, b2, a1, a2 = c[0, 0], c[0, 1], c[0, 2], c[0, 3], c[0, 4]
    s1, s2 = z[0, 0], z[0, 1]
    for start in range(0, len(x), BLOCK):
        for n in range(start, min(start + BLOCK, len(x))):
            v = np.float64(x[n])
            y = b0 * v + s1
            s1 = b1 * v + s2 - a1 * y
            s2 = b2 * v - a2 * y
            out[n] = y
        # Denormal numbers would make silence many times slower than music.
        if abs(s1) < TINY:
            s1 = 0.0
        if abs(s2) < TINY:
            s2 = 0.0
    z[0, 0], z[0, 1] = s1, s2


@kernel(fastmath={"contract"})
def _two(x, out, c, z):  # type: ignore[no-untyped-def]
    b00, b01, b02, a01, a02 = c[0, 0], c[0, 1], c[0, 2], c[0, 3], c[0, 4]
    b10, b11, b12, a11, a12 = c[1, 0], c[1, 1], c[1, 2], c[1, 3], c[1, 4]
    s0, t0 = z[0, 0], z[0, 1]
    s1, t1 = z[1, 0], z[1, 1]
    for start in range(0, len(x), BLOCK):
        for n in range(start, min(start + BLOCK, len(x))):
            v = np.float64(x[n])
            y = b00 * v + s0
            s0 = b01 * v + t0 - a01 * y
            t0 = b02 * v - a02 * y
            w = b10 * y + s1
            s1 = b11 * y + t1 - a11 * w
            t1 = b12 * y - a12 * w
            out[n] = w
        if abs(s0) + abs(t0) < TINY:
            s0 = t0 = 0.0
        if abs(s1) + abs(t1) < TINY:
            s1 = t1 = 0.0
    z[0, 0], z[0, 1] = s0, t0
    z[1, 0], z[1, 1] = s1, t1


@kernel(fastmath={"contract"})
def _three(x, out, c, z):  # type: ignore[no-untyped-def]
    b00, b01, b02, a01, a02 = c[0, 0], c[0, 1], c[0, 2], c[0, 3], c[0, 4]
    b10, b11, b12, a11, a12 = c[1, 0], c[1, 1], c[1, 2], c[1, 3], c[1, 4]
    b20, b21, b22, a21, a22 = c[2, 0], c[2, 1], c[2, 2], c[2, 3], c[2, 4]
    s0, t0 = z[0, 0], z[0, 1]
    s1, t1 = z[1, 0], z[1, 1]
    s2, t2 = z[2, 0], z[2, 1]
    for start in range(0, len(x), BLOCK):
        for n in range(start, min(start + BLOCK, len(x))):
            v = np.float64(x[n])
            y = b00 * v + s0
            s0 = b01 * v + t0 - a01 * y
            t0 = b02 * v - a02 * y
            w = b10 * y + s1
            s1 = b11 * y + t1 - a11 * w
            t1 = b12 * y - a12 * w
            u = b20 * w + s2
            s2 = b21 * w + t2 - a21 * u
            t2 = b22 * w - a22 * u
            out[n] = u
        if abs(s0) + abs(t0) < TINY:
            s0 = t0 = 0.0
        if abs(s1) + abs(t1) < TINY:
            s1 = t1 = 0.0
        if abs(s2) + abs(t2) < TINY:
            s2 = t2 = 0.0
    z[0, 0], z[0, 1] = s0, t0
    z[1, 0], z[1, 1] = s1, t1
    z[2, 0], z[2, 1] = s2, t2


_IN_A_ROW = {1: _one, 2: _two, 3: _three}
