"""``./run bench [NAME] [ARGS]``: one of ``BENCHES``, or all of them when no name is given."""

from __future__ import annotations

import sys

from benchmarks import (
    advice,
    archive,
    attacks,
    belief,
    bundles,
    crowd,
    dynamics,
    entry,
    hidden_faults,
    kills,
    large_recording,
    latency,
    recordings,
    sealed,
    shared,
    solver,
    tables,
    triage,
    undescribed,
    wires,
    worlds,
)

BENCHES = {
    "hidden-faults": hidden_faults.main, "solver": solver.main, "latency": latency.main, "triage": triage.main,
    "archive": archive.main, "crowd": crowd.main, "sealed": sealed.main, "tables": tables.main, "belief": belief.main, "entry": entry.main,
    "worlds": worlds.main, "shared": shared.main, "kills": kills.main, "attacks": attacks.main, "advice": advice.main,
    "wires": wires.main, "undescribed": undescribed.main, "recordings": recordings.main,
    "dynamics": dynamics.main, "large-recording": large_recording.main, "bundles": bundles.main,
}  # fmt: skip


def main() -> None:
    """Run the named benchmark, or all."""
    names = [sys.argv.pop(1)] if len(sys.argv) > 1 and sys.argv[1] in BENCHES else list(BENCHES)
    for name in names:
        print(f"== {name}", flush=True)
        BENCHES[name]()


if __name__ == "__main__":
    main()
