"""The listening clock: how long one has listened today, and when a break is due."""

from dataclasses import dataclass
from datetime import datetime, timedelta

from django.db import transaction
from django.utils import timezone

from arkund.core.errors import ArkundError
from arkund.songs.models import Listened, Song

BREAK_AFTER_S = 45 * 60
"""So long without a break, and one is proposed: ears tire before they hurt."""

BREAK_S = 10 * 60
"""A silence this long is a break."""

MOST_AT_ONCE_S = 120
"""A page reports about once a minute; more than this at once was no listening."""


@dataclass(frozen=True)
class Clock:
    """Seconds heard ``today``, and ``without_break`` until now."""

    today: int
    without_break: int

    @property
    def is_break_due(self) -> bool:
        """Whether a break is proposed."""
        return self.without_break >= BREAK_AFTER_S

    @property
    def words(self) -> str:
        """The clock in a sentence; empty where nothing was heard today."""
        if not self.today:
            return ""
        said = f"Heard today: {spoken(self.today)}"
        if self.is_break_due:
            return f"{said}; {spoken(self.without_break)} without a break. Rest your ears for ten minutes."
        left = BREAK_AFTER_S - self.without_break
        return f"{said}; a break is due in {spoken(left)}" if self.without_break else said


def spoken(seconds: float) -> str:
    """A time in hours and minutes."""
    minutes = max(1, round(seconds / 60))
    return f"{minutes // 60} h {minutes % 60} min" if minutes >= 60 else f"{minutes} min"


def now(at: datetime | None = None) -> Clock:
    """The clock as it stands."""
    at = at or timezone.now()
    row = Listened.objects.filter(day=timezone.localdate(at)).first()
    if row is None:
        return Clock(0, 0)
    rested = at - row.last >= timedelta(seconds=BREAK_S)
    return Clock(row.seconds, 0 if rested else row.without_break)


@transaction.atomic
def listened(song: Song | None, seconds: int, at: datetime | None = None) -> Clock:
    """Add what was heard just now, of a song where it was one. Raises `ArkundError`."""
    if not 0 < seconds <= MOST_AT_ONCE_S:
        raise ArkundError(f"The listening clock takes 1 to {MOST_AT_ONCE_S} seconds at a time.")
    at = at or timezone.now()
    so_far = now(at)
    Listened.objects.update_or_create(
        day=timezone.localdate(at),
        defaults={
            "seconds": so_far.today + seconds,
            "without_break": so_far.without_break + seconds,
            "last": at,
        },
    )
    if song is not None:
        Song.objects.filter(pk=song.pk).update(heard=at)
    return now(at)
