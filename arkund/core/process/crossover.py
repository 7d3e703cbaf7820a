"""A crossover: what lies below a frequency from one source, what lies above it from another."""

from typing import Literal

from arkund.core.process.cascade import Cascade, Filter, filter_sections

Side = Literal["low_pass", "high_pass"]


def crossover(
    side: Side, frequency_hz: float, slope_db_oct: Literal[24, 48], rate: int
) -> tuple[Cascade, Cascade]:
    """The two processes in a row that make one ``side`` at ``rate`` (samples/s).

    Each is a Butterworth filter of half the slope, so that both sides are 6 dB down and in phase at
    ``frequency_hz`` and sum to one magnitude everywhere (Linkwitz and Riley, "Active Crossover
    Networks for Noncoincident Drivers", 1976).
    """
    half: Literal[12, 24] = 12 if slope_db_oct == 24 else 24
    own = Filter(on=True, frequency_hz=frequency_hz, slope_db_oct=half)
    out = Filter(on=False)
    high, low = (own, out) if side == "high_pass" else (out, own)
    process = Cascade(filter_sections(high, low, rate), rate)
    return process, process
