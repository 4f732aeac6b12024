"""Runs the benchmarks: ``python -m bench [pages] [training] …``; all of them by default."""

import importlib
import sys

BENCHES = (
    "suppression",
    "evaluation",
    "judging",
    "uncertainty",
    "intake",
    "reading",
    "pages",
    "gestures",
    "training",
    "busy",
    "learning",
    "digits",
    "quality",
    "detecting",
    "using",
    "following",
    "ordering",
    "cluster",
    # Last, as it ends all where its photographs cannot be fetched.
    "photographs",
)

if __name__ == "__main__":
    chosen = sys.argv[1:] or list(BENCHES)
    for name in chosen:
        if name not in BENCHES:
            sys.exit(f"bench: there is no benchmark {name!r}; choose from {', '.join(BENCHES)}")
        print(f"== {name}", flush=True)
        importlib.import_module(f"bench.{name}").main()
