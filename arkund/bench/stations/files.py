"""Scripts of the stations as static files: nothing else of their folders is served."""

from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

from django.contrib.staticfiles.finders import BaseFinder
from django.core.files.storage import FileSystemStorage

from arkund.bench import stations

PREFIX = "bench/stations/"


class StationScripts(BaseFinder):
    """Finds ``bench/stations/<room>/<name>.js``."""

    def check(self, **kwargs: Any) -> list[Any]:
        """Nothing can be set wrongly."""
        return []

    def find(self, path: str, find_all: bool = False, **kwargs: Any) -> Any:
        """The file of a static path, if it is a station's script."""
        found = [str(file) for name, file in _scripts() if f"{PREFIX}{name}" == path]
        if find_all:
            return found
        return found[0] if found else []

    def list(self, ignore_patterns: Iterable[str] | None) -> Iterator[tuple[str, Any]]:
        """All of them, with the storage that has them."""
        for name, file in _scripts():
            storage = FileSystemStorage(location=file.parent.parent)
            storage.prefix = PREFIX.rstrip("/")
            yield name, storage


def _scripts() -> Iterator[tuple[str, Path]]:
    for folder in map(Path, stations.__path__):
        for file in sorted(folder.glob("*/*.js")):
            yield f"{file.parent.name}/{file.name}", file
