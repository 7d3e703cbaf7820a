"""Who works now: what is heard, then what is looked at, then what is kept, then the background.

The web process has few cores and one interpreter. A change asks for sound, pictures and a new revision all at
once; the ear notices a tenth of a second, the eye does not, and a count of findings can wait for minutes.

| who | before it begins | in its midst |
|---|---|---|
| sound (`sounding`) | waits for nobody | waits for nobody |
| pages and pictures (`after_sound`) | sound, `LONGEST_S` | sound, `LONGEST_S` altogether (`patience`) |
| changes (`after_sound`) | their own first sound, `CHANGE_WAITS_S` | likewise |
| the background (`stand_back`) | until no sound was asked for `AFTER_SOUND_S` | likewise, `LONGEST_WAIT_S` each time |

Of each kind of request `AT_ONCE` are worked on; the others wait outside in the order in which they came
(`admitted`), so that a change never waits behind a queue of pictures. Every wait has its end. Nobody waits who
holds a lock that sound may ask for: engines stand back before a read, never within one (`rendering.PatientEngine`).
"""

import threading
import time
from collections import deque
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Literal

Kind = Literal["sound", "read", "change"]

AT_ONCE = 4
"""More of a kind at once only take each other's time."""

ARRIVING_S = 0.012
"""A page asks for sound right before it asks for the rest."""

LONGEST_S, CHANGE_WAITS_S = 0.8, 0.6
AFTER_SOUND_S, LONGEST_WAIT_S = 6.0, 30.0


class Schedule:
    """The turns of one process. Safe among threads."""

    def __init__(self) -> None:
        self._turn = threading.Condition()
        self._sounding = 0
        self._last_sound = -AFTER_SOUND_S
        self._doors: dict[Kind, _Door] = {kind: _Door() for kind in ("sound", "read", "change")}

    @contextmanager
    def sounding(self) -> Iterator[None]:
        """While sound is rendered for the ear."""
        with self._turn:
            self._sounding += 1
            self._last_sound = time.monotonic()
        try:
            yield
        finally:
            with self._turn:
                self._sounding -= 1
                self._turn.notify_all()

    def after_sound(self, longest_s: float = LONGEST_S) -> None:
        """Let sound that is being asked for pass, for ``longest_s`` at most."""
        with self._turn:
            self._turn.wait(ARRIVING_S)
            self._turn.wait_for(self._is_silent, longest_s)

    def patience(self) -> Callable[[], None]:
        """For long work: what it calls again and again in its midst, to let sound pass for `LONGEST_S`
        altogether."""
        left = LONGEST_S

        def let_pass() -> None:
            nonlocal left
            if self._is_silent() or left <= 0:
                return
            began = time.monotonic()
            with self._turn:
                self._turn.wait_for(self._is_silent, left)
            left -= time.monotonic() - began

        return let_pass

    def stand_back(self) -> None:
        """For the background: wait until no sound has been asked for `AFTER_SOUND_S`, `LONGEST_WAIT_S` at
        most."""
        until = time.monotonic() + LONGEST_WAIT_S
        with self._turn:
            while (now := time.monotonic()) < min(self._last_sound + AFTER_SOUND_S, until):
                self._turn.wait(min(self._last_sound + AFTER_SOUND_S, until) - now)

    @contextmanager
    def admitted(self, kind: Kind) -> Iterator[None]:
        """While a request of a kind is worked on; it waits outside until there is room for it."""
        with self._doors[kind]:
            yield

    def _is_silent(self) -> bool:
        return self._sounding == 0


class _Door:
    """Lets `AT_ONCE` in and the others after them, in the order in which they came. (A semaphore lets who
    comes late pass who waits.)"""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._free = AT_ONCE
        self._waiting: deque[threading.Event] = deque()

    def __enter__(self) -> None:
        with self._lock:
            if self._free:
                self._free -= 1
                return
            turn = threading.Event()
            self._waiting.append(turn)
        turn.wait()

    def __exit__(self, *_: object) -> None:
        with self._lock:
            if self._waiting:
                self._waiting.popleft().set()
            else:
                self._free += 1


SCHEDULE = Schedule()
"""Of this process."""
