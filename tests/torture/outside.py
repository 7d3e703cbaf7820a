"""What comes from outside beside recordings: sample kits, tempo maps, graphs of buses, strangers at the
door, and a recording of a quarter of an hour."""

import contextlib
import io
import json
import os
import random
import resource
import socket
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any
from urllib.parse import urlencode

import mido
import numpy as np
import soundfile as sf

from arkund.core.errors import ArkundError
from arkund.core.exchange.midi import read_tempo
from arkund.core.replace.kit import kit_of
from arkund.core.sheet.tempo import tempo_of
from arkund.core.units import db_to_amplitude
from tests.torture.rows import Row
from tests.torture.running import ROOT, Bench

RATE = 44100
SLOW_S = 5.0
MOST_MB = 600
IMPORT_MB = 1500

OPCODES = (
    "volume",
    "tune",
    "transpose",
    "offset",
    "end",
    "key",
    "lokey",
    "lovel",
    "seq_length",
    "pan",
)
VALUES = (
    "0",
    "-6",
    "24",
    "6000",
    "-18000",
    "1e300",
    "nan",
    "inf",
    "-inf",
    "1e9",
    "c2",
    "h9",
    "",
    "²",
    "x" * 300,
)
TEXTS = ("/* ", "*/", "// ", "<region>", "<group>", "<", "=", " ", "\0", "a", "sample=", "\n")


def run_kits(seed: int, count: int) -> Row:
    """Kits and tempo maps, legal and not, read as the application reads them."""
    row, rng = Row("sample kits and tempo maps"), random.Random(seed)
    taken = refused = 0
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        _write_samples(folder)
        for number in range(count):
            attack = _kit if number % 3 else _tempo
            words, began = attack(rng, folder), time.process_time()
            row.tried += 1
            try:
                _read_kit(folder / "kit.sfz") if number % 3 else tempo_of(
                    read_tempo(folder / "x.mid")
                )
                taken += 1
            except ArkundError as error:
                refused += 1
                if not str(error).endswith("."):
                    row.fail(f"no sentence: {error}: {words}")
            except Exception as error:
                row.fail(f"{type(error).__name__}: {error}: {words}")
            if time.process_time() - began > SLOW_S:
                row.fail(f"{time.process_time() - began:.1f} s: {words}")
    peak_mb = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10
    if peak_mb > MOST_MB:
        row.fail(f"{peak_mb} MB")
    row.remark = f"{taken} taken, {refused} refused in a sentence, {peak_mb} MB"
    return row


def _write_samples(folder: Path) -> None:
    hit = (0.5 * np.exp(-np.arange(8000) / 900)).astype(np.float32)
    sf.write(folder / "a.wav", hit, RATE)
    sf.write(folder / "loud.wav", 30 * hit, RATE, subtype="FLOAT")
    sf.write(folder / "silent.flac", np.zeros(8000 * 1800, np.int16), 8000)


def _kit(rng: random.Random, folder: Path) -> str:
    """A kit file, written; what is in it, in short."""
    if rng.random() < 0.2:
        text = rng.choice(TEXTS) * rng.randrange(900_000 // 8)
    else:
        parts = []
        for _ in range(rng.randint(1, 12)):
            said = [
                f"sample={rng.choice(('a.wav', 'loud.wav', 'silent.flac', '../a.wav', 'no.wav'))}"
            ]
            said += [
                f"{rng.choice(OPCODES)}={rng.choice(VALUES)}" for _ in range(rng.randint(0, 3))
            ]
            parts.append(f"<region> {' '.join(said)} {rng.choice(TEXTS)}")
        text = "\n".join(parts)
    (folder / "kit.sfz").write_text(text)
    return repr(text[:120])


def _read_kit(path: Path) -> None:
    from arkund.songs.kits import _of_sfz

    hits, _ = _of_sfz(path, "snare", RATE)
    try:
        kit = kit_of(hits, RATE)
    except ValueError:
        return  # nothing is heard in it, which the application says
    peak = float(np.abs(kit.sound).max())
    if not np.isfinite(kit.sound).all() or peak > db_to_amplitude(24.01):
        raise AssertionError(f"a kit with a peak of {peak}")


def _tempo(rng: random.Random, folder: Path) -> str:
    file = mido.MidiFile(type=1, ticks_per_beat=rng.choice((24, 96, 960)))
    track = mido.MidiTrack()
    for _ in range(rng.choice((1, 3, 40, 9000))):
        after = rng.choice((0, 1, 960, 100_000))
        if rng.random() < 0.7:
            tempo = rng.choice((1, 150_000, 500_000, 3_000_000, 16_777_215))
            track.append(mido.MetaMessage("set_tempo", tempo=tempo, time=after))
        else:
            beats, unit = rng.choice((0, 4, 7, 33, 255)), rng.choice((1, 2, 4, 8, 16, 64))
            track.append(
                mido.MetaMessage("time_signature", numerator=beats, denominator=unit, time=after)
            )
    file.tracks.append(track)
    out = io.BytesIO()
    file.save(file=out)
    content = bytearray(out.getvalue())
    for _ in range(rng.randint(0, 3)):
        content[rng.randrange(len(content))] = rng.randrange(256)
    (folder / "x.mid").write_bytes(bytes(content))
    return f"{len(track)} events"


def run_graphs(seed: int, folder: Path, count: int) -> Row:
    """Graphs of buses at the size that a sheet takes, heard and drawn; some requests are given up."""
    row, rng = Row("graphs of buses"), random.Random(seed)
    bench = Bench(folder / "graphs")
    slug = bench.make_songs("Many Ways")[0]
    bench.start("serve")
    slowest = 0.0
    try:
        for _ in range(count):
            patch = json.dumps(_graph(rng))
            query = urlencode({"patch": patch, "start": rng.randrange(300_000), "frames": 24_000})
            row.tried += 1
            if rng.random() < 0.3:
                with socket.create_connection(("127.0.0.1", bench.port)) as gone:
                    gone.sendall(
                        f"GET /{slug}/pcm/?{query} HTTP/1.1\r\nHost: localhost\r\n\r\n".encode()
                    )
                continue
            for page in ("pcm", "picture/bus"):
                answer = bench.ask("GET", f"/{slug}/{page}/?{query}")
                slowest = max(slowest, answer.seconds)
                if answer.status not in (200, 400) or answer.seconds > SLOW_S:
                    row.fail(f"{answer.status} after {answer.seconds:.1f} s: {patch[:200]}")
        time.sleep(1.0)
        used = _cpu_s(bench) - (time.sleep(1.0) or _cpu_s(bench))
        if -used > 0.5:
            row.fail(f"{-used:.1f} s of processor time in a second in which nobody asked")
    finally:
        bench.stop()
    if lines := bench.tracebacks():
        row.fail(f"{lines} tracebacks in {bench.log}")
    row.remark = f"slowest {slowest:.1f} s"
    return row


def _graph(rng: random.Random) -> dict[str, Any]:
    names = [rng.choice((f"b{n}", f"b{n}", "chain" if n == 3 else f"b{n}")) for n in range(30)]
    share, buses = rng.choice((0.2, 0.6, 1.0)), {}
    for number, name in enumerate(names):
        fed = [other for other in names[:number] if rng.random() < share]
        sends = {one: {"db": rng.choice((-90, -6, 12)), "pre": rng.random() < 0.5} for one in fed}
        chain = [{"kind": rng.choice(("saturation", "limiter", "eq")), "id": "s1"}]
        buses[name] = {
            "sends": sends | {"kick_in": {"db": 0}},
            "fader_db": rng.choice((-90, -20, 12)),
            "chain": chain if rng.random() < 0.3 else [],
        }
    return {"buses": buses}


def _cpu_s(bench: Bench) -> float:
    fields = Path(f"/proc/{bench.parts['serve'].pid}/stat").read_text().rsplit(")", 1)[1].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


def run_door(seed: int, folder: Path, count: int) -> Row:
    """Strangers who hold connections, send much, and guess, while somebody works."""
    row, rng = Row("strangers at the door"), random.Random(seed)
    bench = Bench(folder / "door", ARKUND_PASSPHRASE="copper kettle", ARKUND_HOSTS="studio.local")
    slug = bench.make_songs("Shut In")[0]
    bench.start("serve")
    held: list[socket.socket] = []
    slowest = 0.0
    try:
        cookie = bench.enter("copper kettle")
        for number in range(count):
            row.tried += 1
            # What becomes of an attacker's own connection is no matter.
            with contextlib.suppress(OSError):
                _knock(rng, bench, held, number, row)
            page = bench.ask("GET", f"/{slug}/log/", headers={"Cookie": cookie})
            slowest = max(slowest, page.seconds)
            if page.status != 200 or page.seconds > 2.0:
                row.fail(f"who is in waits {page.seconds:.1f} s and gets {page.status}")
            for old in held[:-200]:
                old.close()
            del held[:-200]
    except OSError as error:
        row.fail(f"who is in gets no answer: {error}")
    finally:
        for one in held:
            with contextlib.suppress(OSError):
                one.close()
        bench.stop()
    if lines := bench.tracebacks():
        row.fail(f"{lines} tracebacks in {bench.log}")
    row.remark = f"who is in waits {slowest * 1000:.0f} ms at most"
    return row


def _knock(
    rng: random.Random, bench: Bench, held: list[socket.socket], number: int, row: Row
) -> None:
    """One attack by a stranger: half requests by the dozen, a huge body, or a guess."""
    way = rng.randrange(4)
    if way == 0:
        for _ in range(40):
            held.append(socket.create_connection(("127.0.0.1", bench.port), timeout=5))
            held[-1].sendall(b"GET / HTTP/1.1\r\nX: ")
    elif way == 1:
        size = rng.choice((15 << 30, 400_000_000, 20_000))
        head = f"POST /door/ HTTP/1.1\r\nHost: a\r\nContent-Length: {size}\r\n\r\n"
        with socket.create_connection(("127.0.0.1", bench.port), timeout=5) as one:
            one.sendall(head.encode())
            if b" 413 " not in one.recv(200):
                row.fail(f"{size} bytes were not refused")
    elif way == 2 and (status := bench.guess(f"wrong {number}").status) not in (403, 429):
        row.fail(f"a wrong passphrase answers {status}")


def run_long(seed: int, folder: Path, minutes: float) -> Row:
    """A long recording of twelve mics is imported and printed within `IMPORT_MB`."""
    from arkund.core.simulate.session import simulate

    row, place = Row("a long recording"), folder / "long"
    place.mkdir()
    made = simulate("copper", seed, bars=8)
    for mic, sound in list(made.mics.items())[:12]:
        frames = round(minutes * 60 * made.rate)
        sf.write(place / f"{mic}.wav", np.resize(sound, frames), made.rate, subtype="PCM_16")
    env = os.environ | {"ARKUND_DATA": str(folder / "long data")}
    peaks = []
    for words in (
        ["new", "Long Way", "--from", str(place), "--tempo", "104"],
        ["print", "long-way", "-o", str(folder / "long print"), "--stems", "mix"],
    ):
        row.tried += 1
        begun = subprocess.Popen([sys.executable, "-m", "arkund", *words], env=env, cwd=ROOT)
        _, status, used = os.wait4(begun.pid, 0)
        peaks.append(used.ru_maxrss >> 10)
        if status or peaks[-1] > IMPORT_MB:
            row.fail(f"{words[0]}: exit {status}, {peaks[-1]} MB")
    row.remark = f"12 mics × {minutes:g} min: " + " and ".join(f"{mb} MB" for mb in peaks)
    return row
