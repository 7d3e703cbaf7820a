"""The school of a song: chosen by name, changed row by row, saved under a name of its own."""

from arkund.core.advise.school import ROWS, SCHOOLS, School, school_named, school_of
from arkund.core.errors import ArkundError
from arkund.songs.models import OwnSchool, Song


def all_names() -> list[str]:
    """Tight, Natural and Open, then the engineer's own."""
    return [s.name for s in SCHOOLS.values()] + [s.name for s in OwnSchool.objects.all()]


def named(name: str) -> School:
    """A school by name, an own one included; raises `ArkundError` where there is none."""
    own = OwnSchool.objects.filter(name__iexact=name.strip()).first()
    if own is not None:
        return school_of(own.rows)
    if name.strip().lower() not in SCHOOLS:
        raise ArkundError(f"There is no school “{name}”. Schools are: {', '.join(all_names())}.")
    return school_named(name)


def choose(song: Song, name: str) -> School:
    """Make a named school the song's."""
    return _store(song, named(name))


def change_row(song: Song, row: str, answer: str) -> School:
    """Answer one row otherwise. The school is then called after what it was changed from."""
    if row not in {r.key for r in ROWS}:
        raise ArkundError(f"There is no row “{row}” in a school.")
    rows = dict(song.school) | {row: answer}
    base = str(song.school["name"])
    if not base.endswith(", changed") and base in all_names():
        rows["name"] = f"{base}, changed"[:40]
    return _store(song, school_of(rows))


def save_as(song: Song, name: str) -> School:
    """Keep the song's rows as an own school. The three given ones cannot be overwritten."""
    name = name.strip()
    if not name:
        raise ArkundError("Give the school a name.")
    if name.lower() in SCHOOLS:
        raise ArkundError(f"{name} is one of the given schools; choose another name.")
    school = school_of(dict(song.school) | {"name": name})
    OwnSchool.objects.update_or_create(name=name, defaults={"rows": school.model_dump()})
    return _store(song, school)


def _store(song: Song, school: School) -> School:
    song.school = school.model_dump()
    song.save(update_fields=["school"])
    return school
