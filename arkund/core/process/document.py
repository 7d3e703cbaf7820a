"""docs/settings.md: every processor and channel with its values, from their own descriptions.

``python -m arkund.core.process.document > docs/settings.md``; a test holds the two alike.
"""

from typing import Any

from arkund.core.process.registry import PROCESSORS, parts_of
from arkund.core.process.values import Value, described

_HEAD = """# Settings

Made from the code by `python -m arkund.core.process.document > docs/settings.md`.

A mic, a group, a bus and the drum bus are channels: a chain of stages in order, then mute and
fader. Stages and bands have ids that never change, and paths name them by these:
`mics.snare_top.chain.compressor.ratio`, `buses.strike.chain.s2.drive_db`,
`mics.hat.chain.eq.bands.b2.gain_db`. `arkund processors` prints the same as JSON.

{ways}

What a stage listens to is heard alone as `--node extra.s1.key`. A mic's stages listen to mics (as
they enter their chains), a group's and a bus's to mics and groups (before their chains), the drum
bus's to buses as well; so nothing can wait for itself.

Values of chains, gates, faders, pans, mutes, sends and trims may differ over bars; of two
differences over the same bars the later one counts.

A chain has 32 stages at most. A bus that would feed itself, through others or directly, is refused,
as is whatever would lead to a channel that is not there.
"""


_WAYS = (
    ("change a value", "mics.snare_top.chain.compressor.ratio 6"),
    (
        'add a stage after another (`""`: first; without `after`: last)',
        """mics.snare_top.chain.s9 '{"kind":"saturation","after":"eq"}'""",
    ),
    ("move a stage", """mics.snare_top.chain.s9.after '"compressor"'"""),
    ("bypass it", "mics.snare_top.chain.s9.on false"),
    ("remove it", "mics.snare_top.chain.s9 null"),
    ("add a band, eight at most", """mics.snare_top.chain.eq.bands.b5 '{"frequency_hz":700}'"""),
    (
        "add a bus with its sends",
        """buses.extra '{"sends":{"snare_top":{"db":0}},"fader_db":-12,"""
        """"chain":[{"kind":"compressor","id":"s1","ratio":10}]}'""",
    ),
    (
        "send from a mic, a group or another bus, after its fader",
        """buses.extra.sends.toms '{"db":-6,"pre":false}'""",
    ),
    ("add a group", "groups.shells '{}'"),
    ("route a mic to it", """mics.kick_in.to '"shells"'"""),
    ("remove a bus or group", "buses.extra null"),
    (
        "let a compressor listen to another mic, above 90 Hz",
        """buses.extra.chain.s1.key '{"source":"kick_in","high_pass_hz":90}'""",
    ),
    (
        "let a value differ over bars 9 to 16, reached within 50 ms",
        """over.d1 '{"path":"mics.hat.fader_db","bars":"9-16","value":-4,"ramp_ms":50}'""",
    ),
    ("change or end the difference", """over.d1.bars '"9-12, 25-28"'` or `over.d1 null"""),
    ("let it belong to a scene", """over.d1.scene '"chorus"'"""),
)


def document() -> str:
    """The whole document."""
    ways = "".join(f"| {what} | `arkund set SONG {command}` |\n" for what, command in _WAYS)
    more = "| rename a bus or group, and every reference to it | `arkund rename SONG buses.extra crack` |\n"
    scene = """`arkund scene SONG chorus --bars "9-16, 25-32"` or `--out`"""
    more += f"| lay a scene over other bars, or remove it | {scene} |\n"
    tap = "| hear a tap | `arkund render SONG --node snare_top --after eq -o tap.wav` |"
    table = f"| task | command |\n|---|---|\n{ways}{more}{tap}"
    parts = [_HEAD.replace("{ways}", table)]
    for processor in PROCESSORS:
        kind = processor.model_fields["kind"].default
        parts.append(
            f"\n## {processor.label[:1].upper() + processor.label[1:]}: `{kind}`\n\n{processor.about}\n"
        )
        parts.append(_table({prefix: part for prefix, part in parts_of(processor).items()}))
    return "".join(parts)


def _table(parts: dict[str, Any]) -> str:
    rows = ["\n| value | what | range | default |\n|---|---|---|---|\n"]
    for prefix, part in parts.items():
        for name, v in described(part).items():
            rows.append(f"| `{prefix}{name}` | {v.label} | {_range(v)} | {_plain(v.default)} |\n")
    return "".join(rows)


def _range(v: Value) -> str:
    if not v.is_number:
        return ", ".join(_plain(c) for c in v.choices) or "a mic, group or bus; empty: itself"
    return f"{v.low:g} to {v.high:g} {v.unit}".strip().replace("-", "−")


def _plain(value: Any) -> str:
    if isinstance(value, bool):
        return "on" if value else "off"
    return f"{value:g}".replace("-", "−") if isinstance(value, int | float) else str(value)


if __name__ == "__main__":
    print(document(), end="")
