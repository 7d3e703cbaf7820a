"""SFZ: kits of samples as text, both ways, in the common opcodes of the open format.

Read are sample, key ranges, velocity ranges, round robin (seq_length, seq_position), volume, tuning,
offset and end; whatever else stands there is listed, not guessed.
"""

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from arkund.core.errors import ArkundError

LARGEST_TEXT = 2_000_000
MOST_REGIONS = 4096

_HEADER = re.compile(r"<([a-z]+)>")
_OPCODE = re.compile(r"([A-Za-z0-9_$]+)=(.*?)(?=\s+[A-Za-z0-9_$]+=|\s*$)")
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
_STEPS = {"c": 0, "d": 2, "e": 4, "f": 5, "g": 7, "a": 9, "b": 11}


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
            for name, value in (
                ("volume", r.volume_db),
                ("tune", r.tune_cents),
                ("offset", r.offset),
            )
            if value
        ]
        if r.end is not None:
            words.append(f"end={r.end}")
        out.append("<region>\n" + "\n".join(words) + "\n")
    return "\n".join(out)


def read_sfz(text: str) -> tuple[list[Region], list[str]]:
    """Regions of a kit in their order, and the opcodes that are not read, each once.

    Raises `ArkundError` where the text is too large, has no region, or a region no sample.
    """
    if len(text) > LARGEST_TEXT:
        raise ArkundError("The SFZ file is too large to be a kit.")
    plain = re.sub(r"//[^\n]*|/\*.*?\*/", "", text, flags=re.S)
    levels: dict[str, dict[str, str]] = {"control": {}, "global": {}, "master": {}, "group": {}}
    regions: list[Region] = []
    unknown: dict[str, None] = {}
    parts = _HEADER.split(plain)
    for header, body in zip(parts[1::2], parts[2::2], strict=True):
        said = {
            k.lower(): v.strip()
            for line in body.splitlines()
            for k, v in _OPCODE.findall(line.strip())
        }
        unknown |= dict.fromkeys(k for k in said if k not in _KNOWN)
        if header == "region":
            if len(regions) >= MOST_REGIONS:
                raise ArkundError(f"The SFZ file has more than {MOST_REGIONS} regions.")
            regions.append(
                _region(
                    {**levels["global"], **levels["master"], **levels["group"], **said},
                    levels["control"].get("default_path", ""),
                )
            )
        elif header in levels:
            levels[header] = said
            if header == "global":
                levels["master"], levels["group"] = {}, {}
            if header == "master":
                levels["group"] = {}
        else:
            unknown |= {f"<{header}>": None}
    if not regions:
        raise ArkundError("The SFZ file has no region, so there is no sample in it.")
    return regions, list(unknown)


def _region(said: Mapping[str, str], folder: str) -> Region:
    if not said.get("sample"):
        raise ArkundError("A region of the SFZ file names no sample.")
    key = said.get("key")
    low, high = (
        _note(key or said.get(name, default))
        for name, default in (("lokey", "0"), ("hikey", "127"))
    )
    tune = _number(said, "tune", 0.0) + 100 * _number(said, "transpose", 0.0)
    end = int(_number(said, "end", -1))
    return Region(
        (folder + said["sample"]).replace("\\", "/"),
        low,
        high,
        round(_number(said, "lovel", 1)),
        round(_number(said, "hivel", 127)),
        round(_number(said, "seq_position", 1)),
        round(_number(said, "seq_length", 1)),
        _number(said, "volume", 0.0),
        tune,
        max(round(_number(said, "offset", 0)), 0),
        end if end >= 0 else None,
    )


def _number(said: Mapping[str, str], name: str, default: float) -> float:
    text = said.get(name)
    try:
        value = float(text) if text else default
    except ValueError:
        raise ArkundError(
            f"{name}={text[:20] if text else ''} in the SFZ file is no number."
        ) from None
    if abs(value) > 1e9 or value != value:
        raise ArkundError(f"{name}={value:g} in the SFZ file is out of every range.")
    return value


def _note(text: str) -> int:
    """A note by number or name (c4 is 60)."""
    if re.fullmatch(r"-?\d{1,3}", text):
        return int(text)
    found = re.fullmatch(r"([a-g])([#b]?)(-?\d)", text.lower())
    if found is None:
        raise ArkundError(f"“{text[:10]}” in the SFZ file is no note.")
    return 12 * (int(found[3]) + 1) + _STEPS[found[1]] + {"#": 1, "b": -1, "": 0}[found[2]]


def sample_path(kit: Path, region: Region) -> Path:
    """Where a region's sample lies beside its kit file; raises `ArkundError` where the name leads out
    of the kit's folder or to nothing."""
    name = PurePosixPath(region.sample)
    folder = kit.resolve().parent
    if name.is_absolute() or ".." in name.parts or ":" in region.sample:
        raise ArkundError(
            f"{kit.name} names the sample “{region.sample[:60]}”, which is not in its own folder."
        )
    path = (folder / name).resolve()
    if not path.is_relative_to(folder):
        raise ArkundError(
            f"{kit.name} names the sample “{region.sample[:60]}”, which is not in its own folder."
        )
    if not path.is_file():
        raise ArkundError(
            f"{kit.name} names the sample “{region.sample[:60]}”, which is not there."
        )
    return path
