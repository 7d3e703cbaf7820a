"""The drums' mics in a stored song: who carries each piece, how a drum's own share its spectrum, what lies over
them, who could hand over."""

from typing import Any

from arkund.core.advise.finding import spoken
from arkund.core.advise.handing_over import CANCELS_DB, HandOver, hand_over, masking_of
from arkund.core.advise.level import carries as carrying
from arkund.core.errors import ArkundError
from arkund.core.kit.roles import label
from arkund.core.measure.masking import THIRDS_HZ, Masking
from arkund.core.sheet.sheet import Sheet
from arkund.songs import findings
from arkund.songs.models import Song
from arkund.songs.studies import study_of

NEAR_DB, LOUD_DB = -6.0, -20.0
"""What lies no farther under the drum is named, where the drum is no farther under its loudest third."""

AGREE_DB = 1.0
"""Mics that gain so much together need no word."""


def described(sheet: Sheet, piece: str) -> dict[str, Any]:
    """By third octaves: each mic's share, what the mics have together over what they have apart, what else lies
    there; what that comes to in sentences; and the hand-over that is offered, with its patch. Raises
    `ArkundError`."""
    study = study_of(sheet)
    if piece not in study.pieces:
        known = ", ".join(study.pieces) or "none"
        raise ArkundError(f"No mic is close to “{piece[:40]}”. Drums with mics: {known}.")
    found = masking_of(study, piece)
    offer = hand_over(study, piece)
    return {
        "piece": piece,
        "hits": found.hits,
        "hz": list(THIRDS_HZ),
        "drum_db": _rounded(found.drum_db),
        "share": {mic: _rounded(share, 3) for mic, share in found.share.items()},
        "together_db": _rounded(found.together_db),
        "others_db": {name: _rounded(over) for name, over in found.others.items()},
        "said": [*_said(piece, found), *([_offered(offer)] if offer else [])],
        "hand_over": {
            "hz": offer.hz,
            "patch": offer.patch,
            "change_db": _rounded(offer.change_db),
        }
        if offer
        else None,
    }


def _rounded(values: Any, digits: int = 1) -> list[float]:
    return [round(float(v), digits) + 0.0 for v in values]


def _said(piece: str, found: Masking) -> list[str]:
    """What matters, in sentences."""
    counts = found.drum_db >= LOUD_DB
    out = []
    least = int((found.together_db + 100 * ~counts).argmin())
    gain = found.together_db[least]
    if len(found.share) > 1 and gain < AGREE_DB:
        said = "cancel" if gain <= CANCELS_DB else "agree least"
        out.append(
            f"At {THIRDS_HZ[least]:.0f} Hz the mics of the {label(piece)} {said}: {gain:+.1f} dB together."
        )
    for name, over in found.others.items():
        near = counts & (over >= NEAR_DB)
        if near.any():
            most = int((over - 1000 * ~counts).argmax())
            source = "The bed" if name == "bed" else f"What the mics of the {label(name)} hear"
            out.append(
                f"{source} is {abs(over[most]):.1f} dB {'over' if over[most] > 0 else 'under'} it "
                f"at {THIRDS_HZ[most]:.0f} Hz, while it is hit."
            )
    return [spoken(one) for one in out]


def _offered(offer: HandOver) -> str:
    filters = [path.split(".") for path in offer.patch if path.endswith("frequency_hz")]
    words = " and ".join(
        f"a {'high' if 'high_pass' in steps else 'low'}-pass on {label(steps[1])}"
        for steps in filters
    )
    return spoken(
        f"At {offer.hz:.0f} Hz {label(offer.low)} can hand over to {label(offer.high)}: {words} "
        f"changes the drum's thirds by {offer.change_db.min():+.1f} to {offer.change_db.max():+.1f} dB."
    )


def carries(song: Song) -> dict[str, Any]:
    """Who carries each piece and who owns the low end, in the mix as it is."""
    return carrying.described(findings.study_of_song(song), findings.school_of_song(song))
