"""What the database keeps. Settings live in sheets, sound in content-addressed files.

Takes, mics and sections have no tables of their own: they stand in the sheet, which is their only
truth; what was measured of a take lies in a file that the sheet names by content hash. What reads sheets is
loaded with the first one: a command that asks for none does not wait for it.
"""

import zlib
from functools import lru_cache
from typing import TYPE_CHECKING, Any

from django.db import models

from arkund.core.errors import SheetError, UnreadableSheet
from arkund.core.once import once

if TYPE_CHECKING:
    from arkund.core.sheet.sheet import Sheet


def natural_rows() -> dict[str, str]:
    """The school of a new song."""
    from arkund.core.advise.school import NATURAL

    rows: dict[str, str] = NATURAL.model_dump()
    return rows


class Songs(models.QuerySet):
    """Songs, and which of them are in the bin."""

    def on_desk(self) -> "Songs":
        """Those that are not in the bin."""
        return self.select_related("current").filter(removed=None)

    def in_bin(self) -> "Songs":
        """Those in the bin, the latest first."""
        return self.exclude(removed=None).order_by("-removed")


class Song(models.Model):
    """One tune's drum recording. ``current`` is the revision that sounds, ``school`` the rows
    from which its findings speak, ``heard`` when it was last played, ``removed`` when it was put into
    the bin."""

    slug = models.SlugField(unique=True, max_length=80)
    name = models.CharField(max_length=120)
    created = models.DateTimeField(auto_now_add=True)
    current = models.ForeignKey("Revision", null=True, on_delete=models.PROTECT, related_name="+")
    school = models.JSONField(default=natural_rows)
    heard = models.DateTimeField(null=True)
    removed = models.DateTimeField(null=True)
    objects = Songs.as_manager()

    class Meta:
        ordering = ("-created",)

    def __str__(self) -> str:
        return self.name


class Revision(models.Model):
    """One sheet with what changed and why. Never changed once stored; only the reason of what a hand did, and what
    it measures, may be given later."""

    song = models.ForeignKey(Song, on_delete=models.CASCADE, related_name="revisions")
    parent = models.ForeignKey("self", null=True, on_delete=models.PROTECT, related_name="children")
    number = models.PositiveIntegerField()
    created = models.DateTimeField(auto_now_add=True)
    patch = models.JSONField(default=dict)
    inverse = models.JSONField(default=dict)
    document = models.BinaryField()
    label = models.CharField(max_length=300)
    reason = models.TextField(blank=True)
    station = models.CharField(max_length=20, blank=True)
    measures = models.JSONField(default=dict)
    finding = models.CharField(max_length=120, blank=True)

    class Meta:
        ordering = ("number",)
        constraints = (
            models.UniqueConstraint(fields=("song", "number"), name="one_revision_a_number"),
        )

    @property
    def change(self) -> dict[str, Any]:
        """What was changed, as this version's sheets say it."""
        return _as_now(self.patch)

    @property
    def way_back(self) -> dict[str, Any]:
        """What takes the change back, as this version's sheets say it."""
        return _as_now(self.inverse)

    @once
    def sheet(self) -> "Sheet":
        """The sheet; raises `UnreadableSheet` where it is damaged or of a later version."""
        try:
            return _sheet_in(bytes(self.document))
        except (zlib.error, UnicodeDecodeError):
            why = "it is damaged."
        except SheetError as error:
            why = str(error)
        raise UnreadableSheet(
            f"Revision {self.number} of “{self.song.name}” cannot be read: {why} Undo goes back to "
            "the revision before; “arkund restore” to an earlier copy of the database."
        )


def _as_now(patch: dict[str, Any]) -> dict[str, Any]:
    from arkund.core.sheet.upgrade import upgraded_patch

    return upgraded_patch(patch)


@lru_cache(maxsize=8)
def _sheet_in(document: bytes) -> "Sheet":
    """The sheet that a document holds; the same one for all that ask, since none is ever changed."""
    from arkund.core.sheet.sheet import load

    return load(zlib.decompress(document).decode())


class Answer(models.Model):
    """What the engineer said to a finding, by its id (module, quantity, subject)."""

    class State(models.TextChoices):
        APPLIED = "applied"
        CHANGED = "changed"
        DECLINED = "declined"

    song = models.ForeignKey(Song, on_delete=models.CASCADE, related_name="answers")
    finding = models.CharField(max_length=120)
    state = models.CharField(max_length=10, choices=State.choices)
    text = models.TextField(blank=True)
    reason = models.CharField(max_length=500, blank=True)
    revision = models.ForeignKey(Revision, null=True, on_delete=models.CASCADE)
    created = models.DateTimeField(auto_now=True)

    class Meta:
        constraints = (
            models.UniqueConstraint(fields=("song", "finding"), name="one_answer_a_finding"),
        )


class OwnSchool(models.Model):
    """A school that an engineer has saved under a name of their own."""

    name = models.CharField(max_length=40, unique=True)
    rows = models.JSONField()

    class Meta:
        ordering = ("name",)

    def __str__(self) -> str:
        return self.name


class OwnChain(models.Model):
    """A chain that an engineer has saved: its stages, and of its drum what they are set by."""

    name = models.CharField(max_length=40, unique=True)
    piece = models.CharField(max_length=40)
    landmarks = models.JSONField()
    stages = models.JSONField()

    class Meta:
        ordering = ("name",)

    def __str__(self) -> str:
        return self.name


class Snapshot(models.Model):
    """A revision under a name of its engineer's, to be heard against others and gone back to."""

    song = models.ForeignKey(Song, on_delete=models.CASCADE, related_name="snapshots")
    revision = models.ForeignKey(Revision, on_delete=models.CASCADE, related_name="+")
    name = models.CharField(max_length=60)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-created", "-pk")
        constraints = (
            models.UniqueConstraint(fields=("song", "name"), name="one_snapshot_a_name"),
        )


class Todo(models.Model):
    """Something to come back to: in words, and where it was noticed. ``done`` is when it was ticked."""

    song = models.ForeignKey(Song, on_delete=models.CASCADE, related_name="todos")
    number = models.PositiveIntegerField()
    text = models.CharField(max_length=300)
    mic = models.CharField(max_length=40, blank=True)
    bar = models.PositiveIntegerField(null=True)
    created = models.DateTimeField(auto_now_add=True)
    done = models.DateTimeField(null=True)

    class Meta:
        ordering = ("number",)
        constraints = (
            models.UniqueConstraint(fields=("song", "number"), name="one_todo_a_number"),
        )


class FirstVisit(models.Model):
    """How far somebody is on the way through the stations (`songs.first_visit`): the steps that were ``heard``
    or passed over, which no revision tells, and whether the way is ``open`` on the song's pages."""

    song = models.OneToOneField(Song, on_delete=models.CASCADE, related_name="first_visit")
    heard = models.JSONField(default=list)
    passed_over = models.JSONField(default=list)
    open = models.BooleanField(default=False)


class Listened(models.Model):
    """How long one has listened on a ``day``, in s, and how long ``without_break`` up to ``last``."""

    day = models.DateField(unique=True)
    seconds = models.PositiveIntegerField(default=0)
    without_break = models.PositiveIntegerField(default=0)
    last = models.DateTimeField()


class Sending(models.Model):
    """What was written for an outboard box: which ``node`` of which revision, with the gain by which it was lowered."""

    song = models.ForeignKey(Song, on_delete=models.CASCADE, related_name="sendings")
    revision = models.ForeignKey(Revision, on_delete=models.CASCADE, related_name="+")
    node = models.CharField(max_length=40)
    sides = models.PositiveSmallIntegerField()
    gain_db = models.FloatField()
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-pk",)


class Drill(models.Model):
    """A round of an ear drill: the ``size`` of the difference in its skill's unit, which side was ``changed`` (0 is A),
    what is ``told`` of it, and whether the answer was ``right``; None until there is one."""

    song = models.ForeignKey(Song, on_delete=models.SET_NULL, null=True, related_name="+")
    skill = models.CharField(max_length=20, db_index=True)
    size = models.FloatField()
    changed = models.PositiveSmallIntegerField()
    told = models.CharField(max_length=120)
    right = models.BooleanField(null=True)
    created = models.DateTimeField(auto_now_add=True)


class Job(models.Model):
    """Long work: what, how far, and what became of it. ``owner`` names the process that runs it,
    which can be asked whether it lives (`arkund.songs.locks`); ``attempts`` how often it began."""

    class State(models.TextChoices):
        QUEUED = "queued"
        RUNNING = "running"
        DONE = "done"
        FAILED = "failed"
        CANCELLED = "cancelled"

    kind = models.CharField(max_length=20)
    song = models.ForeignKey(Song, null=True, on_delete=models.CASCADE, related_name="jobs")
    state = models.CharField(max_length=10, choices=State.choices, default=State.QUEUED)
    share = models.FloatField(default=0.0)
    message = models.CharField(max_length=500, blank=True)
    params = models.JSONField(default=dict)
    result = models.JSONField(default=dict)
    cancel_asked = models.BooleanField(default=False)
    created = models.DateTimeField(auto_now_add=True)
    started = models.DateTimeField(null=True)
    owner = models.CharField(max_length=80, blank=True)
    attempts = models.PositiveSmallIntegerField(default=0)

    @property
    def is_over(self) -> bool:
        return self.state in (self.State.DONE, self.State.FAILED, self.State.CANCELLED)


class Print(models.Model):
    """A finished export: its revision, its zip in the prints folder, its checks."""

    song = models.ForeignKey(Song, on_delete=models.CASCADE, related_name="prints")
    revision = models.ForeignKey(Revision, on_delete=models.PROTECT)
    created = models.DateTimeField(auto_now_add=True)
    file_name = models.CharField(max_length=160)
    size = models.BigIntegerField(default=0)
    report = models.JSONField(default=dict)

    class Meta:
        ordering = ("-created",)


class StagedFile(models.Model):
    """An uploaded file that waits to become part of a song, examined on arrival."""

    token = models.CharField(max_length=40, db_index=True)
    name = models.CharField(max_length=255)
    stored = models.CharField(max_length=80)
    created = models.DateTimeField(auto_now_add=True)
    facts = models.JSONField(default=dict)
    refusal = models.CharField(max_length=500, blank=True)

    class Meta:
        constraints = (
            models.UniqueConstraint(fields=("token", "name"), name="one_name_a_staging"),
        )


class SampleSet(models.Model):
    """Single hits of one piece that are kept for any song: a stored kit file (``sound``), its rate,
    and of each sample its first frame and how many (``samples``); ``origin`` says where from."""

    name = models.CharField(max_length=60, unique=True)
    piece = models.CharField(max_length=40)
    sound = models.CharField(max_length=64)
    rate = models.PositiveIntegerField()
    samples = models.JSONField()
    origin = models.CharField(max_length=200)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("piece", "name")

    def __str__(self) -> str:
        return self.name
