"""A short seeded part of `make torture`."""

import time
from pathlib import Path

import pytest
from django.test import Client

from tests.making import small_song
from tests.torture import asking, mutants, outside


def test_mutated_sound_files() -> None:
    row = mutants.run(seed=20261125, count=160, imports_every=20)
    assert row.failures == []
    assert row.tried == 160


def test_kits_and_tempo_maps() -> None:
    row = outside.run_kits(seed=20261129, count=45)
    assert [words for words in row.failures if not words.endswith(" MB")] == []
    assert row.tried == 45


@pytest.mark.django_db
def test_requests_to_every_address(
    data: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    # Beside other tests on two cores everything takes its time; `make torture` asks for more.
    monkeypatch.setattr(asking, "SLOW_S", 15.0)
    song = small_song(tmp_path / "in", takes=2)
    assert song.current is not None
    client = Client(raise_request_exception=False)

    def send(method: str, path: str, body: bytes) -> tuple[int, bytes, float]:
        began = time.monotonic()
        answer = client.generic(method, path, body, content_type="application/json")
        content = b"".join(answer.streaming_content) if answer.streaming else answer.content
        return answer.status_code, content, time.monotonic() - began

    row = asking.run(20261125, 150, send, [song.slug], song.current.sheet)
    assert row.failures == []
    assert row.tried >= 150
    extremes = asking.run_extremes(send, song.slug, slice(None, None, 6))
    assert extremes.failures == []
