"""Shape, dynamics: a channel's hits before and after a stage, and its gain reduction."""

from arkund.bench.stations.dynamics import picture
from arkund.bench.stations.shape import context_of, hand_of, rulers_of, stage_of
from arkund.bench.stations.station import Asked, Shot, Station

SLUG = "dynamics"


def _picture(asked: Asked) -> dict[str, object]:
    hand = hand_of(asked)
    return picture.picture(asked.sheet, hand, stage_of(asked, hand, SLUG), asked.bars)


STATION = Station(
    room="dynamics",
    slug=SLUG,
    title="Shape",
    within="eq",
    context=lambda asked: context_of(asked, SLUG),
    rulers=lambda asked: rulers_of(asked, SLUG),
    picture=_picture,
    shots=(Shot("shape-dynamics", "mic=snare_top&bars=5-8&stage=compressor", after_pass=True),),
)
