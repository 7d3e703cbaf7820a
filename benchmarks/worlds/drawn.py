"""Which worlds are drawn for development, and which are left out of it to be reported on."""

import pickle
import tempfile
from contextlib import suppress
from pathlib import Path

from benchmarks.recorded.recording import Recording
from benchmarks.worlds.playing import FAMILIES
from benchmarks.worlds.world import World, record

DEVELOPED_ON: dict[str, tuple[str, ...]] = {
    "sources": ("fluid", "tim", "freepats", "pearl"),
    "models": ("cardioids", "condensers"),
}
LEFT_OUT: dict[str, tuple[str, ...]] = {
    "sources": ("zeppelin",),
    "models": ("omnis", "clips"),
}
"""A source and mics' models that development never heard; nor are two of the families of parts learned
from (`benchmarks.fit.recordings`), and all are drawn anew by seed."""


def worlds(which: dict[str, tuple[str, ...]], seed: int, count: int) -> list[World]:
    """``count`` worlds, families, sources and models in turn."""
    families = list(FAMILIES)
    return [
        World(
            seed + n,
            which["sources"][n % len(which["sources"])],
            which["models"][n // len(which["sources"]) % len(which["models"])],
            families[n % len(families)],
        )
        for n in range(count)
    ]


KEPT_BYTES = 12 * 2**30
"""What recordings may fill of the temporary folder: a hundred and twenty worlds, about. The one that was made
first goes first."""


def recorded(world: World) -> Recording:
    """The recording of a world, kept in the machine's temporary folder while there is room for it."""
    folder = Path(tempfile.gettempdir()) / "arkund-worlds"
    folder.mkdir(exist_ok=True)
    path = folder / f"{world.name.replace('/', '-')}.recording"
    if path.exists():
        found: Recording = pickle.loads(path.read_bytes())
        return found
    made = record(world)
    part = path.with_suffix(".part")
    part.write_bytes(pickle.dumps(made, protocol=5))
    part.replace(path)
    make_room(folder, KEPT_BYTES)
    return made


def make_room(folder: Path, most: int) -> None:
    """Remove the oldest recordings until those left hold ``most`` bytes at most; others may be at it too."""
    found = []
    for path in folder.glob("*.recording"):
        with suppress(FileNotFoundError):
            about = path.stat()
            found.append((about.st_mtime, about.st_size, path))
    held = sum(size for _, size, _ in found)
    for _, size, path in sorted(found):
        if held <= most:
            return
        path.unlink(missing_ok=True)
        held -= size
