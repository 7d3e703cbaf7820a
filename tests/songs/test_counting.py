"""Counting in the background: it lets sound pass, and never in the midst of a tile."""

import threading

import numpy as np
import pytest

from arkund.core.graph.nodes import Audio, Node
from arkund.core.render.cache import TileCache
from arkund.core.render.engine import Engine
from arkund.songs import counting, findings
from arkund.songs.models import Song
from arkund.songs.rendering import PatientEngine
from arkund.songs.scheduling import SCHEDULE


class _Ramp(Node):
    """A node that is not cheap and reads another through the engine it is given."""

    def __init__(self, source: Node | None = None) -> None:
        self.source = source

    @property
    def key(self) -> str:
        return f"ramp-{self.source is not None}"

    def render(self, reader: Engine, start: int, stop: int) -> Audio:
        if self.source is not None:
            return reader.read(self.source, start, stop) * np.float32(2)
        return np.arange(start, stop, dtype=np.float32)


@pytest.fixture
def patient() -> PatientEngine:
    return PatientEngine(1000, 8000, TileCache(), lambda: SCHEDULE.stand_back())


def test_it_renders_what_any_engine_does(patient: PatientEngine) -> None:
    node = _Ramp(_Ramp())
    plain = Engine(1000, 8000, TileCache())
    assert np.array_equal(patient.read(node, 100, 4000), plain.read(node, 100, 4000))
    assert np.array_equal(patient.read(node, 0, 8000), plain.read(node, 0, 8000))


def test_it_stands_back_once_before_a_read_not_within_it(
    patient: PatientEngine, monkeypatch: pytest.MonkeyPatch
) -> None:
    asked: list[int] = []
    monkeypatch.setattr(SCHEDULE, "stand_back", lambda: asked.append(1))
    patient.read(_Ramp(_Ramp()), 0, 8000)
    assert len(asked) == 1
    patient.read(_Ramp(), 0, 100)
    assert len(asked) == 2


def test_a_tile_is_begun_after_standing_back_and_never_waits_within(
    patient: PatientEngine, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A tile is rendered under a lock that sound may ask for."""
    held: list[bool] = []
    monkeypatch.setattr(SCHEDULE, "stand_back", lambda: held.append(bool(patient.cache._building)))
    patient.tile(_Ramp(_Ramp()), 0)
    assert held == [False]


def test_it_never_waits_while_others_wait_for_a_track(
    patient: PatientEngine, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What is decided about the whole song is computed under a lock that sound may ask for."""
    asked: list[int] = []
    monkeypatch.setattr(SCHEDULE, "stand_back", lambda: asked.append(1))
    patient.track("k", lambda whole: whole.read(_Ramp(), 0, 8000).astype(np.float64))
    assert len(asked) == 1


def test_another_thread_s_end_does_not_make_it_wait_in_its_midst(
    patient: PatientEngine, monkeypatch: pytest.MonkeyPatch
) -> None:
    """One thread begins and ends a read while another is within one, perhaps under a lock."""
    within, other_ended = threading.Event(), threading.Event()
    asked: list[str] = []
    monkeypatch.setattr(
        SCHEDULE, "stand_back", lambda: asked.append(threading.current_thread().name)
    )

    class Slow(_Ramp):
        def render(self, reader: Engine, start: int, stop: int) -> Audio:
            within.set()
            assert other_ended.wait(10)
            return reader.read(_Ramp(), start, stop)

    slow = threading.Thread(target=lambda: patient.read(Slow(), 0, 100), name="slow")
    slow.start()
    assert within.wait(10)
    patient.read(_Ramp(), 0, 100)
    other_ended.set()
    slow.join(10)
    assert sorted(asked) == [threading.current_thread().name, "slow"]


def test_a_failed_read_leaves_it_patient(
    patient: PatientEngine, monkeypatch: pytest.MonkeyPatch
) -> None:
    class Broken(_Ramp):
        def render(self, reader: Engine, start: int, stop: int) -> Audio:
            raise OSError("gone")

    with pytest.raises(OSError, match="gone"):
        patient.read(Broken(), 0, 100)
    asked: list[int] = []
    monkeypatch.setattr(SCHEDULE, "stand_back", lambda: asked.append(1))
    patient.read(_Ramp(), 0, 100)
    assert asked == [1]


@pytest.mark.django_db(transaction=True)
def test_nothing_is_named_before_sound_has_passed(
    song: Song, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Naming a song's questions takes the interpreter from what is being heard."""
    order: list[str] = []
    asked = findings.asked
    monkeypatch.setattr(SCHEDULE, "stand_back", lambda: order.append("waited"))
    monkeypatch.setattr(findings, "asked", lambda *a: (order.append("named"), asked(*a))[1])
    counting._count(song.pk)
    assert order[:2] == ["waited", "named"]
    assert findings.known_findings(song)[1] == 0
    # What is known already is passed over at once.
    order.clear()
    counting._count(song.pk)
    assert order == ["waited", "named"]
