"""What of a sheet may be set by hand, and what only import and analysis may write.

The sound itself, its length and rate, the lists that were found in it and the roles that these
rest on are consequences of files; a hand that changed them alone would leave a sheet that nothing
can render.
"""

from collections.abc import Iterable

from arkund.core.errors import SheetError

SETTABLE = (
    "tempo",
    "root_note",
    "sections",
    "comp",
    "copies",
    "timing",
    "layers",
    "groups",
    "buses",
    "drum_bus",
    "over",
    "bed_db",
    "takes.*.offset",
    "takes.*.corrections.*",
    "mics.*.distance_cm",
    "mics.*.repair",
    "mics.*.trim_db",
    "mics.*.polarity",
    "mics.*.delay_samples",
    "mics.*.clean",
    "mics.*.even",
    "mics.*.chain",
    "mics.*.mute",
    "mics.*.fader_db",
    "mics.*.pan",
    "mics.*.to",
    "mics.*.linked",
)
"""Paths that may be set, and with each whatever lies within it; ``*`` stands for one name."""

_PATTERNS = [pattern.split(".") for pattern in SETTABLE]


def is_settable(path: str) -> bool:
    """Whether a hand may set this path."""
    steps = path.split(".")
    return any(
        len(steps) >= len(pattern)
        and all(want in ("*", step) for want, step in zip(pattern, steps, strict=False))
        for pattern in _PATTERNS
    )


def refuse_internal(paths: Iterable[str]) -> None:
    """Raises `SheetError` that names the first of ``paths`` that a hand may not set."""
    for path in paths:
        if not is_settable(path):
            raise SheetError(
                f"“{path[:80]}” cannot be set by hand. Set-up, import and analysis write it."
                if path.split(".")[0] in ("takes", "mics", "moves", "rate", "frames", "version")
                else f"The sheet has no “{path[:80]}”."
            )
