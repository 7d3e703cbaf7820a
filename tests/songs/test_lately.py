"""What is kept of a sheet for one request."""

import numpy as np

from arkund.core.sheet.channels import groups_for, new_mic
from arkund.core.sheet.sheet import Sheet, Take
from arkund.songs import lately


def test_the_same_sheet_is_made_something_of_once_and_its_equal_anew() -> None:
    mics = {"kick_in": new_mic("kick_in", "kick.wav")}
    sheet = Sheet(
        rate=48000,
        frames=480,
        takes=(Take(number=1, sources={}),),
        mics=mics,
        groups=groups_for(mics),
    )
    made: list[int] = []

    def make() -> list[int]:
        made.append(1)
        return made

    first = lately.made("graph", sheet, make)
    assert lately.made("graph", sheet, make) is first
    assert lately.made("hits", sheet, lambda: "other") == "other"
    assert len(made) == 1
    lately.made("graph", sheet.model_copy(), make)
    assert len(made) == 2


def test_what_was_made_long_ago_is_let_go() -> None:
    """Sheets come by the hundred while a value is dragged."""
    for _ in range(3 * lately.KEPT):
        lately.made("graph", object(), object)  # type: ignore[arg-type]
    assert len(lately._made) == lately.KEPT
    for n in range(5):
        lately.heard(f"{n}", lambda: np.zeros(8, np.float32))
    assert len(lately._heard) == 2
