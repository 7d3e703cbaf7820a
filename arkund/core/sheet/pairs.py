"""Left and right of a pair as one lane: what is set on one side is set on both.

A pair is two mics of one role and number on two sides. While they are linked, trim, fader, mute and
chain are one thing with two ends; a patch that sets one side is completed for the other before it
is stored, so that a stored patch says all that it changes. Delay, polarity, repair and pan belong
to each side.
"""

from collections.abc import Mapping
from typing import Any, NamedTuple

from arkund.core.sheet.differences import freed
from arkund.core.sheet.following import followed
from arkund.core.sheet.lanes import sounding_mics
from arkund.core.sheet.sheet import Sheet

SHARED = ("trim_db", "fader_db", "mute", "chain")
"""What a linked pair has in common."""

_OTHER = {"l": "r", "r": "l"}


def other_side(sheet: Sheet, name: str) -> str | None:
    """The mic on the other side of one that has a side, linked or not; None without one."""
    mic = sheet.mics.get(name)
    if mic is None or mic.side is None:
        return None
    return next(
        (
            n
            for n, m in sheet.mics.items()
            if (m.role, m.index, m.side) == (mic.role, mic.index, _OTHER[mic.side])
        ),
        None,
    )


def partner(sheet: Sheet, name: str) -> str | None:
    """The other side of a linked pair that is in use."""
    other = other_side(sheet, name)
    if other is None:
        return None
    both = (sheet.mics[name], sheet.mics[other])
    return other if all(m.linked and not m.unused for m in both) else None


class Stereo(NamedTuple):
    """How a pair stands: ``width`` 0 (one place) to 1 (hard left and right), and ``balance``, where
    its middle lies, −1 (left) to 1."""

    width: float
    balance: float


def stereo_of(left: float, right: float) -> Stereo:
    """Width and balance of two pans, −1 to 1 each, whichever of them is farther left."""
    return Stereo(abs(right - left) / 2, (left + right) / 2)


def pans_of(stereo: Stereo, seat: float = 1.0) -> tuple[float, float]:
    """The pans of left and right; with ``seat`` −1 they change sides. What would lie beyond hard
    left or right stays there."""
    both = (stereo.balance - seat * stereo.width, stereo.balance + seat * stereo.width)
    left, right = (round(min(max(pan, -1.0), 1.0), 3) for pan in both)
    return left, right


def lanes(sheet: Sheet) -> list[str]:
    """`sounding_mics`; of linked pairs the left side alone, which stands for both."""
    return [m for m in sounding_mics(sheet) if lane(sheet, m)[0] == m]


def lane(sheet: Sheet, name: str) -> tuple[str, ...]:
    """The mic, or both sides of the linked pair that it belongs to, left first."""
    other = partner(sheet, name)
    if other is None:
        return (name,)
    return (other, name) if sheet.mics[name].side == "r" else (name, other)


def completed(sheet: Sheet, patch: Mapping[str, Any]) -> dict[str, Any]:
    """The patch with what it sets on one side of a linked pair set on the other, unless it says
    something else there. A pair that becomes linked takes what the side has that was asked. What is
    taken away takes its differences over bars along; sections take theirs where they go."""
    out = dict(patch)
    for path, value in patch.items():
        table, _, rest = path.partition(".")
        name, _, what = rest.partition(".")
        if table != "mics" or not what:
            continue
        other = other_side(sheet, name)
        if other is None or any(given.startswith(f"mics.{other}.") for given in patch):
            continue
        if what == "linked":
            out[f"mics.{other}.linked"] = value
            if value:
                own = sheet.mics[name].model_dump(mode="json")
                out |= {f"mics.{other}.{shared}": own[shared] for shared in SHARED}
        elif what.partition(".")[0] in SHARED and partner(sheet, name):
            out[f"mics.{other}.{what}"] = value
    return freed(sheet, out) | followed(sheet, out) | out
