"""How a channel goes through the song: which values hold from where on."""

from collections.abc import Sequence

from arkund.core.sheet.differences import Over, value_of
from arkund.core.sheet.pairs import SHARED, partner
from arkund.core.sheet.sheet import Sheet
from arkund.core.sheet.tempo import grid_of
from arkund.core.sheet.within import with_values


def _of(sheet: Sheet, channel: str) -> list[Over]:
    """The differences of a channel; of a linked mic those of its other side too."""
    other = partner(sheet, channel.removeprefix("mics.")) if channel.startswith("mics.") else None
    out = []
    for over in sheet.over:
        if over.channel == channel:
            out.append(over)
        elif other and over.channel == f"mics.{other}" and over.path.split(".")[2] in SHARED:
            path = channel + over.path.removeprefix(over.channel)
            out.append(over.model_copy(update={"path": path}))
    return out


def variants(
    sheet: Sheet,
    channel: str,
    also: Sequence[str] = (),
) -> list[tuple[int, int, Sheet]]:
    """``(from which sample on, ramp in samples, sheet)``: how a channel goes through the song; one
    entry for a channel that is the same throughout. It may rest on values of other channels
    ``also``."""
    if not sheet.over:
        return [(0, 0, sheet)]
    own = [one for name in (channel, *also) for one in _of(sheet, name)]
    plain = sheet.model_copy(update={"over": ()})
    if not own:
        return [(0, 0, plain)]
    grid = grid_of(sheet)
    places = [[grid.frames_of_bars(*span, sheet.rate) for span in over.spans] for over in own]
    edges = sorted({0, *(max(e, 0) for spans in places for span in spans for e in span)})
    out: list[tuple[int, int, Sheet]] = []
    for edge in edges:
        if edge >= sheet.frames:
            break
        known = list(zip(own, places, strict=True))
        here = {
            o.path: value_of(plain, o) for o, spans in known if any(a <= edge < b for a, b in spans)
        }
        touched = [o.ramp_ms for o, spans in known if any(edge in s for s in spans)] or [0.0]
        ramp = round(max(touched) * sheet.rate / 1000)
        out.append((edge, ramp if edge else 0, with_values(plain, here)))
    return out
