"""Choosing takes section by section, and laying them over each other."""

from typing import Any

from arkund.core.advise.edit.comp import comp_of, takes_grid
from arkund.core.errors import ArkundError
from arkund.core.timing.lineup import lag_between
from arkund.core.units import ms_to_samples
from arkund.songs import revisions, storage
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
        song.pk,
        base,
        {"comp": comp_of(study, grid, path)},
        label=f"Takes chosen: {words}",
        station="edit",
        measures={"cost": [grid.cost(grid.chosen), grid.cost(path)]},
    )


def line_up(song: Song, base: int) -> Revision:
    """Keep all takes shifted so that their bar 1 falls on that of the first."""
    assert song.current is not None
    sheet = song.current.sheet
    first = sheet.takes[0]
    patch = {}
    for number, take in enumerate(sheet.takes[1:], start=1):
        lag = lag_between(storage.load_hits(first.hits or ""), storage.load_hits(take.hits or ""))
        if lag is None:
            raise ArkundError(
                f"Take {take.number} plays nothing that take 1 does; type how much "
                "earlier its files begin."
            )
        patch[f"takes.{number}.offset"] = first.offset + round(lag * sheet.rate)
    return revisions.keep(song.pk, base, patch, label="Takes lined up on bar 1", station="load-in")


def shift(song: Song, base: int, take: int, ms: float) -> Revision:
    """Keep that a take's files begin so many milliseconds before the song."""
    assert song.current is not None
    sheet = song.current.sheet
    number = next((n for n, t in enumerate(sheet.takes) if t.number == take), None)
    if number is None:
        raise ArkundError(f"There is no take {take}.")
    patch = {f"takes.{number}.offset": ms_to_samples(ms, sheet.rate)}
    words = f"Take {take} begins {ms:.2f} ms before the song".replace("-", "−")
    return revisions.keep(song.pk, base, patch, label=words, station="load-in")
