"""What every stage of a chain is, and what the engine asks of it."""

from collections.abc import Mapping
from functools import lru_cache
from typing import Annotated, Any, ClassVar, Literal, Protocol

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from arkund.core.process.values import Part, switch

Audio = NDArray[np.float32]

Id = Annotated[str, Field(pattern=r"^[a-z][a-z0-9_]{0,15}$")]
"""Names a stage, a band or a difference for good, wherever it is moved to."""


class Processor(Protocol):
    """A causal process that runs block by block with a state.

    ``latency`` samples pass before what goes in comes out; ``memory`` samples after it went in it
    no longer matters. ``run`` takes ``(frames,)`` or ``(frames, 2)``; ``at_rest`` makes the state
    for so many channels. A detector hears ``key`` where there is one. ``at`` is the sample of the song
    that ``audio`` begins with: what goes in tempo is then the same wherever a chain begins.
    """

    latency: int
    memory: int

    def settings(self) -> Any: ...

    def at_rest(self, channels: int = 1) -> NDArray[np.float64]: ...

    def run(
        self, audio: Audio, state: NDArray[np.float64], key: Audio | None = None, at: int = 0
    ) -> Audio: ...


class Tracing(Processor, Protocol):
    """A process that says what it takes off: its reduction in dB, a point every `TRACE_STEP` samples."""

    def run_traced(
        self, audio: Audio, state: NDArray[np.float64], key: Audio | None = None
    ) -> tuple[Audio, NDArray[np.float32]]: ...


Measured = Literal["peaks", "hit", "gaps"]
"""What stands in a ruler: the peaks of hits, the average hit over time, the time to the next hit."""


class Listening(Protocol):
    """What a detector listens to (`core/process/key.py`)."""

    @property
    def source(self) -> str: ...
    @property
    def is_plain(self) -> bool: ...
    @property
    def is_filtered(self) -> bool: ...
    def filters(self, rate: int) -> Processor: ...


class Stage(Part):
    """One processor in a chain. ``on`` is false where it is bypassed: set, but not heard."""

    label: ClassVar[str]
    about: ClassVar[str]
    busy: ClassVar[dict[str, Any]] = {}
    """Settings with which its kernel has something to do, where those that it comes with are none."""

    on_a_bus: ClassVar[Mapping[str, Any]] = {}
    """What it is set to where it is put on a bus, if that is not what it comes with."""

    reduces: ClassVar[bool] = False
    """Whether its process is a `Tracing` one."""

    measured: ClassVar[Mapping[str, Measured]] = {}
    """What its hits say of a value, by the value's name."""

    id: Id
    on: bool = switch(True, "active or bypassed")

    @property
    def is_transparent(self) -> bool:
        """Whether sound passes untouched."""
        return not self.on

    @property
    def listens(self) -> Listening | None:
        """What its detector hears; None of a stage without one."""
        # Not by getattr: a model searches long for what it does not have.
        return self.__dict__.get("key")

    def transfer_db(self, levels_db: NDArray[np.float64]) -> NDArray[np.float64] | None:
        """What becomes of steady levels ``(n,)`` dBFS while it is on; None where level does not matter."""
        return None

    def said_of(self, peaks_db: NDArray[np.float64], reduction_db: float) -> str:
        """What it does to hits with these peaks ``(hits,)``, of which it takes so much at most, in a few
        words."""
        if not self.reduces:
            return ""
        return f"at most −{reduction_db:.1f} dB" if reduction_db else "no reduction"

    def noted(self, peaks_db: NDArray[np.float64], top_dbtp: float) -> Mapping[str, str]:
        """Words beside a value, by its name, for hits with these peaks ``(hits,)`` and the loudest true peak."""
        return {}

    def proposed(self, peaks_db: NDArray[np.float64]) -> Mapping[str, float]:
        """Where a value would begin to matter to hits with these peaks ``(hits,)``, by its name."""
        return {}

    def process(self, rate: int) -> Processor:
        """The stage as the engine runs it at ``rate`` Hz."""
        raise TypeError("every kind of stage has a process of its own")


@lru_cache(maxsize=1024)
def processor_of(stage: Stage, rate: int) -> Processor:
    """`Stage.process`, of the stages last asked for as it was made: a change of one leaves the others
    as they are."""
    return stage.process(rate)
