"""Filters for figures and names."""

import json
from typing import Any

from django import template

from arkund.bench.stations.registry import STATIONS
from arkund.core.kit.roles import label, piece_family

register = template.Library()


@register.filter
def mic_label(name: str) -> str:
    """``overhead_l`` as ``overhead L``."""
    return label(name)


@register.filter
def family(piece: str) -> str:
    """Piece family for shapes and hues: kick, snare, tom, metal or ambience."""
    known = piece_family(piece)
    if known in ("kick", "snare", "tom"):
        return known
    return "metal" if known in ("hat", "ride", "crash", "cymbal") else "ambience"


@register.filter
def figure(value: Any, digits: int = 1) -> str:
    """A number with a true minus sign."""
    if value is None:
        return "–"
    if float(value) <= -150:
        return "silent"
    text = f"{float(value):.{digits}f}"
    return "0" + text[2:] if float(text) == 0 and text[0] == "-" else text.replace("-", "−")


@register.filter
def signed(value: float) -> str:
    """A step with its sign."""
    return f"{value:+g}".replace("-", "−")


@register.filter
def percent(share: float) -> str:
    """A share as a whole percentage."""
    return f"{share:.0%}"


@register.filter
def station_called(slug: str) -> str:
    """A station's name by its slug."""
    return STATIONS[slug].title if slug in STATIONS else slug


@register.filter
def as_json(value: Any) -> str:
    """Plain data for a ``data-`` attribute; the template escapes it."""
    return json.dumps(value)


@register.filter
def leaf(path: str) -> str:
    """A file's name without its folders."""
    return path.rsplit("/", 1)[-1]
