"""Sound files that are broken in every way that can be thought of, through the door of an import.

Run as a process of its own, since what breaks native code takes the process with it.
"""

import contextlib
import io
import json
import os
import random
import struct
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import soundfile as sf

from arkund.core.audio.files import examine, read_mono
from arkund.core.errors import ArkundError
from tests.torture.rows import Row

RATE = 44100
MOST_MB = 600
MOST_S = 5
KINDS = (
    ("WAV", "PCM_16"),
    ("WAV", "PCM_24"),
    ("WAV", "FLOAT"),
    ("RF64", "PCM_24"),
    ("FLAC", "PCM_24"),
    ("AIFF", "PCM_16"),
)
SUFFIX = {"WAV": "wav", "RF64": "wav", "FLAC": "flac", "AIFF": "aif"}


def originals(rng: random.Random) -> list[tuple[str, bytes]]:
    """A second of hits in every format that is taken, mono and stereo."""
    noise = np.random.default_rng(rng.randrange(1 << 30))
    time_s = np.arange(RATE) / RATE
    hit = np.exp(-(time_s % 0.25) / 0.03) * noise.standard_normal(RATE) * 0.2
    out = []
    for container, subtype in KINDS:
        for channels in (1, 2):
            content = io.BytesIO()
            sound = np.repeat(hit[:, None], channels, 1).astype(np.float32)
            sf.write(content, sound, RATE, subtype=subtype, format=container)
            out.append((SUFFIX[container], content.getvalue()))
    return out


def mutated(content: bytes, rng: random.Random) -> bytes:
    """One to three wounds: cut, flipped, overwritten, doubled, or a lie in the header."""
    data = bytearray(content)
    for _ in range(rng.randint(1, 3)):
        way = rng.randrange(8)
        head = rng.random() < 0.6
        at = rng.randrange(min(len(data), 120) if head else len(data)) if data else 0
        if way == 0:
            del data[rng.randrange(len(data) + 1) :]
        elif way == 1 and data:
            data[at] ^= 1 << rng.randrange(8)
        elif way == 2:
            data[at : at + 4] = rng.choice((b"\0" * 4, b"\xff" * 4, b"\xff\xff\xff\x7f"))
        elif way == 3:
            data[at : at + 8] = rng.randbytes(8)
        elif way == 4:
            del data[at : at + rng.randint(1, 64)]
        elif way == 5:
            data[at:at] = rng.randbytes(rng.randint(1, 64))
        elif way == 6:
            data[at : at + 4] = struct.pack("<f", rng.choice((np.nan, np.inf, 1e30, -1e30)))
        else:
            data[at:at] = data[:at]
    return bytes(data)


def attack(seed: int, count: int, folder: Path, imports_every: int) -> Iterator[dict[str, str]]:
    """Try ``count`` mutants; what went wrong, a line each, and in the end the figures."""
    rng = random.Random(seed)
    known = originals(rng)
    # Kernels are compiled on first use, which is no fault of a reader either.
    suffix, content = known[0]
    whole = folder / f"kick_in.{suffix}"
    whole.write_bytes(content)
    _import(whole, content, folder)
    taken = refused = imported = 0
    for number in range(count):
        suffix, content = rng.choice(known)
        path = folder / f"kick_in.{suffix if rng.random() < 0.97 else 'wav'}"
        path.write_bytes(mutated(content, rng))
        began = time.process_time()
        try:
            facts = examine(path)
            sound = read_mono(path, "mono" if facts.channels == 1 else "sum")
            taken += 1
            if len(sound) != facts.frames or not np.isfinite(sound).all():
                yield {"fail": f"mutant {number}: {len(sound)} of {facts.frames} samples"}
            if taken % imports_every == 0:
                imported += 1
                _import(path, content, folder)
        except ArkundError as error:
            refused += 1
            if not str(error).endswith((".", "?")):
                yield {"fail": f"mutant {number}: no sentence: {error}"}
        except Exception as error:
            yield {"fail": f"mutant {number}: {type(error).__name__}: {error}"}
        worked = time.process_time() - began  # A wait for a busy disk is no fault of a reader.
        if worked > MOST_S:
            yield {"fail": f"mutant {number}: worked {worked:.1f} s"}
    peak = _peak_mb()
    if peak > MOST_MB:
        yield {"fail": f"took {peak:.0f} MB"}
    yield {
        "remark": f"{refused} refused in a sentence, {taken} taken, {imported} imported, "
        f"{peak:.0f} MB"
    }


def _peak_mb() -> float:
    """The most memory this process had. (`getrusage` begins with that of whoever started it.)"""
    status = Path("/proc/self/status").read_text()
    return int(status.partition("VmHWM:")[2].split()[0]) / 1024


def _import(path: Path, whole: bytes, folder: Path) -> None:
    """Bring a mutant that was taken in beside a whole file."""
    from arkund.songs import importing, incoming

    (folder / "in").mkdir(exist_ok=True)
    for old in (folder / "in").iterdir():
        old.unlink()
    mic = folder / "in" / path.name
    mic.write_bytes(path.read_bytes())
    (folder / "in" / f"snare_top{path.suffix}").write_bytes(whole)
    files = incoming.guess_incoming(incoming.files_of(folder / "in"), stereo="left")
    importing.import_song(files, importing.Wishes("Mutant", pad=True, stereo="left"), skip_bad=True)


def run(seed: int, count: int, imports_every: int = 25) -> Row:
    """Mutants in a process of their own."""
    row = Row("mutated sound files through import", count)
    with tempfile.TemporaryDirectory() as data:
        env = os.environ | {"ARKUND_DATA": data, "DJANGO_SETTINGS_MODULE": "arkund.studio.settings"}
        command = [
            sys.executable,
            "-m",
            "tests.torture.mutants",
            str(seed),
            str(count),
            str(imports_every),
        ]
        done = subprocess.run(command, env=env, capture_output=True, text=True, check=False)
    for line in done.stdout.splitlines():
        said = json.loads(line)
        if "fail" in said:
            row.fail(said["fail"])
        row.remark = said.get("remark", row.remark)
    if done.returncode:
        row.fail(f"the process ended with {done.returncode}: {done.stderr[-300:]}")
    return row


def _main() -> None:
    import django
    from django.core.management import call_command

    django.setup()
    call_command("migrate", verbosity=0)
    seed, count, every = map(int, sys.argv[1:4])
    with tempfile.TemporaryDirectory() as folder, contextlib.suppress(BrokenPipeError):
        for said in attack(seed, count, Path(folder), every):
            print(json.dumps(said), flush=True)


if __name__ == "__main__":
    _main()
