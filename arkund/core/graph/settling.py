"""How early processors in a row must begin for what comes out of them to be right."""

from collections.abc import Iterable, Sequence
from typing import NamedTuple, Self

from arkund.core.process.stage import Processor

SETTLED = 0.7
"""Share of a processor's memory (to about -100 dB) after which it is within -70 dB of what it would be
had it run from the song's start."""

FURTHER = 0.3
"""Share of its memory that each further processor in a row adds to the longest: n equal one-pole
decays in a row fall to -100 dB like a gamma distribution of order n, 0.2 times later each."""

STEP_S, STEP = 0.25, 256
"""What lies behind a channel is counted in steps of memory (seconds) and latency (samples), so that a
value which turns a little leaves it as it is, and with it all that others have rendered."""


MOST_S = 4.0
"""What remembers for longer reads what lies before that from the stretches before, which are remembered
by then, instead of having them rendered again for every stretch."""


class Settling(NamedTuple):
    """Processors in a row: the longest memory, all memories together, and all latencies, in samples."""

    longest: int = 0
    total: int = 0
    latency: int = 0

    def after(self, row: Iterable[Processor]) -> "Settling":
        """With others before them."""
        longest, total, latency = self
        for one in row:
            longest = max(longest, one.memory)
            total, latency = total + one.memory, latency + one.latency
        return Settling(longest, total, latency)

    @property
    def lead(self) -> int:
        """Samples before a span from which they must run for it to be right within -60 dBFS."""
        return int(SETTLED * (self.longest + FURTHER * (self.total - self.longest))) + self.latency

    def stepped(self, rate: int) -> "Settling":
        """The next that is not less, by whole steps, but for a lead of more than `MOST_S`."""
        step = round(STEP_S * rate)
        longest, total, latency = self
        if (much := self.lead / (MOST_S * rate)) > 1:
            longest, total = int(longest / much), int(total / much)
        return Settling(
            -(-longest // step) * step, -(-total // step) * step, -(-latency // STEP) * STEP
        )

    @classmethod
    def worst(cls, several: Sequence[Self]) -> "Settling":
        """One that is enough for all."""
        return Settling(*map(max, zip(*several, strict=True))) if several else Settling()


ALONE = Settling()
"""Nobody hears it but who asks for it."""
