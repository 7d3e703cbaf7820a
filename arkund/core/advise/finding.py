"""A finding: a measured fact with what is proposed, why, how sure, and what it would change."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from arkund.core.errors import ArkundError
from arkund.core.sheet.paths import Patch

DOUBTFUL_UNDER = 0.6
"""A finding less confident than this is shown as doubtful and never applied by a first pass."""


@dataclass(frozen=True)
class Change:
    """A figure as it is and as it would be."""

    now: float
    then: float


@dataclass(frozen=True)
class Way:
    """Another way than a finding's proposal: its ``name``, what is ``said`` of it, its patch and its
    figures."""

    name: str
    said: str
    proposal: Patch
    gain: Mapping[str, Change]


@dataclass(frozen=True)
class Finding:
    """``module`` and ``quantity`` name what is judged (``align.delay``), ``subject`` whose it is:
    a mic, piece, bus, bar or take. ``measured`` are figures with their unit in the name.
    ``proposal`` is a patch of the sheet, empty where nothing in the sheet can help. ``gain`` says
    which figures it would change. ``row`` is the row of the school that speaks, empty where any
    school would say the same. ``mic`` and ``bars`` say where to look and listen. What ``asks`` is sure,
    but its proposal plays other hits than the drummer did, or is against the school: an ear decides.
    """

    module: str
    quantity: str
    subject: str
    reason: str
    measured: Mapping[str, Any]
    confidence: float
    proposal: Patch = field(default_factory=dict)
    gain: Mapping[str, Change] = field(default_factory=dict)
    row: str = ""
    school: str = ""
    mic: str = ""
    bars: tuple[int, int] | None = None
    others: Sequence[Way] = ()
    asks: bool = False

    @property
    def kind(self) -> str:
        return f"{self.module}.{self.quantity}"

    @property
    def id(self) -> str:
        """What answers are stored by: module, quantity, subject; never figures."""
        return f"{self.kind}:{self.subject}"

    @property
    def is_doubtful(self) -> bool:
        return self.confidence < DOUBTFUL_UNDER

    @property
    def is_left_to_the_ear(self) -> bool:
        """Whether a first pass leaves it as it is."""
        return self.is_doubtful or self.asks

    def by_way(self, number: int) -> "Finding":
        """The finding with one of its other ways (from 1 on) as its proposal; 0 is its own. Raises
        `ArkundError` where there is none of that number."""
        if number == 0:
            return self
        if not 0 < number <= len(self.others):
            ways = "one way" if not self.others else f"{len(self.others) + 1} ways"
            raise ArkundError(f"The finding has {ways}; way {number + 1} is not one of them.")
        way = self.others[number - 1]
        reason = f"{self.reason} Chosen instead: {way.said}"
        return replace(self, reason=reason, proposal=way.proposal, gain=way.gain, others=())

    def as_dict(self) -> dict[str, Any]:
        """Plain data, as the command line prints it and the memo keeps it."""
        return {
            "id": self.id,
            "module": self.module,
            "quantity": self.quantity,
            "subject": self.subject,
            "reason": self.reason,
            "measured": dict(self.measured),
            "confidence": round(self.confidence, 3),
            "doubtful": self.is_doubtful,
            "proposal": dict(self.proposal),
            "gain": _plain(self.gain),
            "row": self.row,
            "school": self.school,
            "mic": self.mic,
            "bars": list(self.bars) if self.bars else None,
            "others": [
                {
                    "name": w.name,
                    "said": w.said,
                    "proposal": dict(w.proposal),
                    "gain": _plain(w.gain),
                }
                for w in self.others
            ],
            "asks": self.asks,
        }


def _plain(gain: Mapping[str, Change]) -> dict[str, dict[str, float]]:
    return {k: {"now": c.now, "then": c.then} for k, c in gain.items()}


def _gain_from(data: Mapping[str, Mapping[str, float]]) -> dict[str, Change]:
    return {k: Change(c["now"], c["then"]) for k, c in data.items()}


def finding_from(data: Mapping[str, Any]) -> Finding:
    """The inverse of `Finding.as_dict`."""
    return Finding(
        data["module"],
        data["quantity"],
        data["subject"],
        data["reason"],
        data["measured"],
        data["confidence"],
        data["proposal"],
        _gain_from(data["gain"]),
        data["row"],
        data["school"],
        data["mic"],
        (data["bars"][0], data["bars"][1]) if data["bars"] else None,
        tuple(
            Way(w["name"], w["said"], w["proposal"], _gain_from(w["gain"]))
            for w in data.get("others", ())
        ),
        data.get("asks", False),
    )


def spoken(text: str) -> str:
    """A sentence with true minus signs before figures, dashes of words left alone."""
    out = []
    for n, letter in enumerate(text):
        before = text[n - 1] if n else " "
        after = text[n + 1] if n + 1 < len(text) else " "
        out.append("−" if letter == "-" and after.isdigit() and not before.isalnum() else letter)
    said = "".join(out)
    return said[:1].upper() + said[1:]
