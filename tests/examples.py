"""The worked examples of CONTRIBUTING.md, as they stand there."""

import re
from pathlib import Path

TEXT = (Path(__file__).parent.parent / "CONTRIBUTING.md").read_text()


def example(name: str) -> str:
    """The block of code that is marked with this name."""
    found = re.search(rf"<!-- example: {re.escape(name)} -->\n```\w+\n(.*?)```", TEXT, re.DOTALL)
    assert found, f"CONTRIBUTING.md has no example “{name}”"
    return found[1]
