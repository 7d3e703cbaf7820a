"""What an engineer wants to come back to in a song."""

from django.db import transaction
from django.db.models import Max
from django.utils import timezone

from arkund.core.errors import ArkundError
from arkund.core.sheet.tempo import grid_of
from arkund.songs.models import Song, Todo
from arkund.songs.timing import sheet_of

MOST = 500


def open_of(song: Song) -> list[Todo]:
    """What is still to do, the oldest first."""
    return list(song.todos.filter(done=None))


def add(song: Song, text: str, mic: str = "", bar: int | None = None) -> Todo:
    """Note something to do, of a ``mic`` and at a ``bar`` where it is about one. Raises `ArkundError`."""
    text = " ".join(text.split())
    if not 1 <= len(text) <= 300:
        raise ArkundError("Say what is to be done, in 1 to 300 characters.")
    sheet = sheet_of(song)
    if mic and mic not in sheet.mics:
        raise ArkundError(f"There is no mic “{mic}”. There are: {', '.join(sheet.mics)}.")
    last = grid_of(sheet).bars_in(sheet.frames / sheet.rate)
    if bar is not None and not 1 <= bar <= last:
        raise ArkundError(f"The song has bars 1 to {last}; {bar} is none of them.")
    with transaction.atomic():
        if song.todos.count() >= MOST:
            raise ArkundError(f"A song has {MOST} to-dos at most; a new song may be clearer.")
        number = (song.todos.aggregate(most=Max("number"))["most"] or 0) + 1
        return Todo.objects.create(song=song, number=number, text=text, mic=mic, bar=bar)


def tick(song: Song, number: int, *, done: bool) -> Todo:
    """Tick a to-do, or take the tick away. Raises `ArkundError`."""
    found = song.todos.filter(number=number).first()
    if found is None:
        known = ", ".join(str(todo.number) for todo in open_of(song)) or "none"
        raise ArkundError(f"There is no to-do {number}. Open ones: {known}.")
    found.done = timezone.now() if done else None
    found.save(update_fields=["done"])
    return found
