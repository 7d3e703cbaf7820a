"""What a terminal shows while a command works."""

import io
import time
from contextlib import redirect_stderr

import pytest

from arkund.cli import waiting
from arkund.cli.waiting import Waiting


class Terminal(io.StringIO):
    def isatty(self) -> bool:
        return True


@pytest.fixture
def terminal(monkeypatch: pytest.MonkeyPatch) -> Terminal:
    made = Terminal()
    monkeypatch.setenv("TERM", "xterm")
    monkeypatch.setattr(waiting, "SOON_S", 0.05)
    return made


def shown(terminal: Terminal, words: str) -> str:
    """What the terminal has shown as soon as the words are there."""
    deadline = time.monotonic() + 10
    while words not in terminal.getvalue() and time.monotonic() < deadline:
        time.sleep(0.02)
    return terminal.getvalue()


def test_where_nobody_looks_nothing_is_shown(monkeypatch: pytest.MonkeyPatch) -> None:
    nobody = io.StringIO()
    monkeypatch.setattr(waiting, "SOON_S", 0.0)
    with redirect_stderr(nobody), Waiting() as line:
        line.tell(0.5, "measuring")
        time.sleep(0.05)
    assert nobody.getvalue() == ""


def test_who_waits_is_told_and_who_does_not_is_left_alone(terminal: Terminal) -> None:
    with redirect_stderr(terminal), Waiting():
        pass
    assert terminal.getvalue() == ""
    with redirect_stderr(terminal), Waiting():
        assert "working" in shown(terminal, "working")


def test_a_bar_says_what_is_done_in_whole_words_and_goes_at_the_end(terminal: Terminal) -> None:
    words = "level: the snare's hits differ by more than what the school wants of them"
    with redirect_stderr(terminal), Waiting() as line:
        line.tell(0.4, words)
        text = shown(terminal, "…")
        line.tell(1.0, "done")
        assert line._bar is None
    said = text.rpartition("level:")[2].partition("…")[0].strip()
    assert f"level: {said} " in words
