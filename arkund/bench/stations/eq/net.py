"""Shape, EQ: all EQs on a mic's way as one curve, and what the kit's boosts spend."""

from typing import Any

from arkund.bench.drawing import rounded
from arkund.core.advise.eq.ears import BUDGET_DB, HARSH_HZ, NET_HZ, Budget, boost_budget, net_curve
from arkund.core.advise.eq.merging import merge_of
from arkund.core.advise.eq.to_pink import to_pink
from arkund.core.advise.finding import spoken
from arkund.core.kit.roles import label, parse_mic_name
from arkund.core.sheet.channels import DRUM_BUS
from arkund.core.sheet.sheet import Sheet
from arkund.songs.studies import study_of

NAMED, HARDLY_DB = 3, 0.1


def described(sheet: Sheet, mic: str) -> dict[str, Any]:
    """Curves by channel and together, and what they come to in sentences."""
    study = study_of(sheet)
    net, budget = net_curve(sheet, mic), boost_budget(study)
    pink = to_pink(study, mic) if parse_mic_name(mic).role == "overhead" else None
    said = [
        f"{called(sheet, one.cuts[0])} cuts {one.cuts[1]:.1f} dB at {one.hz:.0f} Hz, where "
        f"{called(sheet, one.boosts[0])} boosts {one.boosts[1]:+.1f}."
        for one in net.opposed
    ]
    merges = [(one, merge_of(sheet, mic, one)) for one in net.opposed]
    low, high = (f"{hz / 1000:g}" for hz in HARSH_HZ)
    said.append(_spent(budget, f"From {low} to {high} kHz the kit's EQs add"))
    return {
        "hz": rounded(NET_HZ, 1),
        "channels": [
            {"name": called(sheet, name), "gain": rounded(gain, 2)}
            for name, gain in net.by_channel.items()
        ],
        "total": rounded(net.total, 2),
        "said": [spoken(one) for one in said] + ([pink.said] if pink else []),
        "pink": pink.patch if pink else None,
        "merges": [
            {
                "words": spoken(f"Merge at {one.hz:.0f} Hz: {merge.by_db:.1f} dB less of both"),
                "patch": merge.patch,
            }
            for one, merge in merges
            if merge is not None
        ],
    }


def _spent(budget: Budget, words: str) -> str:
    if budget.lifts_db < HARDLY_DB:
        return f"{words} less than {HARDLY_DB} dB."
    spenders = ", ".join(
        f"{label(name)} {share:.0%}" for name, share in list(budget.shares.items())[:NAMED]
    )
    over = f"; over {BUDGET_DB:g} dB it becomes hard on the ear" * (budget.lifts_db > BUDGET_DB)
    return f"{words} {budget.lifts_db:.1f} dB ({spenders}){over}."


def called(sheet: Sheet, name: str) -> str:
    """A channel in words."""
    if name == DRUM_BUS:
        return "drum bus"
    return label(name) if name in sheet.mics else f"{name.replace('_', ' ')} group"
