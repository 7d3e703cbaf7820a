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

from arkund.core.simulate.session import Session, simulate, write_session  # noqa: E402

SEED = 31


@pytest.fixture(scope="session")
def session() -> Session:
    """Eight bars of the demo's kit: intro, verse, a fill."""
    return simulate("copper", SEED, bars=8, keep_stems=True)


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
