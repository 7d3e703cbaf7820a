"""What judgement rests on: a sheet, its takes' hits and pairs, and the sound at every stage."""

from collections import OrderedDict
from collections.abc import Callable, Hashable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from arkund.core.align.pairs import Pair
from arkund.core.graph.building import build
from arkund.core.graph.chains import Processed
from arkund.core.graph.graph import Graph
from arkund.core.graph.hits import said_bleed, sounding_hits, sounding_unlisted
from arkund.core.graph.nodes import Node
from arkund.core.graph.sources import joined_source
from arkund.core.graph.varied import fader_gain
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import close_mics, is_shell, parse_mic_name, sort_pieces
from arkund.core.measure.loudness import true_peak_dbtp
from arkund.core.process.limiter import Limiter
from arkund.core.render.engine import Engine
from arkund.core.sheet.channels import DRUM_BUS
from arkund.core.sheet.lanes import Library, kit_mics
from arkund.core.sheet.pairs import completed
from arkund.core.sheet.patches import apply_patch
from arkund.core.sheet.paths import Patch
from arkund.core.sheet.sheet import Sheet
from arkund.core.sheet.tempo import grid_of
from arkund.core.timing.grid import Grid

Stage = Literal["source", "repaired", "placed", "clean", "equalised", "transient", "shaped"]
KEPT_SOUNDS = 6


@dataclass(frozen=True)
class TakeFacts:
    """What was found in one take: its hits, its pairs, and each mic's measures by name."""

    hits: Sequence[Hit]
    pairs: Sequence[Pair]
    measures: Mapping[str, Mapping[str, Any]]


@dataclass
class Study:
    """One sheet under study. Sounds are rendered when asked for; the last few are kept."""

    sheet: Sheet
    engine: Engine
    library: Library
    takes: Mapping[int, TakeFacts]
    _sounds: "OrderedDict[tuple[str, Stage], NDArray[np.float32]]" = field(
        init=False, default_factory=OrderedDict
    )
    _graph: Graph | None = field(init=False, default=None)
    _known: dict[Hashable, Any] = field(init=False, default_factory=dict)

    @property
    def rate(self) -> int:
        return self.sheet.rate

    @property
    def graph(self) -> Graph:
        if self._graph is None:
            self._graph = build(self.sheet, self.library)
        return self._graph

    @property
    def grid(self) -> Grid:
        return grid_of(self.sheet)

    @property
    def facts(self) -> TakeFacts:
        """Of the take that sounds."""
        return self.takes[self.sheet.take.number]

    @property
    def hits(self) -> Sequence[Hit]:
        """The hits that are heard, in the song's time."""
        found: list[Hit] = self.remember("hits", self._sounding_hits)
        return found

    def _sounding_hits(self) -> list[Hit]:
        return sounding_hits(self.sheet, replace(self.library, hits_of=self.hits_of))

    @property
    def unlisted(self) -> Sequence[Hit]:
        """Clear onsets in close mics that no hit list has."""
        found: list[Hit] = self.remember("unlisted", self._sounding_unlisted)
        return found

    def _sounding_unlisted(self) -> list[Hit]:
        return sounding_unlisted(self.sheet, self.library, self.hits)

    def hits_of(self, digest: str) -> Sequence[Hit]:
        """A take's hit list by its content hash."""
        return next(
            (
                self.takes[t.number].hits
                for t in self.sheet.takes
                if t.hits == digest and t.number in self.takes
            ),
            (),
        )

    def joined(self, mic: str) -> Node:
        """A mic as recorded with its takes joined, before any move."""
        return joined_source(mic, self.sheet, self.library)

    def before_moves_s(self, seconds: float) -> float:
        """Where what is heard at a time lay before hits were moved."""
        if self.sheet.moves is None:
            return seconds
        moves = self.library.edits_of(self.sheet.moves).moves
        begins = np.array([m.at / self.rate + m.shift_s for m in moves])
        at = int(np.searchsorted(begins, seconds + 1e-4, "right")) - 1
        return seconds - moves[at].shift_s if at >= 0 else seconds

    @property
    def mics(self) -> list[str]:
        """Mics that hear the kit as it was played."""
        return kit_mics(self.sheet)

    def with_role(self, *roles: str) -> list[str]:
        return [m for m in self.mics if parse_mic_name(m).role in roles]

    def close(self, piece: str) -> list[str]:
        """Mics close to a piece, the one that the others refer to first."""
        return close_mics(self.mics, piece)

    @property
    def pieces(self) -> list[str]:
        """Pieces with a mic of their own."""
        return sort_pieces(p for m in self.mics if (p := parse_mic_name(m).piece))

    @property
    def shells(self) -> list[str]:
        return [p for p in self.pieces if is_shell(p)]

    def hits_on(self, piece: str, *, ghosts: bool = True) -> list[Hit]:
        return [h for h in self.hits if h.piece == piece and (ghosts or h.kind != "ghost")]

    @property
    def said_bleed(self) -> Sequence[Hit]:
        """The moments that an ear called bleed, in the song's time."""
        found: list[Hit] = self.remember(
            "said bleed",
            lambda: said_bleed(self.sheet, replace(self.library, hits_of=self.hits_of)),
        )
        return found

    def is_undetected(self, piece: str) -> bool:
        """Whether detection listed no hit of a piece in any take."""
        return all(h.piece != piece for facts in self.takes.values() for h in facts.hits)

    def has_no_hits(self, mic: str) -> bool:
        """Whether a mic is close to a shell of which no hit is known, from detection or from an ear:
        nothing that rests on its hits can be judged."""
        piece = parse_mic_name(mic).piece or ""
        if not is_shell(piece) or not self.is_undetected(piece):
            return False
        return all(h.piece != piece for h in self.hits)

    def is_said_unplayed(self, mic: str) -> bool:
        """Whether a mic has no hits of its drum (`has_no_hits`), and an ear called moments of it bleed."""
        piece = parse_mic_name(mic).piece
        return self.has_no_hits(mic) and any(h.piece == piece for h in self.said_bleed)

    def plain_times(self, mic: str) -> list[float]:
        """Times in s of the hits of the mic's piece as they fall in it after its delay,
        without ghosts; of all shells' hits for a mic that is close to none."""
        piece = parse_mic_name(mic).piece
        shift = self.sheet.mics[mic].delay_samples / self.rate
        return [
            h.time_s + shift
            for h in self.hits
            if h.kind != "ghost" and (h.piece == piece or (piece is None and is_shell(h.piece)))
        ]

    def sound(self, mic: str, stage: Stage) -> NDArray[np.float32]:
        """A mic's whole sound ``(frames,)`` after a stage, not to be written to."""
        key = (mic, stage)
        if key in self._sounds:
            self._sounds.move_to_end(key)
            return self._sounds[key]
        node = getattr(self.graph.mics[mic], stage)
        sound = np.ascontiguousarray(self.engine.read(node, 0, self.sheet.frames))
        self._sounds[key] = sound
        while len(self._sounds) > KEPT_SOUNDS:
            self._sounds.popitem(last=False)
        return sound

    def mixed(
        self, node: Node, spans: Sequence[tuple[int, int]] = (), *, is_beside: bool = False
    ) -> NDArray[np.float32]:
        """A sum or what is behind it, over the whole song, or over ``spans`` of it in samples end to
        end as if there were no more of it. On two cores; on one where others are rendered
        ``beside`` it."""
        if not spans:
            return self.read(node, 0, self.sheet.frames, is_beside=is_beside)
        engine = self.engine.only(spans)
        if not is_beside:
            self._render(engine, node, spans)
        return np.concatenate([engine.read(node, first, last) for first, last in spans])

    def read(
        self, node: Node, start: int, stop: int, *, is_beside: bool = False
    ) -> NDArray[np.float32]:
        """The samples ``start`` to ``stop`` of a sum or what is behind it, likewise."""
        if not is_beside:
            self._render(self.engine, node, [(start, stop)])
        return self.engine.read(node, start, stop)

    def _render(self, engine: Engine, node: Node, spans: Sequence[tuple[int, int]]) -> None:
        with ThreadPoolExecutor(2) as pool:
            engine.ahead(self.graph.levels(), spans, pool, self._behind(node))

    def mix(
        self,
        spans: Sequence[tuple[int, int]] = (),
        *,
        held_db: float | None = None,
        is_beside: bool = False,
    ) -> NDArray[np.float32]:
        """`mixed` of what comes out of the drum bus, not to be written to. With ``held_db`` the limiter
        at its end is set to take so much off the true peak."""
        if spans or held_db is not None:
            return self._mix(spans, held_db, is_beside)
        whole: NDArray[np.float32] = self.remember("mix", lambda: self._mix((), None, is_beside))
        return whole

    def _mix(
        self, spans: Sequence[tuple[int, int]], held_db: float | None, is_beside: bool
    ) -> NDArray[np.float32]:
        limiter = self._limiter
        if limiter is None:
            return self.mixed(self.graph.output, spans, is_beside=is_beside)
        # What comes before it is asked for under other ceilings too.
        before = self.graph.chains[DRUM_BUS].before(limiter.id)
        sound = self.mixed(before, spans, is_beside=is_beside)
        if held_db is not None:
            # Above 0 dBTP it is as if less reached it (`moves.ceiling` has it so).
            ceiling = max(true_peak_dbtp(sound) - held_db, -24.0)
            limiter = limiter.model_copy(update={"ceiling_db": ceiling})
        process = limiter.process(self.rate)
        late = np.concatenate([sound, np.zeros((process.latency, 2), np.float32)])
        held = process.run(late, process.at_rest(2))[process.latency :]
        bus = self.sheet.drum_bus
        return held * np.float32(0.0 if bus.mute else fader_gain(bus.fader_db))

    @property
    def _limiter(self) -> Limiter | None:
        """The limiter at the drum bus's end, if there is one and nothing of that bus differs over
        bars."""
        working = [s for s in self.sheet.drum_bus.chain if not s.is_transparent]
        varies = any(one.path.startswith(DRUM_BUS) for one in self.sheet.over)
        last = working[-1] if working and not varies else None
        return last if isinstance(last, Limiter) else None

    def _behind(self, node: Node) -> list[Processed]:
        """The chain that makes a node of the sum, if there is one."""
        made = self.graph.chains[DRUM_BUS].end if node is self.graph.output else node
        return [made] if isinstance(made, Processed) else []

    def remember(self, key: Hashable, measure: Callable[[], Any]) -> Any:
        """A measurement made once for this study."""
        if key not in self._known:
            self._known[key] = measure()
        return self._known[key]

    def beside(self) -> "Study":
        """The same study for another thread: sounds are not shared, rendered tiles and what was
        measured are."""
        other = Study(self.sheet, self.engine, self.library, self.takes)
        other._known = self._known
        return other

    def tried(self, patch: Patch) -> "Study":
        """The same study with a change in place; what it renders is not kept on disk."""
        return Study(
            apply_patch(self.sheet, completed(self.sheet, patch)),
            self.engine.passing(),
            self.library,
            self.takes,
        )

    def bar_of(self, seconds: float) -> int:
        return max(1, int(self.grid.bar_at(seconds + 0.03)))

    def bars_around(self, seconds: float) -> tuple[int, int]:
        """A loop of two bars in which a moment is heard."""
        bar = self.bar_of(seconds)
        return max(1, bar - 1) if bar > 1 else 1, bar if bar > 1 else 2
