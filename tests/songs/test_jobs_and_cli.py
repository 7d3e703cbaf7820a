"""Long work, killed workers, and the command line as another program meets it."""

import json
import os
import signal
import subprocess
import sys
import time
import zipfile
from pathlib import Path

import pytest
import soundfile as sf

from arkund.core.errors import ArkundError
from arkund.songs import jobs, locks, storage
from arkund.songs.models import Job, Print
from arkund.songs.sweeping import sweep
from tests.commanding import Standing
from tests.making import small_song


@pytest.mark.django_db(transaction=True)
def test_a_print_job_ends_in_a_zip(data: Path, tmp_path: Path) -> None:
    song = small_song(tmp_path / "in")
    job = Job.objects.create(
        kind="print",
        song=song,
        params={"revision": 1, "stems": ["mics", "parallel", "mix"], "format": "wav24"},
    )
    jobs.run_job.call_local(job.pk)
    job.refresh_from_db()
    assert (job.state, job.share) == ("done", 1.0)
    made = Print.objects.get(pk=job.result["print"])
    with zipfile.ZipFile(storage.prints_folder(song.slug) / made.file_name) as archive:
        assert archive.testzip() is None
        assert sorted(archive.namelist()) == sorted(
            f"tin-roof_{n}.wav"
            for n in ("kick_in", "snare_top", "strike_return", "bloom_return", "mix")
        )
    assert made.report["null_db"] <= -110


@pytest.mark.django_db(transaction=True)
def test_a_cancelled_print_says_so_and_leaves_nothing(data: Path, tmp_path: Path) -> None:
    song = small_song(tmp_path / "in")
    job = Job.objects.create(
        kind="print",
        song=song,
        cancel_asked=True,
        params={"revision": 1, "stems": ["mix"], "format": "wav24"},
    )
    jobs.run_job.call_local(job.pk)
    job.refresh_from_db()
    assert job.state == "cancelled"
    sweep()
    assert list(storage.prints_folder(song.slug).glob("*")) == []


@pytest.mark.django_db(transaction=True)
def test_a_failed_import_names_the_files(data: Path, tmp_path: Path) -> None:
    job = Job.objects.create(kind="import", params={"token": "t" * 20, "name": "x", "files": []})
    jobs.run_job.call_local(job.pk)
    job.refresh_from_db()
    assert job.state == "failed"
    assert "No file" in job.message


def test_one_song_one_worker(data: Path) -> None:
    with (
        locks.song_lock("a"),
        pytest.raises(ArkundError, match="Another process"),
        locks.song_lock("a"),
    ):
        pass


@pytest.fixture(scope="module")
def cli(tmp_path_factory: pytest.TempPathFactory):
    """The command in a data folder of its own, with a second simulated song in it."""
    home = tmp_path_factory.mktemp("cli")
    env = os.environ | {"ARKUND_DATA": str(home / "data")}

    standing = Standing(env)

    def run(*arguments: str, code: int = 0) -> dict:
        done = standing.ask(*arguments)
        assert done.code == code, done.err
        return json.loads(done.out) if code == 0 and done.out else {"error": done.err}

    run("simulate", str(home / "rec"), "--preset", "twin", "--seed", "5", "--bars", "8", "--json")
    made = run("new", "Slag Run", "--from", str(home / "rec"), "--tempo", "176", "--json")
    assert made == {"song": "slag-run", "refused": []}
    run.home, run.env = home, env
    yield run
    standing.close()


def test_another_program_gets_json_a_sentence_and_an_exit_code(cli) -> None:
    """As a process of its own: one that answers, one that refuses, one that is misused."""

    def alone(*arguments: str) -> tuple[int, str, str]:
        command = [sys.executable, "-m", "arkund", *arguments]
        done = subprocess.run(command, env=cli.env, capture_output=True, text=True, timeout=60)
        return done.returncode, done.stdout, done.stderr

    assert alone("songs", "--json") == (0, json.dumps(cli("songs", "--json")) + "\n", "")
    code, said, error = alone("show", "nothing")
    assert (code, said) == (1, "")
    assert error == "There is no song “nothing”. Songs: slag-run.\n"
    code, said, error = alone("render", "slag-run")
    assert (code, said) == (2, "")
    assert "required: -o" in error


def test_what_the_contract_prints(cli) -> None:
    truth = json.loads((cli.home / "rec" / "truth.json").read_text())
    shown = cli("show", "slag-run", "--json")
    assert [m["mic"] for m in shown["mics"]] == [m["mic"] for m in truth["mics"]]
    assert cli("songs", "--json")["songs"][0]["song"] == "slag-run"
    assert {
        "mic",
        "role",
        "peak_dbfs",
        "true_peak_dbtp",
        "typical_hit_dbfs",
        "rms_dbfs",
        "crest_db",
        "noise_floor_dbfs",
        "dc",
        "clipped_runs",
        "flags",
    } <= set(cli("measure", "slag-run", "--json")["mics"][0])
    hits = cli("hits", "slag-run", "--take", "1", "--json")
    assert {"id", "piece", "time_s", "velocity", "kind", "confidence"} == set(hits["hits"][0])
    pair = cli("align", "slag-run", "--json")["pairs"][0]
    assert {
        "piece",
        "mic",
        "reference",
        "delay_samples",
        "polarity",
        "best_shift_samples",
        "gain_low_db",
        "spread_samples",
        "confidence",
        "sure",
    } <= set(pair)
    gate = next(m for m in cli("clean", "slag-run", "--json")["mics"] if m["mic"] == "kick_in")
    assert {
        "opens_on",
        "threshold_db",
        "hold_ms",
        "release_ms",
        "range_db",
        "passed",
        "missed",
        "ghosts_kept",
        "ghosts",
        "false_open",
        "bleed_reduction_db",
        "doubtful",
    } <= set(gate["proposed"])
    assert gate["proposed"]["missed"] == 0


def test_set_log_undo_render_print(cli) -> None:
    before = cli("log", "slag-run", "--json")["current"]
    made = cli("set", "slag-run", "mics.snare_top.trim_db", "-2", "--json")
    assert made["revision"] == before + 1
    assert cli("undo", "slag-run", "--json")["current"] == before
    made = cli("rename", "slag-run", "buses.strike", "Shell crack", "--json")
    assert made["label"] == "bus strike renamed to shell_crack"
    assert cli("undo", "SLAG Run", "--json")["current"] == before  # by its title
    over = {"path": "mics.hat.fader_db", "bars": "2-3", "value": -4, "scene": "fill"}
    cli("set", "slag-run", "over.d1", json.dumps(over), "--json")
    (moved,) = cli("scene", "slag-run", "fill", "--bars", "1, 3", "--json")["scenes"]["fill"]
    assert (moved["path"], moved["bars"]) == ("mics.hat.fader_db", "1, 3")
    assert cli("scene", "slag-run", "fill", "--out", "--json") == {"scenes": {}}
    for _ in range(3):
        cli("undo", "slag-run", "--json")
    out = cli.home / "x.wav"
    done = cli("render", "slag-run", "--bars", "2-3", "-o", str(out), "--json")
    info = sf.info(str(out))
    assert (info.frames, info.channels, info.subtype) == (done["frames"], 2, "FLOAT")
    assert abs(info.frames - 2 * 4 * 60 / 176 * 44100) <= 1
    report = cli("print", "slag-run", "-o", str(cli.home / "p"), "--json")
    assert report["null_db"] <= -110
    assert all((cli.home / "p" / f).exists() for f in report["files"])


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (("set", "slag-run", "mics.snare_top.trim_db", "77"), "less than or equal to 24"),
        (("rename", "slag-run", "buses.strike", "bloom"), "A bus is called bloom already"),
        (("render", "slag-run", "--bars", "900-901", "-o", "x.wav"), "ends before bar 900"),
        (("render", "slag-run", "--node", "tuba", "-o", "x.wav"), "nothing called “tuba”"),
        (("scene", "slag-run", "chorus", "--out"), "There is no scene “chorus”."),
        (("scene", "slag-run", "chorus"), "Say either --bars"),
        (("hits", "slag-run", "--take", "9"), "There is no take 9"),
        (("print", "slag-run", "-o", "x", "--format", "mp9"), "“mp9” is not a format"),
        (("simulate", "x", "--preset", "none"), "Presets are"),
    ],
)
def test_failures_are_one_clear_line(cli, arguments: tuple[str, ...], words: str) -> None:
    error = cli(*arguments, code=1)["error"].strip()
    assert words in error
    assert len(error.splitlines()) == 1


def test_a_killed_print_leaves_no_half_file_and_runs_again(cli) -> None:
    folder = cli.home / "killed"
    command = [sys.executable, "-m", "arkund", "print", "slag-run", "-o", str(folder)]
    started = subprocess.Popen(
        command, env=cli.env, stderr=subprocess.DEVNULL, stdout=subprocess.DEVNULL
    )
    deadline = time.monotonic() + 60
    while not list(folder.glob(".printing/*.wav")) and time.monotonic() < deadline:
        time.sleep(0.01)
    started.send_signal(signal.SIGKILL)
    started.wait()
    assert list(folder.glob("*.wav")) == []
    report = cli("print", "slag-run", "-o", str(folder), "--json")
    assert sorted(p.name for p in folder.iterdir()) == sorted(report["files"])


def test_a_killed_worker_is_followed_by_one_that_finishes(cli) -> None:
    """A print job whose worker dies is taken up when the next worker starts."""
    script = (
        "import os, django; os.environ['DJANGO_SETTINGS_MODULE']='arkund.studio.settings'; "
        "django.setup(); from arkund.songs.models import *; from datetime import timedelta; "
        "from django.utils import timezone; s=Song.objects.get(slug='slag-run'); "
        "print(Job.objects.create(kind='print', song=s, state='running', "
        "params=dict(revision=s.current.number, "
        "stems=['mix'], format='wav24')).pk)"
    )
    number = subprocess.run(
        [sys.executable, "-c", script], env=cli.env, capture_output=True, text=True, check=True
    ).stdout.strip()
    worker = subprocess.Popen(
        [sys.executable, "-m", "arkund", "worker"], env=cli.env, stderr=subprocess.DEVNULL
    )
    zips = cli.home / "data" / "prints" / "slag-run"
    deadline = time.monotonic() + 60
    while not list(zips.glob("*.zip")) and time.monotonic() < deadline:
        time.sleep(0.1)
    worker.terminate()
    worker.wait(20)
    assert len(list(zips.glob("*.zip"))) == 1, f"job {number}"
