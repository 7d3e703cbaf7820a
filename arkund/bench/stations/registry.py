"""All stations, read from the folders beside this file: adding one is adding a folder."""

import importlib
import pkgutil

from arkund.bench import stations
from arkund.bench.stations.station import Station


def found() -> dict[str, Station]:
    """Every station by slug: those of the rail first, in its order."""
    rooms = [one.name for one in pkgutil.iter_modules(stations.__path__) if one.ispkg]
    records = [importlib.import_module(f"{stations.__name__}.{room}").STATION for room in rooms]
    in_order = sorted(records, key=lambda s: (s.number is None, s.number or 0, s.slug))
    return {station.slug: station for station in in_order}


STATIONS: dict[str, Station] = found()
