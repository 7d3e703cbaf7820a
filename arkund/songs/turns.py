"""Sound first: what is about to be heard is rendered before anything else is computed.

The web process has few cores and one interpreter. Where a change asks for sound, pictures and a
new revision all at once, those that the ear does not wait for let the sound pass.
"""

import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager

ARRIVING_S = 0.012
"""A page asks for sound right before it asks for the rest."""

LONGEST_S = 0.8

CHANGE_WAITS_S = 0.6
"""How long a change waits for its own first sound: half a second where a whole song moves."""

_turn = threading.Condition()
_sounding = 0


@contextmanager
def sounding() -> Iterator[None]:
    """While sound is rendered for the ear."""
    global _sounding
    with _turn:
        _sounding += 1
    try:
        yield
    finally:
        with _turn:
            _sounding -= 1
            _turn.notify_all()


def after_sound(longest_s: float = LONGEST_S) -> None:
    """Let sound that is being asked for pass, for ``longest_s`` at most."""
    with _turn:
        _turn.wait(ARRIVING_S)
        _turn.wait_for(lambda: _sounding == 0, longest_s)


class Patience:
    """In the midst of long work: lets sound that is being rendered pass, again and again, for
    `LONGEST_S` altogether."""

    def __init__(self) -> None:
        self._left = LONGEST_S

    def let_pass(self) -> None:
        if not _sounding or self._left <= 0:
            return
        began = time.monotonic()
        with _turn:
            _turn.wait_for(lambda: _sounding == 0, self._left)
        self._left -= time.monotonic() - began
