"""Killed workers, damaged files, full disks, hostile sheets: what must not be possible."""

import json
import os
import subprocess
import sys
import threading
import time
import zlib
from datetime import timedelta
from pathlib import Path

import pytest
import soundfile as sf
from django.db import OperationalError
from django.utils import timezone

from arkund.core.errors import ArkundError, SheetError, SoundLost, UnreadableSheet
from arkund.core.render.wish import Wish
from arkund.core.sheet.sheet import dump
from arkund.songs import (
    backups,
    checking,
    disk,
    findings,
    importing,
    incoming,
    jobs,
    locks,
    prints,
    revisions,
    running,
    soundness,
    storage,
    sweeping,
)
from arkund.songs.models import Job, Revision, Song, StagedFile
from tests.conftest import forget_all
from tests.making import small_song, write_small_takes

pytestmark = pytest.mark.django_db

HASH = "ab" * 32


@pytest.fixture
def song(data: Path, tmp_path: Path) -> Song:
    return small_song(tmp_path / "in", takes=2)


NOT_BY_HAND: list[dict] = [
    {"frames": 200_000_000},
    {"rate": 8000},
    {"takes": []},
    {"moves": HASH},
    {"version": 1},
    {"takes.0.hits": "../../secret"},
    {"takes.0.sources.kick_in": {"sha256": HASH}},
    {"takes.0.analysis": HASH},
    {"mics.kick_in": None},
    {"mics.kick_in.role": "tom"},
    {"mics.snare_top.unused": "x"},
    {"mics.x": {}},
    {"nothing.at.all": 1},
    {"": 1},
]


def test_what_a_hand_may_not_set_is_refused_and_nothing_changes(song: Song) -> None:
    for patch in NOT_BY_HAND:
        with pytest.raises(SheetError, match=r"cannot be set by hand|The sheet has no"):
            revisions.keep(song.pk, 1, patch)
    assert song.revisions.count() == 1


WOULD_BREAK: list[dict] = [
    {"buses": {"a/b": {}}},
    {"buses": {"</script>": {}}},
    {"buses": {"kick_in": {}}},
    {"buses": {"output": {}}},
    {"sections": [{"name": "a\nb", "start_bar": 1, "bars": 1}]},
    {"sections": [{"name": "a", "start_bar": 1, "bars": 10**12}]},
    {"timing.to_s": {"x": 1e300}},
    {"timing.to_s": {"../x": 1.0}},
    {"timing.to_s": 5},
    {"mics.kick_in.repair.hum_hz": 0.001},
    {"tempo.first_downbeat_s": 500.0},
    {"copies": [{"take": 1, "source": 0, "at": 10**15, "frames": 20}]},
    {"mics.kick_in.repair.clip_gains": [{"at": 0, "frames": 9, "gain_db": 24}] * 5},
    {"timing.rules.².swing": 0.5},
    {"timing.rules." + "9" * 5000: 1},
]


def test_values_that_would_hang_or_break_are_refused_in_a_sentence(song: Song) -> None:
    for patch in WOULD_BREAK:
        with pytest.raises(SheetError) as caught:
            revisions.keep(song.pk, 1, patch)
        assert str(caught.value).endswith("."), patch
    assert song.revisions.count() == 1


def _break_sheet(song: Song, document: bytes) -> None:
    made = revisions.keep(song.pk, 1, {"bed_db": -3.0})
    Revision.objects.filter(pk=made.pk).update(document=document)
    song.refresh_from_db()


def test_a_sheet_of_a_later_version_says_so_and_undo_leads_back(song: Song) -> None:
    later = json.loads(dump(song.current.sheet)) | {"version": 99}  # type: ignore[union-attr]
    _break_sheet(song, zlib.compress(json.dumps(later).encode()))
    with pytest.raises(UnreadableSheet, match="sheet version 99"):
        _ = song.current.sheet  # type: ignore[union-attr]
    assert revisions.undo(song.pk).sheet.bed_db == 0.0


def test_a_damaged_sheet_says_so(song: Song) -> None:
    _break_sheet(song, b"\x00\x01")
    with pytest.raises(UnreadableSheet, match="is damaged"):
        _ = song.current.sheet  # type: ignore[union-attr]


# Jobs


def _left(song: Song, **more: object) -> Job:
    """A print that a process which is no more had begun a moment ago."""
    return Job.objects.create(
        kind="print",
        song=song,
        state=Job.State.RUNNING,
        owner="elsewhere-1-dead",
        attempts=1,
        params={"revision": 1, "stems": ["mix"], "format": "wav24"},
        **more,
    )


def test_a_job_whose_owner_has_died_is_taken_up_at_once(song: Song) -> None:
    job = _left(song)
    assert jobs.take_up_left_jobs() == 1
    job.refresh_from_db()
    assert job.state == Job.State.QUEUED
    jobs.run_job.call_local(job.pk)
    job.refresh_from_db()
    assert (job.state, job.attempts) == (Job.State.DONE, 2)


def test_a_job_whose_owner_lives_is_left_alone(song: Song, tmp_path: Path) -> None:
    script = (
        "import django; django.setup(); from arkund.songs import locks; "
        "print(locks.own_name(), flush=True); input()"
    )
    env = os.environ | {
        "ARKUND_DATA": str(tmp_path),
        "DJANGO_SETTINGS_MODULE": "arkund.studio.settings",
    }
    other = subprocess.Popen(
        [sys.executable, "-c", script],
        env=env,
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
    )
    assert other.stdout is not None
    owner = other.stdout.readline().strip()
    job = _left(song)
    Job.objects.filter(pk=job.pk).update(owner=owner)
    assert jobs.take_up_left_jobs() == 0
    other.kill()
    other.communicate()
    assert jobs.take_up_left_jobs() == 1


def test_a_job_is_not_tried_for_ever(song: Song) -> None:
    job = _left(song)
    Job.objects.filter(pk=job.pk).update(attempts=jobs.MOST_ATTEMPTS)
    assert jobs.take_up_left_jobs() == 0
    job.refresh_from_db()
    assert job.state == Job.State.FAILED
    assert "cut off 3 times" in job.message


def test_cancelling_what_nobody_runs_ends_it(song: Song) -> None:
    job = _left(song)
    jobs.cancel(job)
    job.refresh_from_db()
    assert job.state == Job.State.CANCELLED


def test_a_job_that_finds_its_song_busy_waits_and_that_does_not_count(song: Song) -> None:
    job = Job.objects.create(kind="first-pass", song=song)
    with locks.song_lock(song.slug):
        jobs.run_job.call_local(job.pk)
    job.refresh_from_db()
    assert (job.state, job.attempts) == (Job.State.QUEUED, 0)
    assert "Another process" in job.message


def test_a_job_whose_message_the_queue_lost_is_told_again(song: Song) -> None:
    jobs.queue.flush()
    Job.objects.create(kind="first-pass", song=song)
    jobs.take_up_left_jobs()
    assert jobs.queue.pending_count() == 1
    jobs.take_up_left_jobs()
    assert jobs.queue.pending_count() == 1
    jobs.queue.flush()


def test_a_queue_that_does_not_answer_loses_no_job(
    song: Song, monkeypatch: pytest.MonkeyPatch
) -> None:
    def gone(*_: object) -> None:
        raise ConnectionError("connection refused")

    monkeypatch.setattr(jobs, "run_job", gone)
    jobs._tell(jobs.Job.objects.create(kind="print", song=song).pk)
    assert Job.objects.get().state == Job.State.QUEUED


def test_an_import_can_be_cancelled(song: Song, tmp_path: Path) -> None:
    files = incoming.guess_incoming(incoming.files_of(tmp_path / "in"))

    def stop(share: float, what: str) -> None:
        if share > 0.3:
            raise jobs.JobCancelled

    with pytest.raises(jobs.JobCancelled):
        importing.import_song(files, importing.Wishes("Again", 120.0), progress=stop)
    assert Song.objects.count() == 1


def test_watching_goes_on_when_a_duty_fails(monkeypatch: pytest.MonkeyPatch) -> None:
    over, seen = threading.Event(), []

    def fails() -> None:
        seen.append(1)
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(jobs, "take_up_left_jobs", fails)
    monkeypatch.setattr(jobs, "sweep", lambda: len(seen) > 1 and over.set())
    monkeypatch.setattr(jobs.backups, "keep_copy", lambda: None)
    monkeypatch.setattr(jobs, "LOOK_EVERY_S", 0.1)
    monkeypatch.setattr(jobs, "SWEEP_EVERY_S", 0.1)
    watching = threading.Thread(target=jobs.keep_watch, args=(over,), daemon=True)
    watching.start()
    watching.join(10)
    assert not watching.is_alive()


# What comes in


def test_an_import_without_one_usable_file_names_every_reason(data: Path, tmp_path: Path) -> None:
    (tmp_path / "Kick In.wav").write_bytes(b"RIFF")
    (tmp_path / "Snare Top.wav").touch()
    files = incoming.guess_incoming(incoming.files_of(tmp_path))
    with pytest.raises(importing.ImportRefused) as caught:
        importing.import_song(files, importing.Wishes("None"), skip_bad=True)
    assert {r["file"] for r in caught.value.refused} == {"Kick In.wav", "Snare Top.wav"}


@pytest.mark.parametrize(
    ("wishes", "words"),
    [
        ({"resample_hz": 1}, "8000 to 384000 Hz"),
        ({"resample_hz": 10**9}, "8000 to 384000 Hz"),
        ({"tempo_bpm": 9000.0}, "between 20 and 400"),
        ({"meter": "4/5"}, "not a meter"),
        ({"name": "a\nb"}, "on one line"),
        ({"name": " "}, "needs a name"),
    ],
)
def test_wishes_that_cannot_be_met_are_said(wishes: dict, words: str) -> None:
    with pytest.raises(ArkundError, match=words):
        importing.import_song([], importing.Wishes(**({"name": "x"} | wishes)))


def test_a_recording_at_8_khz_becomes_a_song(data: Path, tmp_path: Path) -> None:
    write_small_takes(tmp_path)
    for path in tmp_path.glob("*.wav"):
        sound, _ = sf.read(path)
        sf.write(str(path), sound[::6], 8000, subtype="PCM_24")
    files = incoming.guess_incoming(incoming.files_of(tmp_path))
    song, _ = importing.import_song(files, importing.Wishes("New", 120.0))
    assert song.slug == "new-song"  # “new” is an address already
    assert song.current is not None
    assert song.current.sheet.rate == 8000
    assert len(storage.load_hits(song.current.sheet.takes[0].hits or "")) >= 14


def test_beyond_this_machine_there_is_a_passphrase(settings, capsys) -> None:  # type: ignore[no-untyped-def]
    settings.PASSPHRASE = ""
    settings.ALLOWED_HOSTS = []
    running._guard("0.0.0.0")
    assert len(settings.PASSPHRASE) >= 16
    assert settings.PASSPHRASE in capsys.readouterr().err
    assert settings.ALLOWED_HOSTS
    assert "0.0.0.0" not in settings.ALLOWED_HOSTS
    assert "*" not in settings.ALLOWED_HOSTS


# What is left over


def _age(path: Path, seconds: float) -> None:
    then = time.time() - seconds
    os.utime(path, (then, then))


def test_a_failed_import_leaves_no_sound(data: Path, tmp_path: Path) -> None:
    write_small_takes(tmp_path / "in")
    files = incoming.guess_incoming(incoming.files_of(tmp_path / "in"))

    def fail(share: float, what: str) -> None:
        if share > 0.2:
            raise OSError(28, "No space left on device")

    with pytest.raises(OSError, match="No space"):
        importing.import_song(files, importing.Wishes("Full"), progress=fail)
    assert [p for p in (data / "media").rglob("*") if p.is_file()] == []


def test_a_sweep_takes_what_nothing_refers_to_and_nothing_else(song: Song, data: Path) -> None:
    kept = {p for p in (data / "media").rglob("*") if p.is_file()}
    stray = data / "media" / "audio" / "ab" / f"{HASH}.wav"
    young = data / "media" / "hits" / f"{HASH}.json"
    part = data / "media" / "audio" / f"{HASH}.wav.123.part"
    stray.parent.mkdir()
    for path in (stray, young, part):
        path.write_bytes(b"x" * 100)
    _age(stray, 2 * sweeping.AGE_S)
    _age(part, 2 * sweeping.AGE_S)
    for path in kept:
        _age(path, 2 * sweeping.AGE_S)
    assert sweeping.sweep(only_look=True).files == 2
    swept = sweeping.sweep()
    assert (swept.files, swept.size) == (2, 200)
    assert {p for p in (data / "media").rglob("*") if p.is_file()} == kept | {young}


def test_nothing_is_swept_under_a_running_import(song: Song, data: Path) -> None:
    stray = data / "media" / "audio" / "ab" / f"{HASH}.wav"
    stray.parent.mkdir()
    stray.write_bytes(b"x")
    _age(stray, 2 * sweeping.AGE_S)
    with locks.storing():
        sweeping.sweep()
    assert stray.exists()
    sweeping.sweep()
    assert not stray.exists()


def test_nothing_is_taken_for_unneeded_where_a_revision_cannot_be_read(
    song: Song, data: Path
) -> None:
    _break_sheet(song, b"\x00\x01")
    files = [p for p in (data / "media").rglob("*") if p.is_file()]
    sweeping.sweep(0.0)
    assert all(p.exists() for p in files)


def test_uploads_that_became_no_song_go_after_a_day(data: Path) -> None:
    token = "t" * 20
    folder = storage.staging_folder(token)
    folder.mkdir(parents=True)
    (folder / "a.wav").write_bytes(b"x")
    _age(folder / "a.wav", 2 * sweeping.STAGING_S)
    row = StagedFile.objects.create(token=token, name="a.wav", stored="a.wav")
    sweeping.sweep()
    assert (folder / "a.wav").exists()
    StagedFile.objects.filter(pk=row.pk).update(created=timezone.now() - timedelta(days=2))
    job = Job.objects.create(kind="import", params={"token": token})
    sweeping.sweep()
    assert (folder / "a.wav").exists()
    job.delete()
    sweeping.sweep()
    assert not folder.exists()
    assert StagedFile.objects.count() == 0


def test_what_an_unfinished_print_left_is_swept(song: Song, data: Path) -> None:
    work = storage.prints_folder(song.slug) / "x.zip.work" / ".printing"
    work.mkdir(parents=True)
    (work / "kick_in.wav").write_bytes(b"x")
    with locks.song_lock(song.slug):
        sweeping.sweep(0.0)
        assert work.exists()
    sweeping.sweep()
    assert not work.parent.exists()


# Damage


def _flip(path: Path) -> None:
    content = bytearray(path.read_bytes())
    content[len(content) // 2] ^= 4
    path.write_bytes(content)


def _sound_of(song: Song, mic: str) -> Path:
    return storage.sound_path(song.current.sheet.takes[0].sources[mic].sha256)  # type: ignore[union-attr]


def test_a_damaged_sound_stops_a_print_and_says_which_mic(song: Song, tmp_path: Path) -> None:
    _flip(_sound_of(song, "kick_in"))
    with pytest.raises(soundness.SoundsLost, match=r"kick in, take 1: .* is damaged"):
        prints.print_to_folder(song, song.current, tmp_path / "out")  # type: ignore[arg-type]
    assert not (tmp_path / "out").exists()


def test_damage_in_a_take_that_does_not_sound_stops_no_print(song: Song, tmp_path: Path) -> None:
    other = song.current.sheet.takes[1].sources["kick_in"].sha256  # type: ignore[union-attr]
    _flip(storage.sound_path(other))
    assert prints.print_to_folder(song, song.current, tmp_path / "out", wish=Wish(["mix"])).files  # type: ignore[arg-type]
    assert [lost.take for lost in soundness.known(song.current.sheet)] == []  # type: ignore[union-attr]
    assert [lost.take for lost in soundness.checked(song.current.sheet)] == [2]  # type: ignore[union-attr]


def test_a_sound_that_became_shorter_is_never_silence(song: Song) -> None:
    from arkund.songs.rendering import render_span

    path = _sound_of(song, "kick_in")
    path.write_bytes(path.read_bytes()[:200_000])
    with pytest.raises(SoundLost, match="kick in, take 1"):
        render_span(song.current.sheet, "kick_in", "recorded", 0, 300_000)  # type: ignore[union-attr]


def test_bringing_the_file_in_again_heals_it(song: Song, tmp_path: Path) -> None:
    path = _sound_of(song, "snare_top")
    whole = path.read_bytes()
    path.unlink()
    assert soundness.known(song.current.sheet)[0].missing  # type: ignore[union-attr]
    from arkund.songs import set_up

    source = tmp_path / "in" / "take 1" / "Snare Top.wav"
    again = incoming.Incoming(source, "take 1/Snare Top.wav", "snare_top", 1, "mono")
    assert set_up.correct(song, 1, set_up.Wanted(files=(again,))).number == 1
    assert path.read_bytes() == whole
    assert soundness.checked(song.current.sheet) == []  # type: ignore[union-attr]


@pytest.mark.parametrize(
    ("folder", "load"), [("hits", storage.load_hits), ("analysis", storage.load_analysis)]
)
def test_a_damaged_list_says_so(song: Song, folder: str, load: object) -> None:
    digest = getattr(song.current.sheet.takes[0], folder)  # type: ignore[union-attr]
    _flip(storage.list_path(folder, digest))
    forget_all()
    with pytest.raises(ArkundError, match="is damaged in the media folder"):
        load(digest)  # type: ignore[operator]


def test_what_can_be_made_again_is_made_again(song: Song, data: Path) -> None:
    found = findings.all_findings(song)
    overview = next((data / "media" / "overviews").iterdir())
    digest, _, pick = overview.stem.partition("-")
    before = storage.load_overview(digest, pick).extremes.copy()
    for path in [*(data / "memo").rglob("*.json"), overview]:
        _flip(path)
    forget_all()
    assert (storage.load_overview(digest, pick).extremes == before).all()
    assert findings.all_findings(song) == found


def test_a_check_says_what_is_wrong_and_mends_what_it_can(song: Song, data: Path) -> None:
    findings.all_findings(song)
    assert checking.check().summary.endswith("all is well.")
    _flip(_sound_of(song, "kick_in"))
    _flip(next((data / "media" / "overviews").iterdir()))
    storage.list_path("hits", song.current.sheet.takes[1].hits or "").unlink()  # type: ignore[union-attr]
    forget_all()
    report = checking.check()
    assert len(report.wrong) == 2
    assert "kick in, take 1" in report.wrong[0]
    assert len(report.mendable) == 1
    checking.check(mend=True)
    assert checking.check().mendable == []


# The database


def test_copies_are_rotated_and_one_can_be_put_back(tmp_path: Path, settings: object) -> None:
    env = os.environ | {"ARKUND_DATA": str(tmp_path / "d")}

    def arkund(*words: str) -> "subprocess.CompletedProcess[str]":
        return subprocess.run(
            [sys.executable, "-m", "arkund", *words],
            env=env,
            text=True,
            capture_output=True,
            check=False,
        )

    assert arkund("songs", "--json").stdout == '{"songs": []}\n'
    script = (
        "import django; django.setup(); from arkund.songs import backups; "
        "from arkund.songs.models import Song; Song.objects.create(name='A', slug='a'); "
        "print(backups.keep_copy().name); print(backups.keep_copy())"
    )
    made = subprocess.run(
        [sys.executable, "-c", script],
        capture_output=True,
        text=True,
        check=True,
        env=env | {"DJANGO_SETTINGS_MODULE": "arkund.studio.settings"},
    )
    name, second = made.stdout.split()
    assert second == "None"  # nothing has changed since
    database = tmp_path / "d" / "arkund.sqlite3"
    assert database.stat().st_mode & 0o077 == 0
    assert (tmp_path / "d").stat().st_mode & 0o077 == 0
    for suffix in ("-wal", "-shm"):
        database.with_name(database.name + suffix).unlink(missing_ok=True)
    database.write_bytes(b"SQLite format 3\x00" + b"\x17" * 8000)
    said = arkund("songs")
    assert said.returncode == 1
    assert "Traceback" not in said.stderr
    assert "is damaged" in said.stderr
    assert "arkund restore" in said.stderr
    assert json.loads(arkund("restore", "--json").stdout)["copy"] == name
    assert json.loads(arkund("songs", "--json").stdout)["songs"][0]["song"] == "a"
    assert list((tmp_path / "d").glob("replaced-*.sqlite3"))


def test_only_some_copies_are_kept(data: Path, settings: object) -> None:
    folder = data / "backups"
    folder.mkdir()
    for day in range(1, 21):
        for hour in (3, 9):
            (folder / f"arkund-202611{day:02d}-{hour:02d}0000.sqlite3").touch()
    kept = sorted(p.name for p in backups._kept())
    assert len(kept) == 9  # two of the last two days, one of each of the five before
    assert kept[-1] == "arkund-20261120-090000.sqlite3"
    assert kept[0] == "arkund-20261114-090000.sqlite3"


def test_a_database_of_a_later_version_is_left_alone(tmp_path: Path) -> None:
    env = os.environ | {
        "ARKUND_DATA": str(tmp_path),
        "DJANGO_SETTINGS_MODULE": "arkund.studio.settings",
    }
    subprocess.run(
        [sys.executable, "-m", "arkund", "songs"], env=env, check=True, capture_output=True
    )
    script = (
        "import django; django.setup(); from django.db.migrations.recorder import "
        "MigrationRecorder as R; from django.db import connection; "
        "R(connection).record_applied('songs', '0099_from_tomorrow')"
    )
    subprocess.run([sys.executable, "-c", script], env=env, check=True)
    said = subprocess.run(
        [sys.executable, "-m", "arkund", "songs"],
        env=env,
        capture_output=True,
        text=True,
        check=False,
    )
    assert said.returncode == 1
    assert "later version of Arkund (0099_from_tomorrow)" in said.stderr


@pytest.mark.parametrize(
    ("error", "words"),
    [
        (OSError(28, "No space left on device"), "disk is full"),
        (OperationalError("database or disk is full"), "disk is full"),
        (OperationalError("attempt to write a readonly database"), "cannot be written"),
        (OperationalError("database is locked"), "another process"),
        (OperationalError("database disk image is malformed"), "arkund restore"),
        (OSError(2, "No such file"), ""),
        (ValueError("disk"), ""),
    ],
)
def test_errors_of_the_disk_have_sentences(error: Exception, words: str) -> None:
    said = disk.disk_words(error)
    assert words in said
    assert bool(words) == bool(said)


# Who is at work


def test_one_server_a_data_folder(tmp_path: Path) -> None:
    env = os.environ | {
        "ARKUND_DATA": str(tmp_path),
        "DJANGO_SETTINGS_MODULE": "arkund.studio.settings",
    }
    script = (
        "import django; django.setup(); from arkund.songs import locks; "
        "locks.take_seat('worker', 'in a test'); print('there', flush=True); input()"
    )
    first = subprocess.Popen(
        [sys.executable, "-c", script],
        env=env,
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
    )
    assert first.stdout is not None
    first.stdout.readline()
    second = subprocess.run(
        [sys.executable, "-m", "arkund", "worker"],
        env=env,
        capture_output=True,
        text=True,
        check=False,
    )
    assert second.returncode == 1
    assert f"process {first.pid}, in a test" in second.stderr
    first.kill()
    first.communicate()


def test_server_and_worker_end_with_a_killed_demo(tmp_path: Path) -> None:
    script = (
        "import sys, django; django.setup(); from django.core.management import call_command; "
        "call_command('migrate', verbosity=0); from arkund.songs.running import run_both; "
        "run_both('127.0.0.1', int(sys.argv[1]), '/', open_browser=False)"
    )
    import socket

    from arkund.songs.running import until_up

    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    env = os.environ | {
        "ARKUND_DATA": str(tmp_path),
        "DJANGO_SETTINGS_MODULE": "arkund.studio.settings",
    }
    demo = subprocess.Popen(
        [sys.executable, "-c", script, str(port)], env=env, stderr=subprocess.DEVNULL
    )
    assert until_up("127.0.0.1", port)
    demo.kill()
    demo.wait()
    deadline = time.monotonic() + 15
    taken = ("serve", "worker")
    while taken and time.monotonic() < deadline:
        time.sleep(0.1)
        taken = tuple(r for r in taken if _seat_is_taken(tmp_path, r))
    assert taken == ()


def _seat_is_taken(folder: Path, role: str) -> bool:
    import fcntl

    with (folder / "locks" / f"{role}.seat").open("a+") as stream:
        try:
            fcntl.flock(stream, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            return True
    return False


@pytest.mark.parametrize("place", ["/proc/nothing", "{here}/a file"])
def test_a_data_folder_that_cannot_be_is_said(tmp_path: Path, place: str) -> None:
    (tmp_path / "a file").write_text("x")
    folder = place.format(here=tmp_path)
    told = subprocess.run(
        [sys.executable, "-m", "arkund", "songs"],
        env=os.environ | {"ARKUND_DATA": folder},
        capture_output=True,
        text=True,
        check=False,
    )
    assert told.returncode == 1
    assert told.stderr.startswith(f"The data folder {folder} cannot be used: ")
    assert len(told.stderr.splitlines()) == 1


def test_a_killed_import_is_swept_when_a_worker_starts(
    data: Path, song: Song, tmp_path: Path
) -> None:
    left = data / "media" / "audio" / "ab" / f"{'ab' * 32}.wav"
    left.parent.mkdir(parents=True, exist_ok=True)
    left.write_bytes(b"x" * 1000)
    part = data / "media" / "half.part"
    part.write_bytes(b"x")
    just_now = data / "media" / "fresh.part"
    just_now.write_bytes(b"x")
    long_ago = time.time() - sweeping.START_AGE_S - 1
    for path in (left, part):
        os.utime(path, (long_ago, long_ago))
    with locks.storing():
        jobs.sweep_at_start()
        assert left.exists(), "somebody may be about to name it"
    jobs.sweep_at_start()
    assert not left.exists()
    assert not part.exists()
    assert just_now.exists()
    assert storage.sound_path(song.current.sheet.take.sources["kick_in"].sha256).exists()  # type: ignore[union-attr]


def test_a_region_behind_the_song_is_refused(song: Song) -> None:
    region = {"at": 10**9, "frames": 100}
    with pytest.raises(ArkundError, match=r"would begin at 20833\.3 s; the song ends at 8\.0 s"):
        revisions.keep(song.pk, 1, {"mics.kick_in.clean.regions": {"r1": region}})
