"""Kinds of an EQ's band by the curves that they state."""

import numpy as np
import pytest

from arkund.core.process.band import MOVING, USED, Band, Kind, band_sections
from arkund.core.process.equaliser import Equaliser, equaliser_sections
from arkund.core.shape.biquad import response_db

RATE = 48_000
HZ = np.geomspace(15, 20_000, 600)


def curve(**values: object) -> np.ndarray:
    return response_db(band_sections(Band(id="b1", on=True, **values), RATE), HZ, RATE)  # type: ignore[arg-type]


def at(response: np.ndarray, hz: float) -> float:
    return float(response[np.argmin(np.abs(np.log(HZ / hz)))])


@pytest.mark.parametrize("gain", [-9.0, 3.0, 6.0, 12.0])
@pytest.mark.parametrize(
    ("kind", "hz", "far", "other"),
    [("low_pair", 70.0, 15.0, 8000.0), ("high_pair", 6000.0, 20_000.0, 100.0)],
)
def test_a_pair_gives_its_gain_and_takes_a_third_beside(
    gain: float, kind: Kind, hz: float, far: float, other: float
) -> None:
    response = curve(kind=kind, frequency_hz=hz, gain_db=gain, q=0.8)
    assert at(response, far) == pytest.approx(gain, rel=0.08)
    assert at(response, other) == pytest.approx(0, abs=0.2)
    against = -np.sign(gain) * response
    assert abs(gain) * 0.25 < against.max() < abs(gain) * 0.42
    beside = HZ[against.argmax()] / hz
    assert 1.5 < (beside if kind == "low_pair" else 1 / beside) < 3.5


def test_a_pair_and_its_opposite_cancel() -> None:
    both = [curve(kind="low_pair", frequency_hz=60, gain_db=g, q=0.7) for g in (5, -5)]
    assert np.abs(both[0] + both[1]).max() < 0.01


@pytest.mark.parametrize("gain", [-6.0, 4.0])
def test_a_tilt_turns_the_spectrum_about_its_frequency(gain: float) -> None:
    response = curve(kind="tilt", frequency_hz=800, gain_db=gain)
    assert at(response, 800) == pytest.approx(0, abs=0.05)
    assert at(response, 15) == pytest.approx(-gain, abs=0.1)
    assert at(response, 15_000) == pytest.approx(gain, abs=0.15)
    assert np.all(np.sign(gain) * np.diff(response) > -1e-6)


@pytest.mark.parametrize("hz", [60.0, 416.0, 9000.0])
def test_a_notch_takes_its_frequency_out_whatever_its_gain(hz: float) -> None:
    eq = Equaliser(bands=[{"id": "b1", "on": True, "kind": "notch", "frequency_hz": hz, "q": 8}])
    assert not eq.is_transparent
    sections = equaliser_sections(eq, RATE)
    there, half = response_db(sections, np.array([hz, hz * 1.0644]), RATE)
    assert there == pytest.approx(-48, abs=1)
    assert half == pytest.approx(-3, abs=0.3)
    assert abs(response_db(sections, np.array([hz / 2]), RATE)[0]) < 0.1


def test_only_bells_and_shelves_move() -> None:
    for kind in (*MOVING, *USED):
        assert Band(id="b1", on=True, kind=kind, range_db=3).moves is (kind in MOVING)  # type: ignore[arg-type]


def test_sections_in_a_cascade_are_the_curve_that_is_drawn() -> None:
    eq = Equaliser(
        bands=[
            {"id": "b1", "on": True, "kind": "low_pair", "frequency_hz": 70, "gain_db": 6, "q": 0.8}
        ]
    )
    process = eq.process(RATE)
    impulse = np.zeros(RATE, np.float32)
    impulse[0] = 1
    found = np.fft.rfft(process.run(impulse, process.at_rest(1)))
    hz = np.fft.rfftfreq(RATE, 1 / RATE)
    heard = np.interp(HZ, hz, 20 * np.log10(np.abs(found)))
    assert np.abs(heard - response_db(equaliser_sections(eq, RATE), HZ, RATE)).max() < 0.05
