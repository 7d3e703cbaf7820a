"""Requests from other sites, by foreign names and of every odd shape; and what is said then."""

import json
import re
import zlib
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
from django.db import OperationalError
from django.test import Client

from arkund.bench import door
from arkund.songs import lately, revisions, schools, storage
from arkund.songs.models import Job, Revision, Song
from arkund.studio.settings import origins_of
from tests.making import small_song

pytestmark = pytest.mark.django_db
HUGE = json.dumps({"frames": 99999999999})


@pytest.fixture
def song(data: Path, tmp_path: Path) -> Song:
    return small_song(tmp_path / "in")


@pytest.mark.parametrize(
    "page", ["edit/", "picture/clean/", "pcm/", "figures/", "lanes/", "clean/"]
)
def test_a_try_of_internals_is_refused_at_once(client: Client, song: Song, page: str) -> None:
    answer = client.get(f"/{song.slug}/{page}", {"patch": HUGE, "start": 0, "frames": 100})
    assert answer.status_code == 400
    assert "“frames” cannot be set by hand" in answer.json()["error"]


@pytest.mark.parametrize(
    ("path", "headers", "status"),
    [
        (
            "pcm/?start=0&frames=99",
            {"Sec-Fetch-Site": "cross-site", "Sec-Fetch-Mode": "no-cors"},
            403,
        ),
        ("picture/clean/", {"Sec-Fetch-Site": "same-site", "Sec-Fetch-Mode": "cors"}, 403),
        (
            "clean/?patch={}",
            {
                "Sec-Fetch-Site": "cross-site",
                "Sec-Fetch-Mode": "navigate",
                "Sec-Fetch-Dest": "document",
            },
            403,
        ),
        (
            "clean/",
            {
                "Sec-Fetch-Site": "cross-site",
                "Sec-Fetch-Mode": "navigate",
                "Sec-Fetch-Dest": "iframe",
            },
            403,
        ),
        (
            "clean/",
            {
                "Sec-Fetch-Site": "cross-site",
                "Sec-Fetch-Mode": "navigate",
                "Sec-Fetch-Dest": "document",
            },
            200,
        ),
        ("clean/", {"Sec-Fetch-Site": "same-origin", "Sec-Fetch-Mode": "cors"}, 200),
    ],
)
def test_another_site_may_link_here_and_no_more(
    client: Client, song: Song, path: str, headers: dict, status: int
) -> None:
    assert client.get(f"/{song.slug}/{path}", headers=headers).status_code == status


@pytest.mark.parametrize("path", ["/", "/static/bench/app.css"])
def test_pages_and_files_ask_for_the_host_and_bear_the_policy(client: Client, path: str) -> None:
    foreign = client.get(path, headers={"Host": "evil.example"})
    assert foreign.status_code == 400
    fine = client.get(path)
    assert fine.status_code == 200
    for answer in (foreign, fine):
        assert "default-src 'none'" in answer["Content-Security-Policy"]
        assert answer["X-Content-Type-Options"] == "nosniff"


def test_loopback_names_are_for_this_machine(client: Client) -> None:
    for name in ("localhost", "127.0.0.1:8000", "[::1]:8000"):
        assert client.get("/", headers={"Host": name}, REMOTE_ADDR="192.0.2.7").status_code == 400
        assert client.get("/", headers={"Host": name}, REMOTE_ADDR="127.0.0.1").status_code == 200


@pytest.mark.parametrize(
    ("names", "wrong"),
    [("*", "*"), (".example.org", ".example.org"), ("a.b, c d", "c d"), ("studio.local,[::1]", "")],
)
def test_host_names_are_hosts_and_no_wildcards(monkeypatch, names: str, wrong: str) -> None:  # type: ignore[no-untyped-def]
    from arkund.core.errors import ArkundError
    from arkund.studio import settings as studio

    monkeypatch.setenv("ARKUND_HOSTS", names)
    if not wrong:
        assert studio._own_names() == names.split(",")
        return
    with pytest.raises(ArkundError, match=re.escape(f"“{wrong}”")):
        studio._own_names()


def test_the_passphrase_opens_the_door_and_guessing_closes_it(
    client: Client, song: Song, settings, monkeypatch
) -> None:  # type: ignore[no-untyped-def]
    settings.PASSPHRASE = "copper kettle"
    settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
    monkeypatch.setattr(door, "guesses", door.Guesses())
    page = client.get(f"/{song.slug}/edit/", headers={"Accept": "text/html"})
    assert page["Location"] == f"/door/?next=/{song.slug}/edit/"
    assert client.get(f"/{song.slug}/pcm/?start=0&frames=9").status_code == 401
    assert client.get("/static/bench/app.css").status_code == 200
    wrong = client.post("/door/", {"passphrase": "tin kettle"})
    assert wrong.status_code == 403
    right = client.post(f"/door/?next=/{song.slug}/edit/", {"passphrase": "copper kettle"})
    assert right["Location"] == f"/{song.slug}/edit/"
    assert client.get(f"/{song.slug}/edit/").status_code == 200
    away = Client().post("/door/?next=//evil.example/", {"passphrase": "copper kettle"})
    assert away["Location"] == "/"
    settings.PASSPHRASE = "another"
    assert client.get(f"/{song.slug}/pcm/?start=0&frames=9").status_code == 401
    for _ in range(door.TRIES):
        client.post("/door/", {"passphrase": "x"})
    closed = client.post("/door/", {"passphrase": "another"})
    assert closed.status_code == 429
    elsewhere = client.post("/door/", {"passphrase": "another"}, REMOTE_ADDR="192.168.7.7")
    assert elsewhere.status_code == 302, "who guesses elsewhere shuts nobody out"
    assert client.get(f"/{song.slug}/edit/").status_code == 200


def test_guesses_at_once_are_not_all_checked() -> None:
    guesses = door.Guesses()
    with ThreadPoolExecutor(16) as pool:
        waits = list(pool.map(lambda _: guesses.wait_s("10.0.0.9"), range(64)))
    assert waits.count(0.0) == door.TRIES


def test_many_guessers_are_slowed_and_shut_nobody_out(monkeypatch) -> None:  # type: ignore[no-untyped-def]
    now = 1000.0
    monkeypatch.setattr(door.time, "monotonic", lambda: now)
    guesses = door.Guesses()
    for n in range(door.FROM_ALL):
        assert guesses.wait_s(f"10.0.0.{n}") == 0.0
    assert 0 < guesses.wait_s("10.0.1.1") <= door.PACE_S
    now += door.PACE_S
    assert guesses.wait_s("10.0.1.2") == 0.0
    assert guesses.wait_s("10.0.1.3") > 0.0
    now += door.WITHIN_S
    assert guesses.wait_s("10.0.1.3") == 0.0


def test_a_known_visitor_is_told_by_the_session_alone(client: Client, settings) -> None:  # type: ignore[no-untyped-def]
    settings.PASSPHRASE = "copper kettle"
    settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
    assert not door.is_known({})
    assert not door.is_known({"COOKIE": "sessionid=made-up; ][="})
    client.post("/door/", {"passphrase": "copper kettle"})
    cookie = client.cookies[settings.SESSION_COOKIE_NAME].value
    assert door.is_known({"COOKIE": f"a=b; {settings.SESSION_COOKIE_NAME}={cookie}"})
    settings.PASSPHRASE = "another"
    assert not door.is_known({"COOKIE": f"{settings.SESSION_COOKIE_NAME}={cookie}"})


def test_a_loopback_name_with_a_dot_is_for_this_machine_too(client: Client) -> None:
    for host in ("localhost", "localhost.", "127.0.0.1.", "LOCALHOST.:8000"):
        away = client.get("/", headers={"Host": host}, REMOTE_ADDR="192.168.7.7")
        assert away.status_code == 400, host


ODD_QUERIES = [
    "columns=abc",
    "columns=²",
    "rev=²",
    "rev=" + "9" * 5000,
    "bars=²-³",
    "bars=0-0",
    "bars=9-1",
    "bars=1-99999999999999999999",
    "rule=²",
    "band=²",
    "band=-1",
    "start=²&frames=٣",
    "mics=,,,x",
    "patch=[]",
    "patch={",
    "patch=" + "[" * 5000,
    'patch={"bed_db":NaN}',
    'patch={"bed_db":1e999}',
    'patch={"bed_db":"\\ud800"}',
    'patch={"":1}',
    'patch={"bed_db":' + "9" * 5000 + "}",
]


def test_odd_queries_get_a_page_or_a_sentence(client: Client, song: Song) -> None:
    for query in ODD_QUERIES:
        for page in ("edit/", "eq/", "picture/eq/", "lanes/", "pcm/"):
            answer = client.get(f"/{song.slug}/{page}?{query}")
            assert answer.status_code in (200, 400), (page, query)
            if answer.status_code == 400:
                assert answer.json()["error"].endswith(".")


DEEP = b'{"patch":' + b"[" * 900 + b"]" * 900 + b"}"


ODD_BODIES = [
    b"",
    b"[]",
    b"{",
    b"\xff",
    b"null",
    DEEP,
    b'{"base":NaN}',
    b'{"base":"1"}',
    b'{"base":true}',
    b'{"base":1,"patch":{"bed_db":"\\ud800"}}',
    b'{"base":1e400,"patch":{"bed_db":0}}',
    b'{"stems":5,"format":[]}',
    b'{"stems":["mics"],"format":"x"}',
    b'{"names":5,"base":1}',
    b'{"names":{"kick_in":[]},"base":1}',
    b'{"name":5,"files":[]}',
    b'{"name":"x","files":[5]}',
    b'{"name":"x","resample":"fast","files":[{"name":"a","mic":"hat"}]}',
    b'{"name":"x","resample":1,"files":[{"name":"a","mic":"hat"}]}',
    b'{"name":"x","files":[{"name":"a","mic":"hat","pick":"nonsense"}]}',
    b'{"ids":[{}],"change":5,"base":1}',
    b'{"beats":2.5}',
    b'{"path":{},"base":1}',
]


def test_odd_bodies_get_a_sentence(client: Client, song: Song) -> None:
    slug = song.slug
    paths = [
        f"/{slug}/{p}/"
        for p in (
            "keep",
            "comp",
            "copy",
            "hits",
            "move",
            "set-up",
            "take-back",
            "findings/apply",
            "findings/decline",
            "tempo/count-in",
        )
    ]
    for body in ODD_BODIES:
        for path in [*paths, f"/staging/{'t' * 20}/make/"]:
            answer = client.post(path, body, content_type="application/json")
            assert answer.status_code == 400, (path, body)
            assert answer.json()["error"][-1] in ".?"
    assert song.revisions.count() == 1
    assert Job.objects.count() == 0


def test_what_nobody_foresaw_has_a_number_that_is_found_in_the_log(
    client: Client, song: Song, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    def breaks(*_: object) -> None:
        raise RuntimeError("unforeseen")

    monkeypatch.setattr(schools, "choose", breaks)
    client.raise_request_exception = False
    answer = client.post(f"/{song.slug}/school/", "{}", content_type="application/json")
    assert answer.status_code == 500
    number = re.search(r"under number (\w+)\.", answer.json()["error"])
    assert number is not None
    assert f"error {number[1]}" in caplog.text
    assert "RuntimeError: unforeseen" in caplog.text


@pytest.mark.parametrize(
    ("error", "words"),
    [
        (OSError(28, "No space left on device"), "disk is full"),
        (OperationalError("database or disk is full"), "disk is full"),
        (OperationalError("database disk image is malformed"), "arkund restore"),
    ],
)
def test_a_full_disk_is_said(
    client: Client, song: Song, monkeypatch: pytest.MonkeyPatch, error: Exception, words: str
) -> None:
    def breaks(*_: object, **__: object) -> None:
        raise error

    for module, name, path in (
        (revisions, "_store", "keep"),
        (revisions, "_locked", "undo"),
        (schools, "_store", "school"),
    ):
        monkeypatch.setattr(module, name, breaks)
        answer = client.post(
            f"/{song.slug}/{path}/",
            {"patch": {"bed_db": -2.0}, "base": 1, "name": "Open"},
            content_type="application/json",
        )
        assert answer.status_code == 507
        assert words in answer.json()["error"]
        monkeypatch.undo()


def test_one_sheet_that_cannot_be_read_hides_no_other_song(
    client: Client, song: Song, tmp_path: Path
) -> None:
    other = small_song(tmp_path / "other", "Slag Run")
    made = revisions.keep(other.pk, 1, {"bed_db": -3.0})
    later = zlib.compress(json.dumps({"version": 7}).encode())
    Revision.objects.filter(pk=made.pk).update(document=later)
    page = client.get("/").content.decode()
    assert "Tin Roof" in page
    assert "sheet version 7" in page
    back = client.get("/slag-run/log/")
    assert back.status_code == 200
    assert "Undo the last revision" in back.content.decode()
    assert client.get("/slag-run/picture/clean/").status_code == 400
    assert client.post("/slag-run/undo/").json()["revision"] == 1
    assert "Undo the last revision" not in client.get("/slag-run/log/").content.decode()


def test_a_missing_file_is_said_on_every_page(client: Client, song: Song) -> None:
    source = song.current.sheet.takes[0].sources["kick_in"]  # type: ignore[union-attr]
    storage.sound_path(source.sha256).unlink()
    storage._sound_paths.clear()
    lately._made.clear()  # what was heard of it before is heard on
    for station in ("load-in", "edit", "align", "clean", "eq", "print", "log"):
        page = client.get(f"/{song.slug}/{station}/?mic=kick_in")
        assert page.status_code == 200
        assert "kick in, take 1: the sound file (Kick In.wav) is missing" in page.content.decode()
    assert "1 sound file missing" in " ".join(client.get("/").content.decode().split())
    heard = client.get(f"/{song.slug}/pcm/?start=0&frames=9600&variant=recorded")
    assert heard.status_code == 400
    assert "sound file of kick in" in heard.json()["error"]
    alone = client.get(f"/{song.slug}/pcm/?start=0&frames=9600&node=snare_top")
    assert alone.status_code == 200


def test_a_waiting_job_says_when_no_worker_runs(client: Client, song: Song) -> None:
    job = Job.objects.create(kind="print", song=song, message="waiting for a worker")
    assert "no worker is running" in client.get(f"/jobs/{job.pk}/").json()["message"]


ODD_VALUES = [
    5,
    1.5,
    True,
    None,
    "x",
    "",
    [],
    [1],
    [None],
    [{}],
    [[]],
    {},
    {"a": 1},
    {"id": 5},
    [{"id": []}],
]
"""Values of every JSON kind, where lists of parts and parts are wanted."""

WHOLES = [
    ("mics.snare_top.chain", "s1.ratio"),
    ("mics.snare_top.chain", "compressor.after"),
    ("mics.snare_top.chain.eq.bands", "b1.gain_db"),
    ("mics.snare_top.chain.eq", "bands.b1"),
    ("mics.snare_top.clean", "key.source"),
    ("mics.snare_top.clean.regions", "r1"),
    ("groups", "snare.chain.s1"),
    ("buses", "chain.chain.s1"),
    ("buses.strike", "sends.kick_in.db"),
    ("drum_bus.chain", "compressor.on"),
    ("over", "o1.value"),
    ("layers", "over"),
    ("timing.rules", "0.school"),
    ("timing", "to_s.x"),
    ("sections", "0.name"),
    ("tempo", "changes.0.bpm"),
    ("comp", "0.at"),
    ("copies", "0.at"),
    ("takes.0.corrections.x", "gone"),
]


@pytest.mark.parametrize(("whole", "part"), WHOLES, ids=[f"{a} {b}" for a, b in WHOLES])
def test_a_list_set_to_anything_and_a_part_of_it_get_a_sentence(
    client: Client, song: Song, whole: str, part: str
) -> None:
    client.raise_request_exception = False
    for value in ODD_VALUES:
        for patch in (
            {whole: value},
            {whole: value, f"{whole}.{part}": value},
            {f"{whole}.{part}": value},
        ):
            body = {"patch": patch, "base": 1}
            answer = client.post(f"/{song.slug}/keep/", body, content_type="application/json")
            assert answer.status_code in (200, 400), (patch, answer.content[:300])
            if answer.status_code == 200:
                song.refresh_from_db()
                song.current = song.revisions.get(number=1)
                song.save()
                continue
            said = answer.json()["error"]
            assert said.endswith((".", "?")), said
            assert not re.search(r"Input should|valid (number|integer)|Traceback|NoneType", said), (
                said
            )


@pytest.mark.parametrize(
    "name", ["over", "chain", "bands", "after", "sends", "kind", "id", "mics", "buses"]
)
def test_a_bus_or_group_may_be_called_like_a_part_of_a_path(
    client: Client, song: Song, name: str
) -> None:
    base = 1

    def keep(patch: dict[str, object]) -> None:
        nonlocal base
        body = {"patch": patch, "base": base}
        answer = client.post(f"/{song.slug}/keep/", body, content_type="application/json")
        assert answer.status_code == 200, (patch, answer.content)
        base = answer.json()["revision"]

    for table in ("buses", "groups"):
        keep({f"{table}.{name}": {}})
        keep({f"{table}.{name}.fader_db": -3})
        keep({f"{table}.{name}.chain.{name}": {"kind": "eq"}})
        keep({f"{table}.{name}.chain.{name}.bands.{name}": {"gain_db": 2}})
        keep({f"{table}.{name}.chain.{name}.bands.{name}.gain_db": 3})
        keep({f"over.{name}": {"path": f"{table}.{name}.fader_db", "bars": "1-2", "value": -6}})
        if table == "buses":
            keep({f"buses.{name}.sends.kick_in": {"db": -3}})
        assert client.get(f"/{song.slug}/picture/bus/?bus={name}").status_code == 200
        body = {"channel": f"{table}.{name}", "name": "other", "base": base}
        answer = client.post(f"/{song.slug}/rename/", body, content_type="application/json")
        assert answer.status_code == 200, answer.content
        base = answer.json()["revision"]
        keep({f"over.{name}": None})
        keep({f"{table}.other": None})


@pytest.mark.parametrize(
    ("origin", "passes"),
    [
        ("https://drums.studio.example", True),
        ("https://elsewhere.example", False),
        ("http://drums.studio.example", True),
    ],
)
def test_behind_a_proxy_with_tls_the_pages_own_origin_may_post(
    data: Path, settings, origin: str, passes: bool
) -> None:  # type: ignore[no-untyped-def]
    settings.ALLOWED_HOSTS = ["drums.studio.example"]
    settings.CSRF_TRUSTED_ORIGINS = origins_of(["drums.studio.example"])
    client = Client(enforce_csrf_checks=True, headers={"host": "drums.studio.example"})
    client.get("/")
    form = {"csrfmiddlewaretoken": client.cookies["csrftoken"].value}
    answer = client.post("/demo/", form, headers={"origin": origin})
    assert (answer.status_code == 302) == passes
