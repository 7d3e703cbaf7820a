"""What a module of judgement reads of the sheet is what it says it reads: else its answer stays stale."""

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import pytest

from arkund.core.advise.findings import MODULES
from arkund.core.advise.module import Module
from arkund.core.advise.school import TIGHT
from arkund.core.advise.study import Study
from arkund.core.process.values import Part
from arkund.core.sheet.channels import Channel
from arkund.core.sheet.sheet import Sheet
from tests.played import SHORT, Played

ALWAYS = {
    *("rate", "frames", "takes", "take", "comp", "copies", "moves", "mics", "version"),
    *("tempo", "groups", "buses", "layers", "bed_db"),
}
"""Paths that every answer rests on (`songs.findings.rests_on`), tables whose entries are told
apart, and the bed, which no answer hears."""

IDENTITY = {"name", "role", "index", "side", "file", "unused", "overdub"}
"""What a mic is; a song with other mics has other takes."""

HEARD: dict[str, tuple[str, ...]] = {
    "source": (),
    "repaired": ("repair",),
    "placed": ("repair", "trim_db", "polarity", "delay_samples"),
}
HEARD["clean"] = (*HEARD["placed"], "clean")
HEARD["equalised"] = HEARD["transient"] = HEARD["shaped"] = (*HEARD["clean"], "chain")
"""What a mic sounds by at each stage."""


class Recorder:
    """Notes which values of one sheet are read, by path, to the depth at which channels have values."""

    def __init__(self, study: Study, monkeypatch: pytest.MonkeyPatch) -> None:
        self.paths: set[str] = set()
        self._is_on = False
        self._known: dict[int, str] = {id(study.sheet): ""}
        for table in ("mics", "groups", "buses", "layers"):
            for name, channel in getattr(study.sheet, table).items():
                self._known[id(channel)] = f"{table}.{name}."
        self._known[id(study.sheet.drum_bus)] = "drum_bus."
        self._watch(monkeypatch)

    def _watch(self, monkeypatch: pytest.MonkeyPatch) -> None:
        fields = {*Sheet.model_fields, "take", "model_dump"}
        for cls in [Channel, *_below(Channel)]:
            fields |= set(cls.model_fields)
        plain = Part.__getattribute__

        def reading(part: Part, name: str) -> Any:
            if self._is_on and name in fields and (begin := self._known.get(id(part))) is not None:
                self.paths.add(begin + ("*" if name == "model_dump" else name))
            return plain(part, name)

        monkeypatch.setattr(Part, "__getattribute__", reading, raising=False)
        sound, tried = Study.sound, Study.tried

        def heard(study: Study, mic: str, stage: Any) -> Any:
            if self._is_on:
                self.paths |= {f"mics.{mic}.{name}" for name in HEARD[stage]}
            with self._paused():
                return sound(study, mic, stage)

        def quietly(study: Study, patch: Any) -> Study:
            with self._paused():
                made = tried(study, patch)
                assert made.graph
                return made

        monkeypatch.setattr(Study, "sound", heard)
        monkeypatch.setattr(Study, "tried", quietly)

    @contextmanager
    def _paused(self) -> Iterator[None]:
        was, self._is_on = self._is_on, False
        try:
            yield
        finally:
            self._is_on = was

    def of(self, what: Any, *args: Any) -> set[str]:
        """Paths that a call reads, or gives back as wholes."""
        self.paths, self._is_on = set(), True
        try:
            given = what(*args)
        finally:
            self._is_on = False
        self._note_wholes(given)
        return {p for p in self.paths if p not in ALWAYS and p.rpartition(".")[2] not in IDENTITY}

    def _note_wholes(self, given: Any) -> None:
        if (begin := self._known.get(id(given))) is not None:
            self.paths.add(f"{begin}*")
        elif isinstance(given, dict):
            self._note_wholes(list(given.values()))
        elif isinstance(given, list | tuple):
            for one in given:
                self._note_wholes(one)


def _below(cls: type[Channel]) -> Iterator[type[Channel]]:
    for one in cls.__subclasses__():
        yield one
        yield from _below(one)


@pytest.fixture(scope="module")
def study(played: Played) -> Study:
    own = played.study(SHORT)
    assert own.graph
    return own


@pytest.mark.parametrize("module", MODULES, ids=lambda m: m.key)
def test_what_is_read_is_declared(
    module: Module, study: Study, monkeypatch: pytest.MonkeyPatch
) -> None:
    recorder = Recorder(study, monkeypatch)
    missing: dict[str, list[str]] = {}
    for subject in module.subjects(study.sheet):
        own = study.beside()
        own._graph, own._known = study.graph, {}
        declared = recorder.of(module.reads, study.sheet, subject)
        read = recorder.of(module.find, own, subject, TIGHT)
        wholes = tuple(path[:-1] for path in declared if path.endswith("*"))
        if lost := {p for p in read - declared if not wholes or not p.startswith(wholes)}:
            missing[subject] = sorted(lost)
    assert missing == {}
