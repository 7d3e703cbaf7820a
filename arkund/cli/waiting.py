"""What somebody at a terminal sees while a command works: after a second that it does, and how far it is."""

import sys
import textwrap
import threading
from types import TracebackType
from typing import Any

SOON_S = 1.0
"""Who waits no longer needs no word."""

WIDEST = 56


class Waiting:
    """A line on standard error while a command runs; none where nobody looks at it.

    A command that tells how far it is (`show_progress`) gets a bar, any other a sign that it works.
    """

    def __init__(self) -> None:
        self._bar: Any = None
        self._task: Any = None
        self._lock = threading.Lock()
        self._timer: threading.Timer | None = None

    def __enter__(self) -> "Waiting":
        if sys.stderr.isatty():
            self._timer = threading.Timer(SOON_S, self._begin, ["working", None])
            self._timer.daemon = True
            self._timer.start()
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        where: TracebackType | None,
    ) -> None:
        self.end()

    def tell(self, share: float, what: str) -> None:
        """How far the work is, 0 to 1, and what is being done; at 1 the line goes."""
        if share >= 1:
            self.end()
        elif sys.stderr.isatty():
            self._begin(what, share)

    def end(self) -> None:
        """Nothing more is shown."""
        if self._timer is not None:
            self._timer.cancel()
        with self._lock:
            if self._bar is not None:
                self._bar.stop()
            self._bar = self._task = None

    def _begin(self, what: str, share: float | None) -> None:
        with self._lock:
            if self._bar is None:
                self._bar = _bar()
                self._task = self._bar.add_task("", total=None)
                self._bar.start()
            words = textwrap.shorten(what, WIDEST, placeholder=" …")
            # A sign of work does not take a bar's place once there is one.
            if share is not None:
                self._bar.update(self._task, description=words, total=1.0, completed=share)
            elif not self._bar.tasks[0].description:
                self._bar.update(self._task, description=words)


def _bar() -> Any:
    from rich.console import Console
    from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn

    return Progress(
        BarColumn(bar_width=24),
        TimeElapsedColumn(),
        TextColumn("{task.description}"),
        console=Console(stderr=True),
        transient=True,
    )


WAITING = Waiting()
"""The line of this process's command."""
