"""Whether a pair of mics hears the snare in its middle."""

from arkund.core.advise.align.polarity import NAME
from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.align.solving import centre_of
from arkund.core.kit.roles import label, parse_mic_name
from arkund.core.sheet.lanes import kit_mics
from arkund.core.sheet.sheet import Sheet
from arkund.core.units import samples_to_ms

LEAST_OFF_CENTRE = 4.0
"""Samples by which the snare may be nearer to one side without a word."""


def find_centre(study: Study, role: str, school: School) -> list[Finding]:
    """Where the snare stands between the left and the right overhead or room."""
    shifts = {m: study.sheet.mics[m].delay_samples for m in study.mics}
    centre = centre_of(study.facts.pairs, "snare", role, shifts)
    if centre is None or not centre.sure or centre.samples < LEAST_OFF_CENTRE:
        return []
    now = study.sheet.mics[centre.early].delay_samples
    ms = samples_to_ms(centre.samples, study.rate)
    side = {"l": "left", "r": "right"}[parse_mic_name(centre.early).side or "l"]
    notch = study.rate / centre.samples / 2
    return [
        Finding(
            NAME,
            "centre",
            centre.early,
            spoken(
                f"The snare reaches {label(centre.early)} {ms:.2f} ms ({centre.samples:.0f} samples) "
                f"before {label(centre.late)}: it leans to the {side}, and mono cancels from "
                f"{notch:.0f} Hz on. Delaying {label(centre.early)} by that much centres the snare "
                "and moves the other drums too."
            ),
            {
                "samples": centre.samples,
                "ms": round(ms, 3),
                "notch_hz": round(notch, 1),
                "against": centre.late,
            },
            # For the ear: to shift one side moves every other drum as well.
            0.55,
            {f"mics.{centre.early}.delay_samples": round(now + centre.samples, 1)},
            {"apart_samples": Change(centre.samples, 0.0)},
            mic=centre.early,
        )
    ]


def _sided_roles(sheet: Sheet) -> list[str]:
    """Roles of far mics that come as left and right."""
    sides = {(n.role, n.side) for m in kit_mics(sheet) if (n := parse_mic_name(m)).side}
    return [r for r in ("overhead", "room") if {(r, "l"), (r, "r")} <= sides]


def _reads_delays(sheet: Sheet, role: str) -> list[object]:
    return [(m, s.delay_samples) for m, s in sorted(sheet.mics.items())]


CENTRE_MODULE = Module(NAME, "align", 1, _sided_roles, _reads_delays, find_centre, for_the_ear=True)
