"""What is asked of a drum's own sound: a question, and two versions of the sound that differ by one thing."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from arkund.core.ears.staircase import Range
from arkund.core.errors import ArkundError
from arkund.core.kit.roles import BESIDE, label, parse_mic_name
from arkund.core.process.equaliser import Equaliser
from arkund.core.process.transient import Transient
from arkund.core.sheet.channels import Channel
from arkund.core.sheet.lanes import sounding_mics
from arkund.core.sheet.sheet import Sheet

STAGE = "asked"
"""Id of the stage that makes the difference, at the end of the channel's chain."""

EQ_HZ = (100, 200, 400, 800, 1600, 3150, 6300)
EQ_Q = 1.2


@dataclass(frozen=True)
class Question:
    """Two versions of what a ``node`` plays: ``patches`` on the sheet, the second with the difference, and the
    ``gains_db`` of each on top where they are not to be equally loud. ``asks`` in words, and what is ``told`` of the
    version with the difference once it was answered."""

    asks: str
    told: str
    node: str
    patches: tuple[dict[str, Any], dict[str, Any]]
    gains_db: tuple[float, float] = (0.0, 0.0)
    is_matched: bool = True


@dataclass(frozen=True)
class Skill:
    """A skill: its ``title``, the ``unit`` of its differences, the range ``within`` which they are asked, and the
    mics of a sheet that it can be asked of. ``made`` gives the question of a mic for a difference and a number that
    varies it."""

    name: str
    title: str
    unit: str
    within: Range
    mics: Callable[[Sheet], Sequence[str]]
    made: Callable[[Sheet, str, float, int], Question]


def _close(sheet: Sheet) -> list[str]:
    """Close mics of shells that sound: of them one hears EQ and attack."""
    return [
        m
        for m in _heard(sheet)
        if (parse_mic_name(m).piece or "").startswith(("kick", "snare", "tom"))
    ]


def _heard(sheet: Sheet) -> list[str]:
    return [m for m in sounding_mics(sheet) if sheet.mics[m].role not in BESIDE]


def _paired(sheet: Sheet) -> list[str]:
    """Mics of a drum that shares its group with another of its mics: only beside that is polarity or lateness heard."""
    heard = _heard(sheet)
    return [
        m
        for m in _close(sheet)
        if sheet.mics[m].to in sheet.groups
        and any(o != m and _is_same(o, m) and sheet.mics[o].to == sheet.mics[m].to for o in heard)
    ]


def _is_same(one: str, other: str) -> bool:
    return parse_mic_name(one).piece == parse_mic_name(other).piece


def _behind(sheet: Sheet, mic: str, stage: dict[str, Any]) -> dict[str, Any]:
    channel: Channel = sheet.mics[mic]
    last = channel.chain[-1].id if channel.chain else ""
    return {f"mics.{mic}.chain.{STAGE}": stage | {"id": STAGE, "after": last, "on": True}}


def _louder(sheet: Sheet, mic: str, size: float, number: int) -> Question:
    return Question(
        f"{label(mic).capitalize()}: which is louder?",
        f"was {size:.2g} dB louder",
        mic,
        ({}, {}),
        # None is louder than the mic came out.
        (-size, 0.0),
        is_matched=False,
    )


def _eq(sheet: Sheet, mic: str, size: float, number: int) -> Question:
    hertz = EQ_HZ[number % len(EQ_HZ)]
    band = {"id": "asked", "on": True, "frequency_hz": hertz, "gain_db": round(size, 3), "q": EQ_Q}
    stage = Equaliser.model_validate({"bands": [band]}).model_dump(mode="json")
    return Question(
        f"{label(mic).capitalize()}: which has more at {hertz} Hz?",
        f"had {size:.2g} dB more at {hertz} Hz",
        mic,
        ({}, _behind(sheet, mic, stage)),
    )


def _attack(sheet: Sheet, mic: str, size: float, number: int) -> Question:
    stage = Transient(attack_db=-round(size, 3)).model_dump(mode="json")
    return Question(
        f"{label(mic).capitalize()}: which attack is softer?",
        f"had {size:.2g} dB less attack",
        mic,
        ({}, _behind(sheet, mic, stage)),
    )


def _polarity(sheet: Sheet, mic: str, size: float, number: int) -> Question:
    # The easier, the nearer in level the two mics are: the difference asked is how loud this one is in the sum.
    under = {f"mics.{mic}.fader_db": sheet.mics[mic].fader_db - (24.0 - size)}
    flipped = under | {f"mics.{mic}.polarity": -sheet.mics[mic].polarity}
    group = sheet.mics[mic].to
    return Question(
        f"{group.capitalize()} mics: in which is {label(mic)} flipped from how it is set?",
        f"had {label(mic)} flipped, {24.0 - size:.2g} dB under its level",
        group,
        (under, flipped),
    )


def _late(sheet: Sheet, mic: str, size: float, number: int) -> Question:
    by = size / 1000.0 * sheet.rate
    late = {f"mics.{mic}.delay_samples": round(sheet.mics[mic].delay_samples + by, 2)}
    group = sheet.mics[mic].to
    return Question(
        f"{group.capitalize()} mics: in which is {label(mic)} late?",
        f"had {label(mic)} {size:.2g} ms late",
        group,
        ({}, late),
    )


SKILLS = (
    Skill("louder", "Which is louder", "dB", Range(3.0, 0.1, 12.0), _heard, _louder),
    Skill("eq", "Which has more at a frequency", "dB", Range(8.0, 0.25, 15.0), _close, _eq),
    Skill("attack", "Which attack is softer", "dB", Range(8.0, 0.25, 12.0), _close, _attack),
    Skill("late", "Which mic is late", "ms", Range(4.0, 0.05, 20.0), _paired, _late),
    Skill("polarity", "Which mic is flipped", "dB", Range(24.0, 1.0, 24.0), _paired, _polarity),
)
"""Every skill."""


def skill_named(name: str) -> Skill:
    """A skill by its name. Raises `ArkundError`."""
    for skill in SKILLS:
        if skill.name == name:
            return skill
    raise ArkundError(
        f"There is no drill “{name}”. There are: {', '.join(s.name for s in SKILLS)}."
    )
