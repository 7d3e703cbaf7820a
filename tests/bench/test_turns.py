"""What is heard passes before what is drawn or kept."""

import threading
import time

from arkund.bench import turns


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


def test_a_failed_sound_lets_the_others_go() -> None:
    try:
        with turns.sounding():
            raise OSError
    except OSError:
        pass
    began = time.monotonic()
    turns.after_sound()
    assert time.monotonic() - began < 0.1
