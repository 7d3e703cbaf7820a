"""Sound files that are held open while they are read."""

import threading
from pathlib import Path

from arkund.core.audio.files import SoundFileReader, pick_channel
from arkund.core.graph.nodes import File
from arkund.core.process.stage import Audio


class OpenFiles:
    """Sound files held open, one handle a thread, since a handle has one place in its file."""

    def __init__(self) -> None:
        self._local = threading.local()

    def read(self, node: File, start: int, stop: int) -> Audio:
        readers: dict[Path, SoundFileReader] = self._local.__dict__.setdefault("readers", {})
        reader = readers.get(node.path)
        if reader is None:
            if len(readers) > 64:
                readers.pop(next(iter(readers))).close()
            reader = readers[node.path] = SoundFileReader(node.path, node.name)
        return pick_channel(reader.read(start, stop), node.pick)
