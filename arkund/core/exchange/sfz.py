"""SFZ: kits of samples as text, both ways, in the common opcodes of the open format.

Read are sample, key ranges, velocity ranges, round robin (seq_length, seq_position), volume, tuning,
offset and end; whatever else stands there is listed, not guessed.
"""

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path, PurePosixPath

from arkund.core.errors import ArkundError
from arkund.core.exchange.bounded import read_bounded

LARGEST_BYTES = 1_000_000
MOST_REGIONS = 256
LONGEST_NAME = 400
VOLUME_DB = (-60.0, 24.0)
TUNE_CENTS = (-2400.0, 2400.0)
KEYS = (-1, 127)
VELOCITIES = (0, 127)
TURNS = (1, 100)

_COMMENT = re.compile(r"//|/\*")
_HEADER = re.compile(r"<([a-z]{1,20})>")
_WORD = re.compile(r"[A-Za-z0-9_$]+")
_KNOWN = {
    "sample",
    "key",
    "lokey",
    "hikey",
    "lovel",
    "hivel",
    "seq_length",
    "seq_position",
    "volume",
    "tune",
    "transpose",
    "offset",
    "end",
    "pitch_keycenter",
    "default_path",
    "loop_mode",
}
_NOTE = re.compile(r"([a-g])([#b]?)(-?\d)")
_STEPS = {"c": 0, "d": 2, "e": 4, "f": 5, "g": 7, "a": 9, "b": 11}
_SIGNS = {"#": 1, "b": -1, "": 0}


@dataclass(frozen=True)
class Region:
    """One sample: its file, the notes and velocities that it answers (both ends included), its place
    in the round robin, gain in dB, tuning in cents, and the samples of the file that are played
    (``end`` None: to its end)."""

    sample: str
    low_key: int = 0
    high_key: int = 127
    low_velocity: int = 1
    high_velocity: int = 127
    turn: int = 1
    turns: int = 1
    volume_db: float = 0.0
    tune_cents: float = 0.0
    offset: int = 0
    end: int | None = None
    line: int = field(default=0, compare=False)
    """Where it begins in the text that it was read from, counted from 1."""


def write_sfz(regions: Sequence[Region]) -> str:
    """The text of a kit; raises `ValueError` for a sample whose name would not be read back."""
    out = ["// one-shot drum kit\n<global>\nloop_mode=one_shot\n"]
    for r in regions:
        if "=" in r.sample or "//" in r.sample or r.sample != r.sample.strip():
            raise ValueError(f"the sample name {r.sample!r} cannot stand in an SFZ file")
        words = [
            f"sample={r.sample}",
            f"lokey={r.low_key} hikey={r.high_key}",
            f"lovel={r.low_velocity} hivel={r.high_velocity}",
        ]
        if r.turns > 1:
            words.append(f"seq_length={r.turns} seq_position={r.turn}")
        words += [
            f"{name}={value:g}"
            for name, value in (("volume", r.volume_db), ("tune", r.tune_cents))
            if value
        ]
        if r.offset:
            words.append(f"offset={r.offset}")
        if r.end is not None:
            words.append(f"end={r.end}")
        out.append("<region>\n" + "\n".join(words) + "\n")
    return "\n".join(out)


def read_sfz_file(path: Path) -> tuple[list[Region], list[str]]:
    """`read_sfz` of a file; raises `ArkundError` where it is larger than `LARGEST_BYTES` (it is not
    read then), cannot be read, or is no kit."""
    content = read_bounded(path, LARGEST_BYTES)
    return read_sfz(content.decode(errors="replace"))


def read_sfz(text: str) -> tuple[list[Region], list[str]]:
    """Regions of a kit in their order, and the opcodes that are not read, each once.

    The time it takes grows with the text's length and no faster. Raises `ArkundError` where there is
    no region, a region has no sample, or a value is out of its range, with the region and its line.
    """
    plain = _without_comments(text)
    levels: dict[str, dict[str, str]] = {"control": {}, "global": {}, "master": {}, "group": {}}
    regions: list[Region] = []
    unknown: dict[str, None] = {}
    line, counted = 1, 0
    headers = list(_HEADER.finditer(plain))
    ends = [*(header.start() for header in headers[1:]), len(plain)]
    for header, end in zip(headers, ends, strict=False):
        line += plain.count("\n", counted, header.start())
        counted = header.start()
        body = plain[header.end() : end]
        said = {k.lower(): v for row in body.splitlines() for k, v in _opcodes(row)}
        unknown |= dict.fromkeys(k[:40] for k in said if k not in _KNOWN)
        name = header[1]
        if name == "region":
            if len(regions) >= MOST_REGIONS:
                raise ArkundError(f"The SFZ file has more than {MOST_REGIONS} regions.")
            folder = levels["control"].get("default_path", "")
            merged = {**levels["global"], **levels["master"], **levels["group"], **said}
            regions.append(_Said(merged, len(regions) + 1, line).region(folder))
        elif name in levels:
            levels[name] = said
            if name == "global":
                levels["master"], levels["group"] = {}, {}
            if name == "master":
                levels["group"] = {}
        else:
            unknown |= {f"<{name}>": None}
    if not regions:
        raise ArkundError("The SFZ file has no region, so there is no sample in it.")
    return regions, list(unknown)


def _without_comments(text: str) -> str:
    """The text without ``// …`` and ``/* … */``, its lines where they were; a comment that is never
    closed goes on to the end."""
    out, at = [], 0
    while found := _COMMENT.search(text, at):
        out.append(text[at : found.start()])
        if found[0] == "//":
            end = text.find("\n", found.end())
        else:
            end = text.find("*/", found.end())
            out.append("\n" * text.count("\n", found.end(), end if end >= 0 else len(text)))
            end = end + 2 if end >= 0 else end
        if end < 0:
            return "".join(out)
        at = end
    out.append(text[at:])
    return "".join(out)


def _opcodes(row: str) -> Iterator[tuple[str, str]]:
    """``name=value`` pairs of a line; a value may hold blanks, and ends where the next name begins."""
    name, value = "", list[str]()
    pieces = row.split("=")
    for number, piece in enumerate(pieces):
        before, word = piece, ""
        if number < len(pieces) - 1:
            words = piece.rsplit(None, 1)
            is_parted = len(words) == 2 or (number == 0 or piece[:1].isspace())
            if words and is_parted and _WORD.fullmatch(words[-1]) and piece.endswith(words[-1]):
                before, word = piece[: -len(words[-1])], words[-1]
        value.append(before)
        if word or number == len(pieces) - 1:
            if name:
                yield name, "=".join(value).strip()
            name, value = word, []


@dataclass(frozen=True)
class _Said:
    """What is said of one region, which is the ``number``-th and begins in a ``line``."""

    values: Mapping[str, str]
    number: int
    line: int

    def region(self, folder: str) -> Region:
        if not self.values.get("sample"):
            raise self._refusal("names no sample")
        key = self.values.get("key")
        low, high = (
            self._note(key or self.values.get(name, default))
            for name, default in (("lokey", "0"), ("hikey", "127"))
        )
        tune = self._number("tune", 0.0) + 100 * self._number("transpose", 0.0)
        self._bounded("tuning in cents", tune, TUNE_CENTS)
        end = self._whole("end", -1, (-1, 1e9))
        return Region(
            (folder + self.values["sample"]).replace("\\", "/"),
            low,
            high,
            self._whole("lovel", 1, VELOCITIES),
            self._whole("hivel", 127, VELOCITIES),
            self._whole("seq_position", 1, TURNS),
            self._whole("seq_length", 1, TURNS),
            self._bounded("volume", self._number("volume", 0.0), VOLUME_DB),
            tune,
            max(self._whole("offset", 0, (-1, 1e9)), 0),
            end if end >= 0 else None,
            self.line,
        )

    def _number(self, name: str, default: float) -> float:
        text = self.values.get(name)
        try:
            return float(text) if text else default
        except ValueError:
            raise self._refusal(f"has {name}={(text or '')[:20]}, which is no number") from None

    def _bounded(self, name: str, value: float, ends: tuple[float, float]) -> float:
        if not ends[0] <= value <= ends[1]:
            raise self._refusal(
                f"has a {name} of {value:g}; {ends[0]:g} to {ends[1]:g} can be used"
            )
        return value

    def _whole(self, name: str, default: float, ends: tuple[float, float]) -> int:
        return round(self._bounded(name, self._number(name, default), ends))

    def _note(self, text: str) -> int:
        """A note by number or name (c4 is 60)."""
        found = _NOTE.fullmatch(text.lower())
        if found:
            return 12 * (int(found[3]) + 1) + _STEPS[found[1]] + _SIGNS[found[2]]
        try:
            return round(self._bounded("key", float(text), KEYS))
        except ValueError:
            raise self._refusal(f"has the key “{text[:10]}”, which is no note") from None

    def _refusal(self, words: str) -> ArkundError:
        return ArkundError(f"Region {self.number} of the SFZ file (line {self.line}) {words}.")


def sample_path(kit: Path, region: Region) -> Path:
    """Where a region's sample lies beside its kit file; raises `ArkundError` where the name leads out
    of the kit's folder or to nothing."""
    name = PurePosixPath(region.sample)
    folder = kit.resolve().parent
    if "\0" in region.sample or len(region.sample) > LONGEST_NAME:
        raise ArkundError(
            f"{kit.name} names the sample “{region.sample[:60]}”, which is no name of a file."
        )
    if name.is_absolute() or ".." in name.parts or ":" in region.sample:
        raise ArkundError(
            f"{kit.name} names the sample “{region.sample[:60]}”, which is not in its own folder."
        )
    try:
        path = (folder / name).resolve()
        is_there = path.is_file()
    except (OSError, RuntimeError):  # a name that no file system takes, a link that leads to itself
        path, is_there = folder / "unreadable", False
    if not path.is_relative_to(folder):
        raise ArkundError(
            f"{kit.name} names the sample “{region.sample[:60]}”, which is not in its own folder."
        )
    if not is_there:
        raise ArkundError(
            f"{kit.name} names the sample “{region.sample[:60]}”, which is not there."
        )
    return path
