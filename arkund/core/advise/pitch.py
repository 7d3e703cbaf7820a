"""A drum's pitch, measured once for everything that names it."""

from arkund.core.advise.study import Study
from arkund.core.kit.roles import piece_family
from arkund.core.measure.landmarks import Line, fundamental_line


def drum_hz(study: Study, piece: str) -> float:
    """The fundamental of a piece in Hz, as its nearest mic recorded it; 0 where none stands out or no mic
    is close. Trim, gate and EQ change nothing of it."""
    return drum_line(study, piece).hz


def drum_line(study: Study, piece: str) -> Line:
    """`drum_hz` with how clear it is."""
    close = study.close(piece)
    if not close:
        return Line(0.0, 0.0)
    times = [h.time_s for h in study.hits_on(piece, ghosts=False)]
    found: Line = study.remember(
        ("pitch", piece),
        lambda: fundamental_line(
            study.sound(close[0], "source"), study.rate, times, piece_family(piece)
        ),
    )
    return found
