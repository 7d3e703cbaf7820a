"""Shape, EQ: the spectrum of a channel's hits and what its filters do to it."""

from arkund.bench.stations.eq import picture
from arkund.bench.stations.shape import context_of, hand_of, rulers_of, stage_of
from arkund.bench.stations.station import Asked, Shot, Station

SLUG = "eq"


def _picture(asked: Asked) -> dict[str, object]:
    hand = hand_of(asked)
    return picture.picture(asked.sheet, hand, stage_of(asked, hand, SLUG), asked.bars)


STATION = Station(
    room="eq",
    slug=SLUG,
    title="Shape",
    number=7,
    context=lambda asked: context_of(asked, SLUG),
    rulers=lambda asked: rulers_of(asked, SLUG),
    picture=_picture,
    shots=(Shot("shape-eq", "mic=snare_top&band=b2", after_pass=True),),
)
