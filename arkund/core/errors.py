"""Errors whose text is meant for the person at the desk."""


class ArkundError(Exception):
    """A failure stated in one sentence that its reader can act on."""


class AudioRefused(ArkundError):
    """A sound file that cannot be used, with its name, the reason and the remedy."""

    def __init__(self, name: str, reason: str, remedy: str) -> None:
        self.name, self.reason, self.remedy = name, reason, remedy
        super().__init__(f"{name}: {reason} {remedy}")


class SheetError(ArkundError):
    """A change that the sheet does not allow."""


class UnreadableSheet(SheetError):
    """A stored sheet that this version cannot read."""


class SoundLost(ArkundError):
    """A sound file that was taken in is missing, damaged or shorter than it was."""

    def __init__(self, name: str) -> None:
        super().__init__(
            f"The sound file of {name} is missing or damaged. Bring it in again at Load-in, or "
            "restore the media folder from a backup."
        )
