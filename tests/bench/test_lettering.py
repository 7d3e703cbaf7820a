"""Names on the plan keep clear of each other."""

import itertools

from arkund.bench.stations.load_in.lettering import HIGH, LETTER, Lettering, letter


def _box(place: Lettering, name: str) -> tuple[float, float, float, float]:
    long = LETTER * len(name)
    left = {"start": place.x, "middle": place.x - long / 2, "end": place.x - long}[place.anchor]
    return left, place.y - HIGH + 2, left + long, place.y + 2


def _meet(a: tuple[float, ...], b: tuple[float, ...]) -> bool:
    return min(a[2], b[2]) > max(a[0], b[0]) and min(a[3], b[3]) > max(a[1], b[1])


def test_a_lone_name_stands_above_its_point() -> None:
    (place,) = letter([(100.0, 100.0, "hat")], [], 400, 300)
    assert (place.x, place.anchor) == (100.0, "middle")
    assert place.y < 100


def test_names_of_close_points_do_not_cover_each_other() -> None:
    points = [(100.0, 100.0, "kick in"), (122.0, 100.0, "kick out"), (111.0, 116.0, "snare top")]
    places = letter(points, [], 400, 300)
    boxes = [_box(p, name) for p, (_, _, name) in zip(places, points, strict=True)]
    assert not any(_meet(a, b) for a, b in itertools.combinations(boxes, 2))


def test_names_stay_on_the_drawing_and_off_what_is_taken() -> None:
    at_edge = letter([(395.0, 12.0, "overhead R")], [], 400, 300)[0]
    left, top, right, _ = _box(at_edge, "overhead R")
    assert left >= 0
    assert top >= 0
    assert right <= 400
    above = (80.0, 80.0, 120.0, 97.0)
    moved = letter([(100.0, 100.0, "hat")], [above], 400, 300)[0]
    assert not _meet(_box(moved, "hat"), above)
