"""What sounds where: the comp's stretches with the copies laid over them."""

from dataclasses import dataclass

from arkund.core.sheet.sheet import Sheet
from arkund.core.sheet.timing import Copy


@dataclass(frozen=True)
class Laid:
    """From sample ``at`` of the song on, until the next one, ``take`` sounds; what is heard at
    sample n is the take's own sound at n − ``shift``. It comes in over ``fade_ms`` that end at
    ``at``, by ``shape`` (see `Stretch`)."""

    take: int
    at: int
    shift: int = 0
    fade_ms: float = 2.0
    shape: str = "power"


def laid_out(sheet: Sheet) -> tuple[Laid, ...]:
    """All that sounds, in order, the first from sample 0 on. Later copies lie over earlier ones;
    after each what it covers goes on."""
    laid = [Laid(s.take, s.at, 0, s.fade_ms, s.shape) for s in sheet.comp]
    laid = laid or [Laid(sheet.take.number, 0)]
    for copy in sheet.copies:
        laid = _over(laid, copy, sheet.frames)
    return tuple(laid)


def _over(laid: list[Laid], copy: Copy, frames: int) -> list[Laid]:
    stop = min(copy.at + copy.frames, frames)
    if copy.at >= stop:
        return laid
    covered = next(s for s in reversed(laid) if s.at <= stop)
    out = [s for s in laid if s.at < copy.at]
    out.append(Laid(copy.take, copy.at, copy.at - copy.source, copy.fade_ms, copy.shape))
    if stop < frames and covered.at < stop:
        out.append(Laid(covered.take, stop, covered.shift, copy.fade_ms, copy.shape))
    return out + [s for s in laid if s.at >= stop]


def laid_at(sheet: Sheet, sample: float) -> Laid:
    """What sounds at a sample of the song before moves."""
    return next(s for s in reversed(laid_out(sheet)) if s.at <= max(sample, 0))
