"""Runs the benchmarks: ``python -m bench [suppression] [evaluation] [judging] [reading] [pages] [training] [learning] [digits]``; all of them by default."""

import sys

from bench import digits, evaluation, judging, learning, pages, reading, suppression, training

BENCHES = {
    "suppression": suppression.main,
    "evaluation": evaluation.main,
    "judging": judging.main,
    "reading": reading.main,
    "pages": pages.main,
    "training": training.main,
    "learning": learning.main,
    "digits": digits.main,
}

if __name__ == "__main__":
    chosen = sys.argv[1:] or list(BENCHES)
    for name in chosen:
        if name not in BENCHES:
            sys.exit(f"bench: there is no benchmark {name!r}; choose from {', '.join(BENCHES)}")
        print(f"== {name}", flush=True)
        BENCHES[name]()
