"""Guessing a mic's role from the name of its file.

The guess is a proposal: load-in checks it against the sound and the engineer corrects it.
"""

import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import PurePath
from typing import Literal

from arkund.core.kit.roles import MicName, Role, number_mics


@dataclass(frozen=True)
class Guess:
    """A guessed mic name, how sure (0 to 1), and the words of the file name that led to it."""

    mic: MicName
    confidence: float
    because: str


# Tried in order; the first that matches the name, written in lower case with single spaces and
# with spaces between letters and digits, decides. More telling words come first.
_RULES: tuple[tuple[str, Role], ...] = (
    (r"\b(click|metronome|cue track)\b", "click"),
    (r"\b(reference|ref)\b", "reference"),
    (r"\b(bed|rough mix|music|backing|bass( di| amp)?|playback)\b(?!.*drum)", "bed"),
    (r"\b(talk ?back|tb|crush|crusher|squash|trash|dirt|smash|garbage|knee|wurst)\b", "crush"),
    (r"\b(sub ?kick|kick ?sub|bd ?sub|sub ?(k|bd)|kik ?sub|speaker)\b", "kick_sub"),
    (r"\b(kick|kik|kck|kk|kd|bd|bass ?drum|k)\b.*\bsub\b", "kick_sub"),
    (
        r"\b(kick|kik|kck|kk|kd|bd|bass ?drum|k) ?(out|outside|outer|front|reso|hole|o)\b",
        "kick_out",
    ),
    (r"\b(out|outside|front|reso)\b.*\b(kick|kik|kck|kk|kd|bd|bass ?drum)\b", "kick_out"),
    (r"\b(kick|kik|kck|kk|kd|bd|bass ?drum|kickdrum|kickin|kikin|bdin)\b", "kick_in"),
    (r"\b(kickout|kikout|bdout)\b", "kick_out"),
    (r"\bk ?(in|inside|i)\b", "kick_in"),
    (r"\bk ?(out|o)\b", "kick_out"),
    (
        r"\b(snr|snare|sn|sd|sna|snaredrum) ?(b|bot|btm|bottom|bttm|under|unten|dn|down|wires?|lo)\b",
        "snare_bottom",
    ),
    (r"\b(bottom|bot|btm|under)\b.*\b(snr|snare|sn|sd)\b", "snare_bottom"),
    (
        r"\b(snrb|snbot|snbtm|snarebot|snarebottom|snareb|sdb|sdbot|snb|snu|snaredn)\b",
        "snare_bottom",
    ),
    (r"\b(snr|snare|sn|sd|sna) ?(side|shell|port)\b", "snare_side"),
    (
        r"\b(snr|snare|sn|sd|sna|snaredrum|snrt|sntop|snaretop|snrtop|sdt|sdtop|snt|snaret)\b",
        "snare_top",
    ),
    (r"\b(oh|ohs|overhead|overheads|over|ovh|ovhd|ohd|ovr)\b", "overhead"),
    (r"\b(oh|ovh|overhead)(l|r|left|right)\b", "overhead"),
    (r"\b(room|rooms|rm|rms|amb|ambience|ambient|far|hall|raum)\b", "room"),
    (r"\b(room|rm|amb)(l|r|left|right)\b", "room"),
    (r"\b(floor|ft|flt|flr|flrtom|floortom|standtom)\b", "tom"),
    (r"\b(tom|toms|tm|rack|rt|rack ?tom|racktom|tt|t|hi ?tom|lo ?tom)\b", "tom"),
    (r"\b(hh|hat|hats|hihat|hi hat|high hat|hi hats|hht)\b", "hat"),
    (r"\b(ride|rd|rid|ridecym)\b", "ride"),
    (r"\b(crash|cr|crsh|china|splash|cym|cymbal)\b", "crash"),
    (r"\b(perc|percussion|tamb|tambourine|shaker|cowbell|conga|bongo|clap|claps)\b", "percussion"),
    (r"\b(drums|drumkit|kit|drum kit|drum mix|loop|mono kit|full kit)\b", "kit"),
)
_COMPILED = [(re.compile(pattern), role) for pattern, role in _RULES]

_SIDE_L = re.compile(r"\b(l|left|lt|hat side|hatside|hh side)\b|(oh|room|rm|amb|ovh|overhead)l\b")
_SIDE_R = re.compile(
    r"\b(r|right|rgt|ride side|rideside|fl side)\b|(oh|room|rm|amb|ovh|overhead)r\b"
)
_SIDED: tuple[Role, ...] = ("overhead", "room", "percussion", "other")


def words_of(file_name: str) -> str:
    """The name without suffix and take, in lower case, words parted by single spaces.

    >>> words_of("03_KickIn-T2.wav")
    '03 kick in'
    """
    stem = PurePath(file_name).stem
    stem = re.sub(r"(?<=[a-z])(?=[A-Z])", " ", stem)
    stem = re.sub(r"(?<=[A-Za-z])(?=\d)|(?<=\d)(?=[A-Za-z])", " ", stem)
    stem = re.sub(r"[^A-Za-z0-9]+", " ", stem).lower().strip()
    return re.sub(r"\b(t|tk|take) (\d{1,2})$", "", stem).strip() if _has_more(stem) else stem


def _has_more(stem: str) -> bool:
    """Whether something is left to name the mic once a trailing take number is gone."""
    rest = re.sub(r"\b(t|tk|take) (\d{1,2})$", "", stem).strip()
    return bool(re.search(r"[a-z]", rest)) and not rest.endswith(("rack", "floor", "tom"))


def guess_role(file_name: str) -> Guess:
    """What the name of one file says of its mic; role ``other`` where it says nothing."""
    words = words_of(file_name)
    for pattern, role in _COMPILED:
        match = pattern.search(words)
        if match:
            return Guess(
                MicName(role, _index(words, role, match), _side(words, role)), 0.9, match[0]
            )
    return Guess(MicName("other"), 0.0, "")


def _side(words: str, role: Role) -> Literal["l", "r"] | None:
    if role not in _SIDED:
        return None
    if _SIDE_L.search(words):
        return "l"
    return "r" if _SIDE_R.search(words) else None


def _index(words: str, role: Role, match: re.Match[str]) -> int | None:
    after = re.match(r"\D{0,8}(\d{1,2})\b", words[match.end() :])
    if role == "tom":
        if re.search(r"\b(floor|ft|flt|flr|flrtom|floortom|standtom|lo|low)\b", words):
            return 90 + (int(after[1]) if after else 1)  # after every rack tom; see guess_roles
        if re.search(r"\b(hi|high)\b", words) and not after:
            return 1
        if re.search(r"\b(mid|middle)\b", words) and not after:
            return 2
        return int(after[1]) if after else 1
    if role in ("overhead", "room", "crash", "ride") and after and int(after[1]) < 5:
        return int(after[1])
    return None


def guess_roles(file_names: Sequence[str]) -> list[Guess]:
    """Guesses for the files of one take together: unique names, toms numbered high to low,
    two overheads or rooms without a side taken for left and right, floor toms last."""
    guesses = [guess_role(name) for name in file_names]
    mics = [guess.mic for guess in guesses]
    toms = sorted({m.index or 1 for m in mics if m.role == "tom"})
    for position, mic in enumerate(mics):
        if mic.role == "tom":
            mics[position] = MicName("tom", toms.index(mic.index or 1) + 1)
    for role in ("overhead", "room"):
        own = [i for i, m in enumerate(mics) if m.role == role]
        bare = [i for i in own if mics[i].side is None]
        if len(own) == 2 and len(bare) == 2:
            for i, side in zip(bare, ("l", "r"), strict=True):
                mics[i] = MicName(role, None, side)  # type: ignore[arg-type]
        else:
            indices = {mics[i].index for i in own}
            if len(indices) == 1:
                for i in own:
                    mics[i] = MicName(role, None, mics[i].side)
    return [
        Guess(mic, guess.confidence, guess.because)
        for mic, guess in zip(number_mics(mics), guesses, strict=True)
    ]
