"""Practice in small steps: are attempts judged rightly, is their end recognised, is the kind of fault, and what is a plan worth?

    bench/practice                   all its parts, some ten minutes of two cores
    bench/practice --only kinds      one of them: verdicts, ends, kinds, plan, causes, staircase, drills, proposals
    bench/practice --base 7000       other seeds; move on when single cases were looked at
    bench/practice --said            what was not right, one line each
    bench/practice --write           also refreshes its part of docs/benchmarks.md

Each part is a module of bench/practising, which says what it does. Prints its tables; the last line is one JSON object.
"""

from __future__ import annotations

import argparse
import multiprocessing
import os
import sys
from pathlib import Path

os.environ.setdefault("OMP_NUM_THREADS", "1")
HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE.parent), str(HERE)]

from practising import causes, drills, ends, kinds, plan, proposals, staircase, verdicts  # noqa: E402
from report import close  # noqa: E402

PARTS = {
    "verdicts": verdicts.verdicts,
    "ends": ends.ends,
    "kinds": kinds.kinds,
    "plan": plan.plan,
    "causes": causes.causes,
    "staircase": staircase.staircase,
    "drills": drills.drills,
    "proposals": proposals.proposals,
}


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--only", action="append", choices=list(PARTS))
    parser.add_argument("--base", type=int, default=92_000)
    for flag in ("--write", "--said"):
        parser.add_argument(flag, action="store_true")
    options = parser.parse_args()
    tables, figures = [], {}
    with multiprocessing.get_context("fork").Pool(os.cpu_count()) as pool:
        for name in options.only or PARTS:
            rows, found, wrong = PARTS[name](options.base, lambda do, cases: pool.starmap(do, cases, chunksize=4))
            tables.append(f"*{name.capitalize()}*\n\n" + "\n".join(rows))
            figures |= found
            if options.said:
                print("\n".join(wrong), file=sys.stderr)
    return close("practice", "\n\n".join(tables), figures, write=options.write and not options.only)


if __name__ == "__main__":
    sys.exit(main())
