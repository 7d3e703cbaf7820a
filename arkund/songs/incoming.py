"""Files that are to become mics: which take and role each is taken for."""

import os
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TypeVar

from arkund.core.audio.files import SUFFIXES, FileFacts
from arkund.core.audio.resampling import resample_file
from arkund.core.errors import ArkundError, AudioRefused
from arkund.core.exchange.tables import read_roles_csv, read_sections_csv, read_text
from arkund.core.kit.naming import guess_roles
from arkund.core.kit.roles import MicName, label, parse_mic_name
from arkund.core.sheet.sheet import Section
from arkund.songs import storage

PAIRED = ("overhead", "room", "kit", "bed", "reference", "return")
"""Roles in which a stereo file is a left and a right mic."""


@dataclass(frozen=True)
class Incoming:
    """One file that is to become a mic: where it is, what it is called, what it is taken for."""

    path: Path
    name: str
    mic: str
    take: int = 1
    pick: str = "mono"


def take_number(relative: str) -> int:
    """Take of a file by its folder (``take 2/…``) or name (``Kick_T2.wav``); 1 otherwise."""
    parts = relative.replace("\\", "/").split("/")
    for folder in parts[:-1]:
        match = re.search(r"(?:take|tk|t)[ _-]?(\d{1,2})$", folder, re.I)
        if match:
            return int(match[1])
    match = re.search(r"[ _-](?:take|tk|t)[ _-]?(\d{1,2})$", Path(parts[-1]).stem, re.I)
    return int(match[1]) if match else 1


def files_of(folder: Path) -> list[tuple[Path, str]]:
    """Files of a folder and its subfolders, with names relative to it; hidden ones and those that
    plainly are no sound (truth.json, notes) left out."""
    if not folder.is_dir():
        raise ArkundError(f"{folder} is not a folder. Name the folder that holds the mics' files.")
    found = [p for p in sorted(folder.rglob("*")) if p.is_file() and not p.name.startswith(".")]
    named = [(p, str(p.relative_to(folder))) for p in found]
    sounds = [
        (p, n)
        for p, n in named
        if not n.startswith("stems/")
        and p.suffix.lower() not in (".json", ".txt", ".md", ".csv", ".pdf", ".png")
    ]
    if not any(p.suffix.lower() in SUFFIXES for p, _ in sounds):
        raise ArkundError(f"{folder} holds no WAV, FLAC or AIFF file.")
    return sounds


def guess_incoming(
    files: Sequence[tuple[Path, str]], roles: dict[str, str] | None = None, stereo: str = ""
) -> list[Incoming]:
    """Takes and roles guessed from names; ``roles`` (file name → mic) overrides."""
    roles = roles or {}
    out: list[Incoming] = []
    by_take: dict[int, list[tuple[Path, str]]] = {}
    for path, name in files:
        by_take.setdefault(take_number(name), []).append((path, name))
    for take, members in sorted(by_take.items()):
        guesses = guess_roles([name for _, name in members])
        for (path, name), guess in zip(members, guesses, strict=True):
            mic = roles.get(name, roles.get(Path(name).name, str(guess.mic)))
            out.append(Incoming(path, name, mic, take, stereo or "mono"))
    return out


def read_roles(path: Path) -> dict[str, str]:
    """``file,mic`` rows of a CSV. Raises `ArkundError`."""
    return _named(path, read_roles_csv)


def read_sections(path: Path) -> tuple[Section, ...]:
    """``name,start_bar,bars`` rows of a CSV. Raises `ArkundError`."""
    return _named(path, read_sections_csv)


T = TypeVar("T")


def _named(path: Path, read: Callable[[str], T]) -> T:
    """What a table's file says; a refusal names the file."""
    text = read_text(path)
    try:
        return read(text)
    except ArkundError as error:
        raise ArkundError(f"{path.name}: {error}") from None


def split_stereo(item: Incoming, facts: FileFacts, wish: str) -> list[Incoming]:
    """A stereo file as mics: an overhead or room pair becomes left and right; in a mono role what
    ``wish`` says (left, right or sum). Raises `AudioRefused` where it says nothing."""
    if facts.channels == 1:
        return [Incoming(item.path, item.name, item.mic, item.take, "mono")]
    name = parse_mic_name(item.mic)
    if name.role in PAIRED and name.side is None:
        left, right = MicName(name.role, name.index, "l"), MicName(name.role, name.index, "r")
        return [
            Incoming(item.path, item.name, str(mic), item.take, pick)
            for mic, pick in ((left, "left"), (right, "right"))
        ]
    pick = wish or (item.pick if item.pick != "mono" else "")
    if not pick:
        raise AudioRefused(
            item.name,
            f"is stereo, but {label(item.mic)} is a mono mic.",
            "Choose its left side, its right side or the sum of both.",
        )
    return [Incoming(item.path, item.name, item.mic, item.take, pick)]


def store_at_rate(
    item: Incoming, facts: FileFacts, rate: int, stored: list[str]
) -> tuple[str, Path]:
    """Keep a file in the media folder, resampled where its rate differs from the song's; returns
    its content hash and where it lies. Hashes of what is kept are noted in ``stored`` beforehand,
    so that a failure can be cleared away."""
    stored.append(facts.sha256)
    kept = storage.store_sound(item.path, facts.sha256)
    if facts.rate == rate:
        return facts.sha256, kept
    moved = storage.data_folder() / "media" / f"{facts.sha256}-{rate}.{os.getpid()}.wav.part"
    try:
        resample_file(kept, moved, rate)
        digest = storage.hash_of(moved)
        stored.append(digest)
        target = storage.new_sound_path(digest, ".wav")
        target.parent.mkdir(parents=True, exist_ok=True)
        moved.replace(target)
    finally:
        moved.unlink(missing_ok=True)
    return digest, target
