"""A tone under a drum's hits."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.graph.nodes import Reader, key_of
from arkund.core.graph.peaks import remembered
from arkund.core.graph.struck import BEHIND_S, Laid, Row, Some, Whole, lead_before
from arkund.core.process.stage import Audio
from arkund.core.replace.choosing import gain_db
from arkund.core.replace.tone import tone


@dataclass(frozen=True)
class Toned(Laid):
    """A tone under the drum's hits, in the polarity in which the bottom of the sum is fuller."""

    note_hz: float
    attack_ms: float
    decay_ms: float
    fall: float
    drive_db: float

    @property
    def _settings(self) -> tuple[object, ...]:
        return self.note_hz, self.attack_ms, self.decay_ms, self.fall, self.drive_db

    def _longest(self, rate: int) -> int:
        return round(self.decay_ms * rate / 1000)

    def _one(self, rate: int) -> Audio:
        return tone(rate, self.note_hz, self.attack_ms, self.decay_ms, self.fall, self.drive_db)

    def _sound(self, reader: Reader, row: Row) -> Audio:
        return self._one(reader.rate)

    def _decide(self, exact: Reader, levels_db: list[float]) -> Whole:
        if not levels_db:
            return Whole((), ())
        sums = sum(float(self._alike(exact, some).sum()) for some in self._every(exact))
        levels = np.array(levels_db)
        gains = 10 ** (gain_db(levels, 0.0 * levels, float(np.median(levels)), self.following) / 20)
        signed = gains if sums >= 0 else -gains
        return Whole([0] * len(levels_db), signed.tolist())

    def _name(self, exact: Reader, some: Some, whole: Whole) -> str:
        return key_of("toned", 1, some.name, self._settings, whole.gains[0] > 0)

    def _place(self, exact: Reader, some: Some, whole: Whole) -> NDArray[np.float64]:
        alike, sign = self._alike(exact, some), np.sign(whole.gains[0])
        low_db = 10 * np.log10(np.maximum(1 + sign * alike, 1e-3))
        return np.stack([0 * alike, 0 * alike + 1, np.abs(alike), low_db], axis=1)

    def _alike(self, exact: Reader, some: Some) -> NDArray[np.float64]:
        """How much some hits are like the tone, −1 to 1."""

        def find() -> NDArray[np.float64]:
            one = self._one(exact.rate)
            first, length = lead_before(exact.rate), min(len(one), round(BEHIND_S * exact.rate))
            part = one[:length].astype(np.float64)
            drums = self._hits(exact, some)[:, first : first + length].astype(np.float64)
            sizes = np.sqrt(np.sum(drums**2, axis=1) * np.sum(part**2)) + 1e-20
            return np.asarray(drums @ part / sizes)

        return remembered(key_of("tone", 1, some.name, self._settings), find)
