"""Shape, dynamics: a channel's hits before and after a stage, and its gain reduction."""

from arkund.bench.stations.dynamics.picture import picture
from arkund.bench.stations.shape import page_of_shape
from arkund.bench.stations.station import Shot

STATION = page_of_shape(
    "dynamics",
    picture,
    within="eq",
    shots=(Shot("shape-dynamics", "mic=snare_top&bars=5-8&stage=compressor", after_pass=True),),
)
