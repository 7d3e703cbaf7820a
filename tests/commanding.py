"""The command line, asked again and again by one process that has loaded everything once.

``python -m tests.commanding`` reads a command's arguments as JSON, a line each, and answers with its
exit code and what it printed.
"""

import json
import subprocess
import sys
from contextlib import redirect_stderr, redirect_stdout
from dataclasses import dataclass
from io import StringIO


@dataclass(frozen=True)
class Answer:
    """What a command said on its way to its exit code."""

    code: int
    out: str
    err: str


class Standing:
    """A process that runs commands in the data folder that its environment names."""

    def __init__(self, env: dict[str, str]) -> None:
        command = [sys.executable, "-m", "tests.commanding"]
        self._process = subprocess.Popen(
            command, env=env, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )

    def ask(self, *arguments: str) -> Answer:
        """Run a command to its end."""
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        self._process.stdin.write(json.dumps(arguments) + "\n")
        self._process.stdin.flush()
        return Answer(**json.loads(self._process.stdout.readline()))

    def close(self) -> None:
        """End the process."""
        self._process.communicate(timeout=20)


def _answer(arguments: list[str]) -> Answer:
    from arkund.cli import main

    with redirect_stdout(StringIO()) as out, redirect_stderr(StringIO()) as err:
        try:
            code = main(arguments)
        except SystemExit as end:
            code = int(end.code or 0)
    return Answer(code, out.getvalue(), err.getvalue())


if __name__ == "__main__":
    for line in sys.stdin:
        print(json.dumps(vars(_answer(json.loads(line)))), flush=True)
