"""The equaliser: two filters, up to eight static or dynamic bands, output gain."""

from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from arkund.core.process.band import Band, band_sections, moving_band
from arkund.core.process.cascade import Cascade, Filter, filter_sections
from arkund.core.process.key import Key
from arkund.core.process.stage import Audio, Id, Processor, Stage
from arkund.core.process.values import value
from arkund.core.shape import biquad, moving
from arkund.core.units import db_to_amplitude

MOST_BANDS = 8


def _bands() -> tuple[Band, ...]:
    return (
        Band(id="b1", kind="low_shelf", frequency_hz=80, q=0.7),
        Band(id="b2", frequency_hz=400),
        Band(id="b3", frequency_hz=3000),
        Band(id="b4", kind="high_shelf", frequency_hz=9000, q=0.7),
    )


class Equaliser(Stage):
    """Two filters, up to eight bands, output gain."""

    label: ClassVar[str] = "EQ"
    about: ClassVar[str] = "Tone: filters, bells and shelves."
    busy: ClassVar[dict[str, Any]] = {
        "bands": [{"id": f"b{n}", "on": True, "gain_db": 1} for n in range(4)]
    }

    kind: Literal["eq"] = "eq"
    id: Id = "eq"
    high_pass: Filter = Filter(frequency_hz=60)
    low_pass: Filter = Filter(frequency_hz=14000)
    bands: tuple[Band, ...] = Field(default_factory=_bands, max_length=MOST_BANDS)
    key: Key = Key()
    output_db: float = value(
        0.0, -24, 24, "dB", "EQ output", shown=(-12, 12), ticks=(-12, -6, 0, 6, 12)
    )

    @model_validator(mode="after")
    def _bands_have_ids_of_their_own(self) -> "Equaliser":
        ids = [b.id for b in self.bands]
        if len(set(ids)) < len(ids):
            raise ValueError("two bands have one id")
        return self

    @property
    def is_transparent(self) -> bool:
        """Whether nothing in it is in."""
        bands = any(b.moves or b.stands for b in self.bands)
        filters = self.high_pass.on or self.low_pass.on
        return not self.on or not (bands or filters or self.output_db)

    @property
    def listens(self) -> Key | None:
        """Its key, where a band moves with it or one is named."""
        wanted = any(b.moves and b.hears == "key" for b in self.bands)
        return self.key if wanted or not self.key.is_plain else None

    def process(self, rate: int) -> Processor:
        """The cascade of filters and static bands, then the dynamic ones."""
        sections = equaliser_sections(self, rate)
        moving = [moving_band(b, rate) for b in self.bands if b.moves]
        if not moving:
            return Cascade(sections, rate, self.output_db)
        return MovingProcess(Cascade(sections, rate), moving, self.output_db)


def equaliser_sections(eq: Equaliser, rate: int) -> list[biquad.Section]:
    """Sections of all that is in and stands, filters first."""
    bands = [section for band in eq.bands if band.stands for section in band_sections(band, rate)]
    return [*filter_sections(eq.high_pass, eq.low_pass, rate), *bands]


class MovingProcess:
    """A cascade that stands, then bands that move, and a gain, at a rate; both sides move together."""

    latency = 0

    def __init__(self, still: Cascade, bands: list[moving.Settings], output_db: float) -> None:
        self.still, self.bands, self.rate = still, bands, still.rate
        self.gain = db_to_amplitude(output_db)
        self.memory = still.memory + sum(moving.memory(one, self.rate) for one in bands)

    def settings(self) -> Any:
        """What its sound rests on."""
        bands = [repr(one) for one in self.bands]
        return ["moving eq", 1, self.still.settings(), bands, self.gain]

    def at_rest(self, channels: int = 1) -> NDArray[np.float64]:
        """State at rest: the cascade's, then each band's."""
        return np.zeros(self.still.at_rest(channels).size + len(self.bands) * moving.size(channels))

    def run(
        self, audio: Audio, state: NDArray[np.float64], key: Audio | None = None, at: int = 0
    ) -> Audio:
        """``audio`` ``(frames,)`` or ``(frames, 2)`` through all of it; ``key`` is what is listened to."""
        return self.run_moved(audio, state, key)[0]

    def run_moved(
        self, audio: Audio, state: NDArray[np.float64], key: Audio | None = None
    ) -> tuple[Audio, list[NDArray[np.float32]]]:
        """Output, and by how many dB each band was moved, ``(frames,)`` each."""
        channels = 1 if audio.ndim == 1 else 2
        first, each = self.still.at_rest(channels).size, moving.size(channels)
        out = np.ascontiguousarray(self.still.run(audio, state[:first].reshape(-1, 2)))
        heard = audio if key is None else key
        moves = []
        for n, band in enumerate(self.bands):
            own = state[first + n * each : first + (n + 1) * each]
            out, by = moving.run(out, heard, band, self.rate, own)
            moves.append(by)
        return (out if self.gain == 1.0 else out * np.float32(self.gain)), moves
