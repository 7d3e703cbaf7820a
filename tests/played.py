"""Simulated recordings and what is heard in them, made once for all workers of a run."""

import fcntl
import os
import pickle
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TypeVar

from arkund.core.advise.study import Study, TakeFacts
from arkund.core.simulate.session import Session, simulate
from arkund.core.simulate.studying import facts_of, study_of

Made = TypeVar("Made")
Song = tuple[str, int, int]
"""Preset, seed and bars."""

SHORT: Song = ("copper", 31, 8)
"""Eight bars of the demo's kit: intro, verse, a fill."""
LONG: Song = ("copper", 31, 18)
"""Enough hits on every tom to tell a wild one."""
UNEVEN: Song = ("copper", 67, 8)
"""The demo's kit again, by another player."""
FAST: Song = ("twin", 7310, 8)
"""At 44.1 kHz, with a double kick."""
SWUNG: Song = ("shuffle", 311, 8)
"""With ghosts none of which stands clear of the hat."""

STEMS = {SHORT: ("kick_out", "snare_top", "tom_1")}
"""Mics whose stems tests look into."""


class Played:
    """Sessions of the simulator and studies of them, kept in a folder that all workers share.

    Few songs serve many tests: simulating and hearing one takes longer than most tests of it.
    """

    def __init__(self, shared: Path, own: Path) -> None:
        self._shared, self._own = shared, own

    def session(self, song: Song) -> Session:
        """A song's first take, with the stems that tests look into."""

        def make() -> Session:
            preset, seed, bars = song
            wanted = STEMS.get(song, ())
            made = simulate(preset, seed, bars=bars, keep_stems=bool(wanted))
            return replace(made, stems={mic: made.stems[mic] for mic in wanted})

        return self._once(f"played {song}", make)

    def facts(self, song: Song) -> TakeFacts:
        """What an import hears in it."""
        return self._once(f"facts {song}", lambda: facts_of(self.session(song)))

    def study(self, song: Song) -> Study:
        """A study of it, which remembers nothing that other tests asked."""
        session = self.session(song)
        return study_of([session], self._own / f"{song}", {session.take: self.facts(song)})

    def _once(self, name: str, make: Callable[[], Made]) -> Made:
        path = self._shared / f"{name}.pickle"
        with path.with_suffix(".lock").open("w") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX)
            if not path.exists():
                made = make()
                part = path.with_suffix(".part")
                part.write_bytes(pickle.dumps(made, protocol=5))
                part.replace(path)
                return made
        return pickle.loads(path.read_bytes())


def shared_by_workers(own: Path) -> Path:
    """The folder that all workers of a run share; ``own`` where there is one alone."""
    return own.parent if "PYTEST_XDIST_WORKER" in os.environ else own
