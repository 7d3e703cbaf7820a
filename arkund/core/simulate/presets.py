"""The simulated sessions by name."""

from collections.abc import Callable

from arkund.core.simulate.copper import copper
from arkund.core.simulate.hush import hush
from arkund.core.simulate.preset import Preset
from arkund.core.simulate.shuffle import shuffle
from arkund.core.simulate.twin import twin

PRESETS: dict[str, Callable[[], Preset]] = {
    "copper": copper,
    "twin": twin,
    "shuffle": shuffle,
    "hush": hush,
}
