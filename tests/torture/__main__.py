"""``python -m tests.torture [--minutes 15] [--seed N]``: everything, and its table.

The exit code is the number of attacks that got through, 100 at most.
"""

import argparse
import os
import sys
import tempfile
import time
from pathlib import Path


def main() -> int:
    """Run all attacks, print a row as each is over, and what got through."""
    parser = argparse.ArgumentParser(prog="tests.torture", description=__doc__)
    parser.add_argument("--minutes", type=float, default=15.0)
    parser.add_argument("--seed", type=int, default=int(time.time()) % 1_000_000)
    parser.add_argument("--only", default="", help="one kind: " + ", ".join(KINDS))
    args = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="arkund-torture-") as scratch:
        folder = Path(scratch)
        # The attackers read models and addresses; their own data folder stays empty.
        os.environ |= {
            "ARKUND_DATA": str(folder / "own"),
            "DJANGO_SETTINGS_MODULE": "arkund.studio.settings",
        }
        import django

        django.setup()
        print(f"Seed {args.seed}, {args.minutes:g} minutes.\n", flush=True)
        print("| attack | tried | got through | | took |\n|---|---|---|---|---|", flush=True)
        through = []
        for kind, run in KINDS.items():
            if args.only in ("", kind):
                row = run(args.seed, folder, args.minutes / 15)
                print(row.line(), flush=True)
                through += [f"{row.name}: {words}" for words in row.failures]
        for words in through[:60]:
            print(f"- {words}")
        return min(len(through), 100)


def _mutants(seed, folder, scale):  # type: ignore[no-untyped-def]
    from tests.torture.mutants import run

    return run(seed, round(2200 * scale))


def _requests(seed, folder, scale):  # type: ignore[no-untyped-def]
    from tests.torture.asking import run_on_server

    return run_on_server(seed, folder, round(4200 * scale))


def _extremes(seed, folder, scale):  # type: ignore[no-untyped-def]
    from tests.torture.asking import run_extremes_on_server

    return run_extremes_on_server(folder)


def _outside(name, count):  # type: ignore[no-untyped-def]
    def run(seed, folder, scale):  # type: ignore[no-untyped-def]
        from tests.torture import outside

        return getattr(outside, name)(seed, folder, round(count * scale))

    return run


def _kits(seed, folder, scale):  # type: ignore[no-untyped-def]
    from tests.torture.outside import run_kits

    return run_kits(seed, round(1500 * scale))


def _long(seed, folder, scale):  # type: ignore[no-untyped-def]
    """Six minutes of sound in a short run, a quarter of an hour in one of an hour."""
    from tests.torture.outside import run_long

    return run_long(seed, folder, 15.0 if scale >= 4 else 6.0)


def _dying(name, count):  # type: ignore[no-untyped-def]
    def run(seed, folder, scale):  # type: ignore[no-untyped-def]
        from tests.torture import away, dying, reading

        attack = next(getattr(m, name) for m in (dying, reading, away) if hasattr(m, name))
        return attack(seed, folder, round(count * scale)) if count else attack(seed, folder)

    return run


KINDS = {
    "mutants": _mutants,
    "requests": _requests,
    "extremes": _extremes,
    "kits": _kits,
    "graphs": _outside("run_graphs", 40),
    "door": _outside("run_door", 60),
    "long": _long,
    "kills": _dying("run_kills", 52),
    "full-disk": _dying("run_full_disk", 0),
    "bits": _dying("run_flipped_bits", 48),
    "sides": _dying("run_two_sides", 200),
    "redis": _dying("run_redis", 12),
    "away": _dying("run_media_away", 15),
    "readers": _dying("run_readers", 60),
}

if __name__ == "__main__":
    sys.exit(main())
