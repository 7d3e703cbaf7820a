"""What is heard passes before what is drawn or kept."""

import threading
import time
from collections.abc import Callable
from typing import Any

from arkund.songs import turns
from arkund.studio.turnstile import Turnstile


def test_others_wait_until_the_sound_is_there() -> None:
    order: list[str] = []
    begun = threading.Event()

    def sound() -> None:
        with turns.sounding():
            begun.set()
            time.sleep(0.15)
            order.append("sound")

    thread = threading.Thread(target=sound)
    thread.start()
    begun.wait(2)
    turns.after_sound()
    order.append("picture")
    thread.join()
    assert order == ["sound", "picture"]


def test_nobody_waits_without_sound_or_for_ever() -> None:
    began = time.monotonic()
    turns.after_sound()
    assert time.monotonic() - began < 0.1
    with turns.sounding():
        began = time.monotonic()
        turns.after_sound()
        assert turns.LONGEST_S <= time.monotonic() - began < turns.LONGEST_S + 1


def test_long_work_lets_sound_pass_between_two_reads() -> None:
    patience = turns.Patience()
    began = time.monotonic()
    patience.let_pass()
    assert time.monotonic() - began < 0.05
    begun = threading.Event()

    def sound() -> None:
        with turns.sounding():
            begun.set()
            time.sleep(0.1)

    thread = threading.Thread(target=sound)
    thread.start()
    begun.wait(2)
    patience.let_pass()
    assert 0.08 <= time.monotonic() - began < turns.LONGEST_S
    thread.join()


def test_patience_ends() -> None:
    """Sound follows sound while somebody turns a ruler; what is to be kept is kept all the same."""
    patience = turns.Patience()
    with turns.sounding():
        began = time.monotonic()
        for _ in range(20):
            patience.let_pass()
        assert turns.LONGEST_S <= time.monotonic() - began < turns.LONGEST_S + 1


def test_a_failed_sound_lets_the_others_go() -> None:
    try:
        with turns.sounding():
            raise OSError
    except OSError:
        pass
    began = time.monotonic()
    turns.after_sound()
    assert time.monotonic() - began < 0.1


def test_a_change_gives_way_before_it_is_read_and_sound_does_not() -> None:
    order: list[str] = []

    def application(environ: dict[str, Any], start: Callable[..., Any]) -> list[bytes]:
        order.append(environ["PATH_INFO"])
        return [b""]

    door = Turnstile(application, lambda: order.append("gave way"))
    for method, path in (("POST", "/x/keep/"), ("GET", "/x/pcm/"), ("GET", "/x/edit/")):
        door({"REQUEST_METHOD": method, "PATH_INFO": path}, lambda *_: None)
    assert order == ["gave way", "/x/keep/", "/x/pcm/", "/x/edit/"]
