"""The long run: `python -m tests.identities 200` puts every question to so many cases of each identity.

`200-300` takes other cases; words after that choose among the identities.
"""

from __future__ import annotations

import os

os.environ["OMP_NUM_THREADS"] = os.environ["OPENBLAS_NUM_THREADS"] = "1"

import sys
import traceback
from collections import Counter
from concurrent.futures import ProcessPoolExecutor

import joinery as jn
from tests.identities.identities import EVERY, broken


def one(job: tuple[str, int]) -> tuple[str, int, int, list[str]]:
    identity, seed = job
    try:
        count, found = broken(identity, seed)
    except jn.EstimationError as refusal:
        return (
            identity,
            seed,
            0,
            [] if isinstance(refusal, jn.NoConvergenceError) else [f"fit: {refusal}"],
        )
    except Exception:
        return (
            identity,
            seed,
            0,
            [
                "crash: "
                + traceback.format_exc().strip().splitlines()[-1]
                + " | "
                + " < ".join(
                    line.strip()
                    for line in traceback.format_exc().splitlines()
                    if line.strip().startswith("File")
                )[-300:]
            ],
        )
    return identity, seed, count, found


def main() -> int:
    ends = [int(v) for v in (sys.argv[1] if len(sys.argv) > 1 else "100").split("-")]
    seeds = range(*([0, *ends] if len(ends) == 1 else ends))
    wanted = [i for i in EVERY if len(sys.argv) < 3 or any(w in i for w in sys.argv[2:])]
    jobs = [(identity, seed) for seed in seeds for identity in wanted]
    compared, by_question = Counter(), Counter()
    with ProcessPoolExecutor() as pool:
        for identity, seed, count, found in pool.map(one, jobs, chunksize=8):
            compared[identity] += count
            for why in found:
                by_question[identity, why.split(":")[0]] += 1
                print(f"{identity} [{seed}] {why}")
    print(f"\n{sum(compared.values()):,} answers compared over {len(jobs):,} pairs of fits")
    for (identity, question), count in by_question.most_common():
        print(f"{count:6} {identity}: {question}")
    return 1 if by_question else 0


if __name__ == "__main__":
    raise SystemExit(main())
