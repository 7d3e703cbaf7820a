"""What a stage says of itself, for a page to draw, against what it does."""

import numpy as np
import pytest

from arkund.core.process.compressor import Compressor
from arkund.core.process.equaliser import Equaliser
from arkund.core.process.limiter import Limiter
from arkund.core.process.saturation import Saturation


def test_each_processor_says_what_level_does_to_it() -> None:
    """Static curves as a page draws them, against the processors run on steady sound."""
    rate, levels = 48000, np.array([-50.0, -30.0, -12.0, -3.0])
    for stage in (
        Compressor(threshold_db=-30, ratio=4, makeup_db=0),
        Limiter(ceiling_db=-10),
        Saturation(curve="hard", drive_db=12),
    ):
        said = stage.transfer_db(levels)
        assert said is not None
        for level, wanted in zip(levels, said, strict=True):
            process = stage.process(rate)
            # A square wave: its peak is its level, and no filter's ripple stands out for long.
            steady = np.full(rate, 10 ** (level / 20), np.float32)
            out = process.run(steady, process.at_rest())
            got = 20 * np.log10(abs(float(np.median(out[rate // 2 :]))))
            assert got == pytest.approx(wanted, abs=0.1), (stage.kind, level)
    assert Equaliser().transfer_db(levels) is None


def test_what_a_saturation_says_of_hits_is_what_it_does_to_them() -> None:
    peaks = np.array([-26.0, -20.0, -16.0, -14.0, -12.0])
    mark = Saturation(drive_db=0).proposed(peaks)["drive_db"]
    before, at = (Saturation(drive_db=d).said_of(peaks, 0.0) for d in (mark - 0.5, mark))
    assert before.startswith("0% of hits")
    assert not at.startswith("0% of hits")
    assert Saturation().said_of(np.zeros(0), 0.0) == "no hit in these bars"
    assert Limiter(ceiling_db=-15).noted(peaks, -0.5) == {
        "ceiling_db": "2 of 5 hits reach it, the loudest −0.5 dBTP"
    }
