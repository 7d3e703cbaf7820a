"""What a stage listens to: itself, or another channel through a filter of its own."""

from functools import lru_cache

from arkund.core.process.cascade import Cascade, Filter, filter_sections
from arkund.core.process.stage import Processor
from arkund.core.process.values import Part, text, value

LOWEST_HZ, HIGHEST_HZ = 20.0, 20000.0


class Key(Part):
    """The sound that a stage's detector hears. ``source`` names a mic, group or bus, or the hits of
    a piece (``snare_hits``: a pulse at each, as loud as its velocity); empty: what the stage
    itself is given. The filters are 12 dB an octave and out at their ends."""

    source: str = text("", "listens to", pattern=r"^([a-z][a-z0-9_]{0,31})?$")
    high_pass_hz: float = value(
        LOWEST_HZ,
        LOWEST_HZ,
        2000,
        "Hz",
        "key high-pass",
        scale="log",
        step=1.03,
        ticks=(20, 50, 100, 300, 1000),
        hint="far left: off",
    )
    low_pass_hz: float = value(
        HIGHEST_HZ,
        200,
        HIGHEST_HZ,
        "Hz",
        "key low-pass",
        scale="log",
        step=1.03,
        ticks=(300, 1000, 3000, 10000, 20000),
        hint="far right: off",
    )

    @property
    def is_plain(self) -> bool:
        """Whether the stage hears what it is given, as it is."""
        return not self.source and not self.is_filtered

    @property
    def is_filtered(self) -> bool:
        """Whether a filter is in."""
        return self.high_pass_hz > LOWEST_HZ or self.low_pass_hz < HIGHEST_HZ

    def filters(self, rate: int) -> Processor:
        """The filters as the engine runs them."""
        return _filters(self, rate)


@lru_cache(maxsize=256)
def _filters(key: Key, rate: int) -> Cascade:
    high = Filter(on=key.high_pass_hz > LOWEST_HZ, frequency_hz=key.high_pass_hz)
    low = Filter(on=key.low_pass_hz < HIGHEST_HZ, frequency_hz=key.low_pass_hz)
    return Cascade(filter_sections(high, low, rate), rate)
