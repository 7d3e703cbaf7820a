"""Which worlds are drawn for development, and which are left out of it to be reported on."""

import pickle
import tempfile
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


def recorded(world: World) -> Recording:
    """The recording of a world, kept in the machine's temporary folder."""
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
    return made
