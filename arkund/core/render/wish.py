"""What is asked of a print: kinds of stem, where they are taken, and how their files are called.

Nothing here needs sound or numbers, so that a command line can list it at once.
"""

import re
import string
from collections.abc import Sequence
from dataclasses import dataclass

from arkund.core.errors import ArkundError

KINDS = {
    "mics": "each mic after its fader and pan",
    "pieces": "each drum: its mics and layers together",
    "groups": "groups that do something",
    "returns": "the buses at their blends",
    "layers": "samples and tones",
    "mix": "everything, through the drum bus",
}
"""The kinds of stem, and what each holds."""

USUAL = tuple(kind for kind in KINDS if kind != "pieces")
PARALLEL = ("returns", "layers")
"""What ``parallel`` stands for in a list of kinds."""

TAPS = {
    "edited": "moved and aligned, otherwise as recorded: every mic, mono",
    "cleaned": "repaired, trimmed and gated: every mic in use, mono",
    "shaped": "finished, before the drum bus",
    "bus": "through the drum bus as the whole mix drives it",
}
"""Where stems are taken, in the order of the signal, and what they are there."""

MONO_TAPS = ("edited", "cleaned")
PATTERN = "{song}_{name}"
FIELDS = ("song", "name", "n", "kind", "tap", "revision")
LONGEST_NAME = 120
_NUMBER = re.compile(r"0?[1-9]?")
_NOT_IN_NAMES = re.compile(r'[<>:"/\\|?*\x00-\x1f]')


@dataclass(frozen=True)
class Wish:
    """What is to be printed: kinds of stem, where they are taken, which channels ``only`` (all where none is
    named) and which are ``left_out``, and the pattern of the files' names. Raises `ArkundError` on what cannot
    be."""

    kinds: Sequence[str] = USUAL
    tap: str = "shaped"
    only: Sequence[str] = ()
    left_out: Sequence[str] = ()
    pattern: str = PATTERN

    def __post_init__(self) -> None:
        """Kinds in one order, whoever lists them."""
        named = set(self.kinds)
        if "parallel" in named:
            named = named - {"parallel"} | set(PARALLEL)
        if unknown := sorted(named - set(KINDS)):
            raise ArkundError(
                f"“{unknown[0]}” is not a kind of stem. Kinds are: {', '.join(KINDS)}."
            )
        if not named:
            raise ArkundError(f"Choose what to print: {', '.join(KINDS)}.")
        if self.tap not in TAPS:
            raise ArkundError(f"“{self.tap}” is not a tap. Taps are: {', '.join(TAPS)}.")
        if self.tap in MONO_TAPS:
            if "mics" not in named:
                raise ArkundError(f"Stems that are only {self.tap} are of mics; choose mics too.")
            named = {"mics"}
        object.__setattr__(self, "kinds", tuple(kind for kind in KINDS if kind in named))
        named_by(self.pattern, song="song", name="name", n=1, kind="mic", tap="tap", revision=1)


def named_by(pattern: str, **values: str | int) -> str:
    """A file's name by a pattern such as ``{n:02} {name}``. Raises `ArkundError` where it cannot be a name."""
    try:
        parts = list(string.Formatter().parse(pattern))
    except ValueError:
        raise ArkundError(f"“{pattern}” is not a pattern: each {{ needs its }}.") from None
    for _, field, spec, conversion in parts:
        if field is None:
            continue
        if field not in FIELDS or conversion:
            known = ", ".join(f"{{{name}}}" for name in FIELDS)
            raise ArkundError(f"A name's pattern may have {known}; not {{{field}}}.")
        if spec and not (field in ("n", "revision") and _NUMBER.fullmatch(spec)):
            raise ArkundError(
                f"“{spec}” is no way to write {{{field}}}; numbers may be {{n:02}} or {{n:3}}."
            )
    name = pattern.format(**values).strip()
    if found := _NOT_IN_NAMES.search(name):
        raise ArkundError(f"A file's name cannot have “{found.group()}” in it.")
    if not name or name.startswith(".") or name.endswith(".") or len(name) > LONGEST_NAME:
        raise ArkundError(
            f"A file's name has 1 to {LONGEST_NAME} characters and neither begins nor ends with a dot."
        )
    return name
