"""Months until the time is over; each that goes wrong is shrunk and printed."""

from __future__ import annotations

import argparse
import time
from collections import Counter
from contextlib import ExitStack

from tests import postgres
from tests.storm.month import KINDS, drawn, live, shrunk


def main() -> int:
    """Print what went wrong; 1 if anything did."""
    parser = argparse.ArgumentParser(description=__doc__, prog="python -m tests.storm")
    parser.add_argument("--minutes", type=float, default=60)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--deeds", type=int, default=60, help="deeds of a month")
    parser.add_argument("--database", choices=KINDS, action="append")
    parser.add_argument("--shrink", type=float, default=3, help="minutes for each fault")
    given = parser.parse_args()
    until = time.monotonic() + given.minutes * 60
    done: Counter[str] = Counter()
    faults = months = 0
    kinds = given.database or KINDS
    with ExitStack() as stack:
        server = stack.enter_context(postgres.server()) if "postgresql" in kinds else None
        while time.monotonic() < until:
            kind = kinds[months % len(kinds)]
            seed = f"{given.seed}/{months}"
            lived = live(drawn(seed, given.deeds), kind, server, until)
            months += 1
            done.update(name for name, _ in lived.deeds)
            if lived.wrong:
                faults += 1
                small = shrunk(lived, kind, server, time.monotonic() + given.shrink * 60)
                print(f"\n=== {kind}, month {seed}: {small.wrong[:3000]}", flush=True)
                print("\n".join(small.log), flush=True)
    print(f"{months} months, {done.total()} deeds, {faults} months went wrong: {dict(done)}")
    return 1 if faults else 0


if __name__ == "__main__":
    raise SystemExit(main())
