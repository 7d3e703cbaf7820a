"""What is heard passes before what is drawn or kept."""

import threading
import time
from collections.abc import Callable
from typing import Any

import pytest

from arkund.songs import scheduling
from arkund.songs.scheduling import AT_ONCE, LONGEST_S, Schedule
from arkund.studio.turnstile import Turnstile


@pytest.fixture
def schedule() -> Schedule:
    return Schedule()


def test_others_wait_until_the_sound_is_there(schedule: Schedule) -> None:
    order: list[str] = []
    begun = threading.Event()

    def sound() -> None:
        with schedule.sounding():
            begun.set()
            time.sleep(0.15)
            order.append("sound")

    thread = threading.Thread(target=sound)
    thread.start()
    begun.wait(2)
    schedule.after_sound()
    order.append("picture")
    thread.join()
    assert order == ["sound", "picture"]


def test_nobody_waits_without_sound_or_for_ever(schedule: Schedule) -> None:
    began = time.monotonic()
    schedule.after_sound()
    assert time.monotonic() - began < 0.1
    with schedule.sounding():
        began = time.monotonic()
        schedule.after_sound()
        assert LONGEST_S <= time.monotonic() - began < LONGEST_S + 1


def test_long_work_lets_sound_pass_between_two_reads(schedule: Schedule) -> None:
    patience = schedule.patience()
    began = time.monotonic()
    patience()
    assert time.monotonic() - began < 0.05
    begun = threading.Event()

    def sound() -> None:
        with schedule.sounding():
            begun.set()
            time.sleep(0.1)

    thread = threading.Thread(target=sound)
    thread.start()
    begun.wait(2)
    patience()
    assert 0.08 <= time.monotonic() - began < LONGEST_S
    thread.join()


def test_patience_ends(schedule: Schedule) -> None:
    """Sound follows sound while somebody turns a ruler; what is to be kept is kept all the same."""
    patience = schedule.patience()
    with schedule.sounding():
        began = time.monotonic()
        for _ in range(20):
            patience()
        assert LONGEST_S <= time.monotonic() - began < LONGEST_S + 1


def test_a_failed_sound_lets_the_others_go(schedule: Schedule) -> None:
    try:
        with schedule.sounding():
            raise OSError
    except OSError:
        pass
    began = time.monotonic()
    schedule.after_sound()
    assert time.monotonic() - began < 0.1


def test_a_change_gives_way_before_it_is_read_and_sound_does_not(
    schedule: Schedule, monkeypatch: pytest.MonkeyPatch
) -> None:
    order: list[str] = []

    def application(environ: dict[str, Any], start: Callable[..., Any]) -> list[bytes]:
        order.append(environ["PATH_INFO"])
        return [b""]

    monkeypatch.setattr(schedule, "after_sound", lambda longest_s: order.append("gave way"))
    door = Turnstile(application, schedule)
    for method, path in (("POST", "/x/keep/"), ("GET", "/x/pcm/"), ("GET", "/x/edit/")):
        door({"REQUEST_METHOD": method, "PATH_INFO": path}, lambda *_: None)
    assert order == ["gave way", "/x/keep/", "/x/pcm/", "/x/edit/"]


def test_the_background_waits_until_sound_is_long_over(
    schedule: Schedule, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(scheduling, "AFTER_SOUND_S", 0.3)
    schedule.stand_back()
    with schedule.sounding():
        pass
    began = time.monotonic()
    schedule.stand_back()
    assert 0.25 <= time.monotonic() - began < 2
    began = time.monotonic()
    schedule.stand_back()
    assert time.monotonic() - began < 0.1


def test_the_background_goes_on_beside_sound_that_never_ends(
    schedule: Schedule, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(scheduling, "LONGEST_WAIT_S", 0.2)
    with schedule.sounding():
        began = time.monotonic()
        schedule.stand_back()
        assert 0.15 <= time.monotonic() - began < 2


def test_so_many_of_a_kind_at_once_and_the_others_in_their_order(schedule: Schedule) -> None:
    inside, most, order = 0, 0, []
    lock, go = threading.Lock(), threading.Event()

    def ask(number: int) -> None:
        nonlocal inside, most
        with schedule.admitted("read"):
            with lock:
                inside += 1
                most = max(most, inside)
                order.append(number)
            go.wait(5)
            with lock:
                inside -= 1

    threads = [threading.Thread(target=ask, args=(n,)) for n in range(3 * AT_ONCE)]
    for thread in threads:
        thread.start()
        time.sleep(0.01)
    # Pictures queue; a change does not.
    with schedule.admitted("change"):
        pass
    assert order == list(range(AT_ONCE))
    go.set()
    for thread in threads:
        thread.join(5)
    assert most == AT_ONCE
    assert order[:AT_ONCE] == list(range(AT_ONCE))
    assert sorted(order) == list(range(3 * AT_ONCE))
