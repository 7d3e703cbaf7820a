"""What CONTRIBUTING.md shows works as it stands there: the finding and the command."""

import argparse
from types import SimpleNamespace
from typing import Any

import pytest

from arkund.core.advise.module import Module
from arkund.core.advise.school import TIGHT
from tests.core.test_dependencies import Recorder
from tests.examples import example
from tests.played import SHORT, Played


def test_the_finding_finds_proposes_and_declares_what_it_reads(
    played: Played, monkeypatch: pytest.MonkeyPatch
) -> None:
    made: dict[str, Any] = {}
    exec(example("finding"), made)
    module: Module = made["MODULE"]
    study = played.study(SHORT)
    hot = study.tried({"mics.room_l.trim_db": 12.0, "mics.room_r.trim_db": -24.0})
    assert set(module.subjects(hot.sheet)) == {"room_l", "room_r"}
    assert module.find(hot, "room_r", TIGHT) == []
    recorder = Recorder(hot, monkeypatch)
    declared = recorder.of(module.reads, hot.sheet, "room_l")
    assert recorder.of(module.find, hot, "room_l", TIGHT) <= declared
    (found,) = module.find(hot, "room_l", TIGHT)
    assert module.find(hot.tried(found.proposal), "room_l", TIGHT) == []


def test_the_command_is_added_and_answers(monkeypatch: pytest.MonkeyPatch) -> None:
    made: dict[str, Any] = {}
    exec(example("command"), made)
    sheet = SimpleNamespace(mics={"kick_in": 1, "snare_top": 2}, sections=())
    song = SimpleNamespace(current=SimpleNamespace(sheet=sheet))
    monkeypatch.setitem(made, "song_named", {"tin-roof": song}.__getitem__)
    parser = argparse.ArgumentParser()
    commands = parser.add_subparsers()

    def add(name: str, run: Any, about: str) -> argparse.ArgumentParser:
        sub = commands.add_parser(name, help=about)
        sub.set_defaults(run=run)
        return sub

    made["register"](add)
    args = parser.parse_args(["count", "tin-roof"])
    assert args.run(args) == {"mics": 2, "sections": 0}
