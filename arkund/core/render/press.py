"""One reading of the song that writes all stems of a print, tile after tile with bounded memory."""

from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from functools import partial
from itertools import repeat

import numpy as np

from arkund.core.errors import ArkundError
from arkund.core.graph.adding import add_steps, add_stereo, beyond
from arkund.core.graph.graph import Graph
from arkund.core.graph.nodes import Node
from arkund.core.measure.loudness import Loudness
from arkund.core.process.stage import Audio
from arkund.core.render.engine import Engine
from arkund.core.render.faults import refuse_broken
from arkund.core.render.stem_files import StemFiles, Written
from arkund.core.render.stems import Stem, counted, is_whole
from arkund.core.render.through_bus import Step, ThroughBus
from arkund.core.units import amplitude_to_db


class PrintCancelled(ArkundError):
    """Someone asked for the print to stop."""

    def __init__(self) -> None:
        super().__init__("The print was cancelled; nothing was written.")


def press_mics(
    engine: Engine,
    graph: Graph,
    files: StemFiles,
    progress: Callable[[float], None],
    cancelled: Callable[[], bool],
) -> None:
    """Write mono stems of mics, which rest on nothing but their own sound. Raises `PrintCancelled`."""
    stream = engine.stream()
    size = stream.tile_frames
    tiles = -(-engine.frames // size)

    def write(stem: Stem, number: int, stop: int) -> None:
        files.write(stem, stream.tile(stem.node, number)[:stop])

    with ThreadPoolExecutor(2) as pool:
        for number in range(tiles):
            if cancelled():
                raise PrintCancelled
            stop = min(size, engine.frames - number * size)
            list(pool.map(write, files.stems, repeat(number), repeat(stop)))
            refuse_broken(graph, engine.cache, engine.rate)
            progress((number + 1) / tiles)


class Press:
    """Stems and mix of a graph on their way into files, and what is known of them."""

    def __init__(
        self, engine: Engine, graph: Graph, files: StemFiles, bus: Sequence[Step] | None
    ) -> None:
        self._engine, self._graph, self._files = engine, graph, files
        self._stream = engine.stream()
        self._stems = [stem for stem in files.stems if stem.node is not graph.output]
        self._mix = next((stem for stem in files.stems if stem.node is graph.output), None)
        self.tally = _Tally(graph, self._stems, engine.rate)
        # What is not written is a part of the mix all the same.
        counts = counted(self._stems)
        held = [s.parts for s, counts_too in zip(self._stems, counts, strict=True) if counts_too]
        covered = frozenset[str]().union(*held)
        self._rest = [node for name, node in graph.parts.items() if name not in covered]
        self._through = None
        if bus is not None:
            self._through = ThroughBus(bus, counts + [True] * len(self._rest), engine.rate)

    def run(self, progress: Callable[[float], None], cancelled: Callable[[], bool]) -> None:
        """Write all tiles. Raises `PrintCancelled` when stopped."""
        size = self._stream.tile_frames
        tiles = -(-self._engine.frames // size)
        mics, *later = self._graph.levels()
        tile = self._stream.tile
        looked_at: Future[None] | None = None
        with ThreadPoolExecutor(2) as pool, ThreadPoolExecutor(1) as behind:
            # What is fed comes first, side by side; what it feeds then finds its tiles ready. The
            # next tile's mics are begun while this one's stems are written.
            ready = pool.map(tile, mics, repeat(0))
            for number in range(tiles):
                if cancelled():
                    raise PrintCancelled
                stop = min((number + 1) * size, self._engine.frames) - number * size
                list(ready)
                for level in later:
                    list(pool.map(tile, level, repeat(number)))
                both = pool.submit(self._whole, number, stop)
                writing = pool.map(self._write, self._stems, self._sounds(number, stop))
                if number + 1 < tiles:
                    ready = pool.map(tile, mics, repeat(number + 1))
                written = list(writing)
                total, output = both.result()
                refuse_broken(self._graph, self._engine.cache, self._engine.rate)
                if looked_at is not None:
                    looked_at.result()
                whole = total if self._through is None else output
                looked_at = behind.submit(self.tally.add, written, whole, output)
                progress((number + 1) / tiles)
            if looked_at is not None:
                looked_at.result()

    def _sounds(self, number: int, stop: int) -> Iterable[Callable[[], Audio]]:
        """What each stem is in a tile, made when it is asked for; through the drum bus all at once."""

        def one(node: Node) -> Audio:
            return self._stream.tile(node, number)[:stop]

        if self._through is None:
            return [partial(one, stem.node) for stem in self._stems]
        mix = {node.key: one(node) for node in self._through.nodes}
        nodes = [stem.node for stem in self._stems] + self._rest
        made = self._through.run([one(node) for node in nodes], mix)
        return [partial(_same, sound) for sound in made[: len(self._stems)]]

    def _write(self, stem: Stem, sound: Callable[[], Audio]) -> Written:
        return self._files.write(stem, sound())

    def _whole(self, number: int, stop: int) -> tuple[Audio, Audio]:
        """The sum and the output, which rests on it; the output is written where it is asked for."""
        with self._stream.one_read():
            total = self._stream.tile(self._graph.sum, number)[:stop]
            output = self._stream.tile(self._graph.output, number)[:stop]
        if self._mix is not None:
            self._files.write(self._mix, output)
        return total, output


def _same(sound: Audio) -> Audio:
    return sound


class _Tally:
    """What is known of a print as it is written: whether the stems make the sum, and how loud the
    output is."""

    def __init__(self, graph: Graph, stems: Sequence[Stem], rate: int) -> None:
        self._counts = counted(stems)
        self._is_whole = is_whole(stems, graph)
        self._residue = self._peak = 0.0
        self._loudness = Loudness(rate, 2)

    def add(self, written: list[Written], total: Audio, output: Audio) -> None:
        """The next tile: the audio for the stem files, what they are the parts of, and the output."""
        if self._is_whole:
            residue = -total.astype(np.float64)
            for counts, sound in zip(self._counts, written, strict=True):
                if not counts:
                    continue
                if sound.dtype == np.float32:
                    add_stereo(residue, sound, 1.0, 1.0)
                else:
                    add_steps(residue, sound)
            self._residue = max(self._residue, beyond(residue, 1.0)[1])
        self._peak = max(self._peak, float(beyond(output, 1.0)[1]))
        self._loudness.feed(output)

    @property
    def null_db(self) -> float | None:
        """Peak of (sum of the stems − *sum*) in dBFS; None where not all stems are written."""
        return round(amplitude_to_db(self._residue), 1) if self._is_whole else None

    @property
    def peak_dbfs(self) -> float:
        """Highest sample of the output."""
        return round(amplitude_to_db(self._peak), 2)

    @property
    def loudness_lufs(self) -> float:
        """Integrated loudness of the output."""
        return round(self._loudness.lufs(), 2)
