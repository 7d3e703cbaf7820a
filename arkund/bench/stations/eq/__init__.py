"""Shape, EQ: the spectrum of a channel's hits and what its filters do to it."""

from django.urls import path

from arkund.bench.stations.eq import views
from arkund.bench.stations.eq.picture import picture
from arkund.bench.stations.shape import page_of_shape
from arkund.bench.stations.station import Shot

STATION = page_of_shape(
    "eq",
    picture,
    number=7,
    addresses=(
        path("<slug:slug>/chain/fitted/", views.fitted, name="chain-fitted"),
        path("<slug:slug>/masking/", views.masked, name="masking"),
        path("<slug:slug>/net/", views.net, name="net"),
        path("<slug:slug>/chain/save/", views.save, name="chain-save"),
        path("<slug:slug>/chain/use/", views.use, name="chain-use"),
    ),
    shots=(Shot("shape-eq", "mic=snare_top&band=b2", after_pass=True),),
)
