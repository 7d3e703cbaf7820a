"""Recall: everything that was set in a song, channel by channel, with when and why."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from arkund.core.advise.eq.ears import NET_HZ, sum_of_eqs
from arkund.core.kit.roles import label
from arkund.core.process.band import Band
from arkund.core.process.equaliser import Equaliser
from arkund.core.process.registry import BY_KIND
from arkund.core.process.stage import Stage
from arkund.core.process.values import Part, described
from arkund.core.sheet.channels import DRUM_BUS, DRUMS, Bus, Channel, Mic
from arkund.core.sheet.lanes import mic_order
from arkund.core.sheet.layers import LayerBase
from arkund.core.sheet.limits import OFF_DB
from arkund.core.sheet.routes import taken_words
from arkund.core.sheet.sheet import Sheet
from arkund.songs import revisions
from arkund.songs.models import Revision, Song
from arkund.songs.wording import path_words, value_words

BEFORE_THE_CHAIN = ("repair", "trim_db", "polarity", "delay_samples", "clean", "even")
BEHIND_IT = ("mute", "pan", "fader_db", "to", "sends")
CALLED = {"repair": "repair", "clean": "gate", "even": "even hits", "sends": "sends", "to": "into"}
NOTHING_DB = 0.05
ALWAYS_SAID = ("kind", "frequency_hz", "gain_db", "q", "slope_db_oct")
"""Of a band or filter, whether set or not."""


@dataclass(frozen=True)
class Setting:
    """One thing that was set: what, to which values, and the ``revisions`` that made it so, the earliest first."""

    what: str
    said: tuple[str, ...]
    revisions: tuple[Revision, ...]

    @property
    def last(self) -> Revision:
        """Since when it stands as it does."""
        return self.revisions[-1]


@dataclass(frozen=True)
class Recalled:
    """A channel: its settings in signal order, and its EQ in dB over `NET_HZ` where it has one that acts."""

    path: str
    title: str
    settings: tuple[Setting, ...]
    eq: NDArray[np.float64] | None


@dataclass(frozen=True)
class Recall:
    """The channels that do something, the names of those that are as they came, and what differs over bars."""

    channels: list[Recalled]
    plain: list[str]
    over: list[Setting]


def recall_of(song: Song) -> Recall:
    """All that stands in a song's present sheet."""
    line = revisions.log(song)
    sheet = line[-1].sheet
    made = _made_by(line)
    channels, plain = [], []
    for path, title, channel in _channels(sheet):
        if isinstance(channel, Bus) and channel.fader_db <= OFF_DB:
            plain.append(f"{title} (shut)")
            continue
        settings = tuple(
            Setting(what, tuple(said), made_by)
            for key, what, said in _settings(channel)
            # The group that a mic was loaded into is no decision.
            if (made_by := made(f"{path}.{key}")) != (line[0],) or key != "to"
        )
        if settings:
            db = sum_of_eqs(channel, NET_HZ, sheet.rate)
            channels.append(
                Recalled(path, title, settings, db if np.abs(db).max() > NOTHING_DB else None)
            )
        else:
            plain.append(title)
    over = [
        Setting(f"{whose}: {what}", (value_words(one.value, unit),), made(f"over.{one.id}"))
        for one in sheet.over
        for whose, what, unit in [path_words(f"over.{one.id}", sheet)]
    ]
    return Recall(channels, plain, over)


def _channels(sheet: Sheet) -> Iterator[tuple[str, str, Channel]]:
    """In the order of the signal."""
    for name in mic_order(sheet):
        if not sheet.mics[name].unused:
            yield f"mics.{name}", label(name), sheet.mics[name]
    for name, layer in sheet.layers.items():
        yield f"layers.{name}", f"{label(name)} (under {label(layer.of)})", layer
    for name, group in sheet.groups.items():
        yield f"groups.{name}", f"{label(name)} group", group
    for name, bus in sheet.buses.items():
        yield f"buses.{name}", f"{label(name)} bus", bus
    yield DRUM_BUS, "drum bus", sheet.drum_bus


def _made_by(line: Sequence[Revision]) -> Callable[[str], tuple[Revision, ...]]:
    """Says of a path which revisions set it and what is in it, of each value the last; the first where none did."""
    by_path: dict[str, Revision] = {}
    for revision in line:
        for path in revision.change:
            by_path[path] = revision

    def made(path: str) -> tuple[Revision, ...]:
        steps = f"{path}."
        found = {
            revision.number: revision
            for known, revision in by_path.items()
            if f"{known}.".startswith(steps) or steps.startswith(f"{known}.")
        }
        return tuple(found[number] for number in sorted(found)) or (line[0],)

    return made


def _settings(channel: Channel) -> Iterator[tuple[str, str, list[str]]]:
    """``(key, what, words)`` of all that a channel does."""
    fields = type(channel).model_fields
    own = described(type(channel))
    fresh = _fresh(channel)
    if isinstance(channel, LayerBase):
        words = [w for key in own if key not in BEHIND_IT for w in _one(own, key, channel)]
        yield "", "plays", words
    for key in BEFORE_THE_CHAIN:
        if key in fields and (said := _said(channel, fresh, key)):
            yield key, CALLED.get(key, own[key].label if key in own else key), said
    for stage in channel.chain:
        if stage not in fresh.chain and (said := _stage(stage)):
            name = BY_KIND[str(getattr(stage, "kind", ""))].label
            yield f"chain.{stage.id}", name, said
    for key in BEHIND_IT:
        if key in fields and (said := _said(channel, fresh, key)):
            yield key, CALLED.get(key, own[key].label if key in own else key), said


def _fresh(channel: Channel) -> Channel:
    """The same kind of channel as it comes; of what has no such thing, itself."""
    kind = type(channel)
    if isinstance(channel, Mic):
        return Mic(role=channel.role)
    if isinstance(channel, LayerBase):
        return channel.model_copy(update={"chain": (), "mute": False, "fader_db": 0.0, "to": DRUMS})
    return kind()


def _said(channel: Channel, fresh: Channel, key: str) -> list[str]:
    now, was = getattr(channel, key), getattr(fresh, key)
    if key == "sends" and isinstance(channel, Bus):
        return [
            f"{label(name)} {value_words(send.db, 'dB')}{taken_words(send)}"
            for name, send in channel.sends.items()
        ]
    if key == "mute":
        return ["muted"] if now else []
    if now == was and not (key == "fader_db" and isinstance(channel, Bus)):
        return []
    if key == "polarity":
        return ["flipped"]
    if key == "to":
        return [label(str(now))]
    if key == "clean":
        return _parts_words(now) if now.on else []
    if isinstance(now, Part):
        return [words for name in described(type(now)) for words in _changed(now, was, name)]
    return [value_words(now, described(type(channel))[key].unit)]


def _stage(stage: Stage) -> list[str]:
    """A stage's values, what is bypassed said first; nothing of an EQ without a band."""
    if isinstance(stage, Equaliser):
        said = [
            f"band {band.id.lstrip('b')}: {', '.join(_band(band))}"
            for band in stage.bands
            if band.on
        ]
        for key in ("high_pass", "low_pass"):
            one = getattr(stage, key)
            said += [f"{key.replace('_', '-')}: {', '.join(_band(one))}"] if one.on else []
        said += [f"output {value_words(stage.output_db, 'dB')}"] if stage.output_db else []
        if not said:
            return []
    else:
        said = _parts_words(stage)
    return said if stage.on else ["bypassed", *said]


def _band(part: Part) -> list[str]:
    """A band or filter: what it is set by, and what else is not as it came."""
    fresh = type(part)(id="b1") if isinstance(part, Band) else type(part)()
    return [
        words
        for name, value in described(type(part)).items()
        if name != "on"
        for words in (
            [_words(value.label, getattr(part, name), value.unit)]
            if name in ALWAYS_SAID
            else _changed(part, fresh, name)
        )
    ]


def _parts_words(part: Part) -> list[str]:
    """All values of a part, and of its own parts those that are not as they came."""
    known = described(type(part))
    said = [words for key in known if key != "on" for words in _one(known, key, part)]
    for key in type(part).model_fields:
        inner = getattr(part, key)
        if isinstance(inner, Part):
            fresh = type(inner)()
            said += [w for name in described(type(inner)) for w in _changed(inner, fresh, name)]
    return said


def _one(known: Mapping[str, Any], key: str, part: Part) -> list[str]:
    return [_words(known[key].label, getattr(part, key), known[key].unit)]


def _changed(part: Part, fresh: Part, key: str) -> list[str]:
    value = getattr(part, key)
    if value == getattr(fresh, key):
        return []
    known = described(type(part))[key]
    return [_words(known.label, value, known.unit)]


def _words(called: str, value: Any, unit: str) -> str:
    return f"{called} {value_words(value, unit)}"
