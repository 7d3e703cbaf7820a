"""Files from outside, read only as far as they may be long."""

from pathlib import Path

from arkund.core.errors import ArkundError


def read_bounded(path: Path, most_bytes: int) -> bytes:
    """The content of a file; raises `ArkundError` where there is none, it cannot be read, or it has more
    than ``most_bytes`` (it is not read to its end then)."""
    try:
        if not path.is_file():
            raise ArkundError(f"There is no file {path.name}.")
        with path.open("rb") as stream:
            content = stream.read(most_bytes + 1)
    except OSError:
        raise ArkundError(f"{path.name} could not be read.") from None
    if len(content) > most_bytes:
        raise ArkundError(f"{path.name} is larger than {most_bytes / 1e6:.0f} MB.")
    return content
