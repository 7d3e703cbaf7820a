"""Choosing takes section by section."""

from typing import Any

from arkund.core.advise.comp import comp_of, takes_grid
from arkund.core.errors import ArkundError
from arkund.songs import revisions
from arkund.songs.findings import study_of_song
from arkund.songs.models import Revision, Song


def choose(song: Song, base: int, path: list[Any]) -> Revision:
    """Keep a path of takes through the sections as a revision, joins placed for it.

    Raises `ArkundError` where the path does not fit the song.
    """
    study = study_of_song(song)
    grid = takes_grid(study)
    if len(path) != len(grid.parts):
        raise ArkundError(f"The song has {len(grid.parts)} sections; {len(path)} takes were named.")
    for take in path:
        if take not in grid.takes:
            raise ArkundError(f"There is no take {take}. Takes: {', '.join(map(str, grid.takes))}.")
    words = ", ".join(f"{p.name} {t}" for p, t in zip(grid.parts, path, strict=True))
    return revisions.keep(
        song.pk, base, {"comp": comp_of(study, grid, path)}, label=f"Takes chosen: {words}",
        station="edit", measures={"cost": [grid.cost(grid.chosen), grid.cost(path)]},
    )  # fmt: skip
