"""Which channel and which stage of its chain the Shape pages show."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlencode

from arkund.bench.rulers import stage_rulers
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import is_shell, label, parse_mic_name, piece_family
from arkund.core.process.equaliser import Equaliser
from arkund.core.process.registry import BY_KIND
from arkund.core.process.stage import Stage
from arkund.core.sheet.channels import DRUM_BUS, Channel
from arkund.core.sheet.differences import Over
from arkund.core.sheet.lanes import mic_order
from arkund.core.sheet.limits import MOST_STAGES
from arkund.core.sheet.scenes import scenes_of
from arkund.core.sheet.sheet import Sheet
from arkund.songs import sections
from arkund.songs.facts import hits_for
from arkund.songs.wording import bars_words, over_words, path_words


@dataclass(frozen=True)
class InHand:
    """A channel: its name in the graph, its path in the sheet, and what it is called."""

    name: str
    path: str
    label: str
    channel: Channel

    @property
    def is_mic(self) -> bool:
        """Whether it is a mic's."""
        return self.path.startswith("mics.")

    def hits(self, sheet: Sheet) -> list[Hit]:
        """The hits by which it is judged."""
        return hits_for(sheet, self.name)


def channel_in_hand(sheet: Sheet, asked: str, mic: str) -> InHand:
    """The channel that is asked for by name: a bus, a group or the drum bus; else the mic's."""
    if asked in sheet.buses:
        return InHand(asked, f"buses.{asked}", _called(asked, "bus"), sheet.buses[asked])
    if asked in sheet.groups:
        return InHand(asked, f"groups.{asked}", _called(asked, "group"), sheet.groups[asked])
    if asked in sheet.layers:
        return InHand(asked, f"layers.{asked}", asked.replace("_", " "), sheet.layers[asked])
    if asked == DRUM_BUS:
        return InHand(DRUM_BUS, DRUM_BUS, "drum bus", sheet.drum_bus)
    return InHand(mic, f"mics.{mic}", label(mic), sheet.mics[mic])


def _called(name: str, kind: str) -> str:
    """A bus or group by its name and what it is, said once."""
    words = name.replace("_", " ")
    return words if words.endswith(kind) else f"{words} {kind}"


def stage_in_hand(channel: Channel, asked: str, station: str) -> Stage | None:
    """The stage that is asked for by id, if it is one of the page's; else the page's first."""
    own = [s for s in channel.chain if isinstance(s, Equaliser) == (station == "eq")]
    return next((s for s in own if s.id == asked), own[0] if own else None)


def band_in_hand(stage: Stage | None, asked: str) -> str:
    """The EQ's band that is asked for, or its third, or its last."""
    ids = [b.id for b in stage.bands] if isinstance(stage, Equaliser) else []
    return asked if asked in ids else (ids[min(2, len(ids) - 1)] if ids else "")


def station_of(stage: Stage) -> str:
    """The page that shows a stage."""
    return "eq" if isinstance(stage, Equaliser) else "dynamics"


def drums_beside(sheet: Sheet, hand: InHand) -> list[tuple[str, str]]:
    """The other mics that a drum's chain can be fitted to, as (name, words): those of shells of its kind
    first."""
    own = parse_mic_name(hand.name).piece if hand.is_mic else None
    if not own or not is_shell(own):
        return []
    shells = [m for m in mic_order(sheet) if is_shell(parse_mic_name(m).piece or "")]
    others = [m for m in shells if m != hand.name and not sheet.mics[m].unused]
    family = piece_family(own)
    others.sort(key=lambda m: piece_family(parse_mic_name(m).piece or "") != family)
    return [(m, label(m)) for m in others]


def chain_context(hand: InHand, chosen: Stage | None, query: dict[str, str]) -> dict[str, Any]:
    """The line of stages: where each leads, and what adding, moving and taking out would set."""
    chain = f"{hand.path}.chain"
    stages = hand.channel.chain
    ids = [s.id for s in stages]
    rows = []
    for n, stage in enumerate(stages):
        kind = type(stage)
        rows.append(
            {
                "id": stage.id,
                "label": kind.label,
                "on": stage.on,
                "chosen": stage is chosen,
                "number": n + 1,
                "path": f"{chain}.{stage.id}",
                "station": station_of(stage),
                "query": urlencode({**query, "stage": stage.id}),
                "earlier": None if n == 0 else (ids[n - 2] if n > 1 else ""),
                "later": ids[n + 1] if n + 1 < len(ids) else None,
            }
        )
    after = chosen.id if chosen else (ids[-1] if ids else "")
    return {
        "path": chain,
        "stages": rows,
        "full": len(stages) >= MOST_STAGES,
        "kinds": [
            {
                "label": p.label,
                "about": p.about,
                "id": _free_id(k, ids),
                "stage": {"kind": k, "after": after}
                | (dict(p.on_a_bus) if hand.path.startswith("buses.") else {}),
            }
            for k, p in BY_KIND.items()
        ],
    }


def differences_context(
    sheet: Sheet, hand: InHand, stage: Stage | None, band: str
) -> dict[str, Any]:
    """What of a channel differs over bars, and what of it and of the stage in hand could."""
    rows = []
    for over in sheet.over:
        if over.channel == hand.path:
            _, what, unit = path_words(over.path, sheet)
            rows.append(
                {
                    "path": f"over.{over.id}",
                    "what": what,
                    "bars": bars_words(over.bars),
                    "typed": over.bars,
                    "scene": over.scene,
                    "value": over_words(over, unit),
                    "ramp": over.ramp_ms,
                    "ramp_bars": sections.ramp_bars(sheet, over),
                }
            )
    ids = {over.id for over in sheet.over}
    paths = [f"{hand.path}.fader_db", f"{hand.path}.mute"]
    if stage:
        paths = [
            f"{hand.path}.chain.{stage.id}.on",
            *(r.path for r in stage_rulers(hand.path, stage, band)),
            *paths,
        ]
    return {
        "rows": rows,
        "scenes": scenes_context(sheet),
        "next": next(f"over.d{n}" for n in range(1, 999) if f"d{n}" not in ids),
        "could": [
            (path, f"{what}, {unit}" if unit else what, unit)
            for path in paths
            for _, what, unit in [path_words(path, sheet)]
            if ".key." not in path
        ],
    }


def scenes_context(sheet: Sheet) -> list[dict[str, Any]]:
    """The song's scenes as pages list them."""
    return [_scene_row(sheet, name, own) for name, own in scenes_of(sheet).items()]


def _free_id(kind: str, taken: list[str]) -> str:
    """An id for one more stage of a kind; it is never used again while the chain has it."""
    short = kind[:12]
    return next(i for i in (short, *(f"{short}{n}" for n in range(2, 99))) if i not in taken)


def _scene_row(sheet: Sheet, name: str, own: Sequence[Over]) -> dict[str, Any]:
    """A scene: what it changes where, its bars (none where those of its differences are not the
    same), and the ids that a change of it goes to."""
    bars = {over.bars for over in own}
    changed = dict.fromkeys(
        f"{whose} {what}" for over in own for whose, what, _ in [path_words(over.path, sheet)]
    )
    return {
        "name": name,
        "what": ", ".join(changed),
        "bars": bars.pop() if len(bars) == 1 else "",
        "ids": " ".join(over.id for over in own),
    }
