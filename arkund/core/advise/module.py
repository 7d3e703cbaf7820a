"""What a module of judgement is: what it may be asked about, what it reads, what it finds."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from arkund.core.advise.finding import Finding
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.sheet.sheet import Sheet


@dataclass(frozen=True)
class Module:
    """One kind of judgement at one station.

    ``subjects`` lists what may be asked about; ``reads`` the values of the sheet (by path) on
    which the answer for a subject rests besides the takes, their analysis and the school; equal
    values give equal findings. ``version`` is raised when the judgement itself changes. What a
    module finds ``for_the_ear`` is doubtful always; a first pass does not ask.
    """

    name: str
    station: str
    version: int
    subjects: Callable[[Sheet], Sequence[str]]
    reads: Callable[[Sheet, str], Sequence[Any]]
    find: Callable[[Study, str, School], Sequence[Finding]]
    for_the_ear: bool = False

    @property
    def key(self) -> str:
        """What remembered answers are told apart by: two modules may share a name."""
        return f"{self.name}/{self.find.__name__}/{self.version}"
