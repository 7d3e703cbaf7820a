"""Shared by all tests: a data folder of their own, a short simulated recording."""

import os
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest

# Before Django reads its settings.
_SCRATCH = tempfile.TemporaryDirectory(prefix="arkund-tests-")
os.environ["ARKUND_DATA"] = _SCRATCH.name
os.environ.pop("ARKUND_REDIS_URL", None)

from arkund.core.advise.study import Study, TakeFacts  # noqa: E402
from arkund.core.simulate.session import Session, write_session  # noqa: E402
from tests.played import SHORT, UNEVEN, Played, shared_by_workers  # noqa: E402

LONGEST = (
    "browser/test_main_path.py",
    "core/test_advise.py",
    "browser/test_hands.py",
    "browser/test_whole_job.py",
    "core/test_punch.py",
    "core/test_hits_on_worlds.py",
    "songs/test_findings.py",
    "core/test_ownership.py",
    "songs/test_jobs_and_cli.py",
)
"""Files that take longest, the longest first."""


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """The longest files first, so that no worker is left with one of them at the end."""
    names = [f"tests/{name}" for name in LONGEST]

    def place(item: pytest.Item) -> int:
        name = item.nodeid.split("::")[0]
        return names.index(name) if name in names else len(names)

    items.sort(key=place)


@pytest.fixture(scope="session")
def played(tmp_path_factory: pytest.TempPathFactory) -> Played:
    """Simulated recordings, each made once a run."""
    shared = shared_by_workers(tmp_path_factory.getbasetemp())
    return Played(shared, tmp_path_factory.mktemp("played"))


@pytest.fixture(scope="session")
def session(played: Played) -> Session:
    """The short recording."""
    return played.session(SHORT)


@pytest.fixture(scope="session")
def facts(played: Played) -> TakeFacts:
    """What is heard in it."""
    return played.facts(SHORT)


@pytest.fixture(scope="module")
def study(played: Played) -> Study:
    """A study of a song of its own, for tests that change its sheet."""
    return played.study(UNEVEN)


@pytest.fixture(scope="session")
def recording(session: Session, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The same as files, without stems."""
    folder = tmp_path_factory.mktemp("recording")
    bare = Session(session.preset, session.rate, session.mics, {}, session.truth)
    write_session(bare, folder)
    return folder


@pytest.fixture
def data(tmp_path: Path, settings: object) -> Iterator[Path]:
    """A fresh data folder for a test that stores files."""
    settings.DATA = tmp_path  # type: ignore[attr-defined]
    forget_all()
    yield tmp_path
    forget_all()


def forget_all() -> None:
    """What this process remembers of a data folder."""
    from arkund.songs import findings, lately, models, soundness, storage

    storage._sound_paths.clear()
    soundness._whole.clear()
    for kept in (lately._made, lately._named, lately._heard):
        kept.clear()
    models._sheet_in.cache_clear()
    for cached in (
        storage.load_hits,
        storage.load_analysis,
        storage._kept_edits,
        storage.load_overview,
        storage.tile_cache,
        findings._remembered,
    ):
        cached.cache_clear()
