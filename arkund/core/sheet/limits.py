"""Types of the values in a sheet, and its limits."""

from typing import Annotated

from pydantic import Field

OFF_DB = -90.0
"""A fader, send or blend at this value is shut."""

MOST_STAGES = 32
MOST_SENDS = 128
MOST_REGIONS = 5_000

LONGEST_FRAMES = 2_000_000_000
"""More than an hour at the highest rate that is taken."""

Frame = Annotated[int, Field(ge=0, le=LONGEST_FRAMES)]
SongSeconds = Annotated[float, Field(ge=-60, le=100_000)]
Quarters = Annotated[float, Field(ge=-1_000, le=1_000_000)]
HitId = Annotated[str, Field(pattern=r"^[A-Za-z0-9][A-Za-z0-9_-]{0,47}$")]

Name = Annotated[str, Field(pattern=r"^[a-z][a-z0-9_]{0,31}$")]
"""The one rule for names of lanes: they become names of files and parts of paths."""

Words = Annotated[str, Field(pattern=r"^[^\x00-\x1f\x7f]*$")]
"""What an engineer calls a thing: any letters on one line."""
