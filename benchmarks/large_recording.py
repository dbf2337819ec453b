"""A recording of ten million samples: reading, storing and drawing it against polars' own reader and an empty request, in the same run.

A table of five million rows with a time and two channels. Read: the bytes into channels, against ``polars.read_csv`` of the same bytes. Drawable:
from the last piece to *ready* through the application and its database. Drawn: requests for stretches of many lengths against ``GET /health``.
Run: ``./run bench large-recording`` (``--rows 5000000``).
"""

from __future__ import annotations

import argparse
import resource
import time
from uuid import uuid4

import numpy as np
import polars as pl

from benchmarks.site import Client, running
from sondar.app.recordings import PIECE_BYTES
from sondar.core.recordings.packed import pack
from sondar.recording_files.dialect import understand
from sondar.recording_files.tables import read_table

ROUNDS = 3


def table(rows: int) -> bytes:
    """Two channels at 1 kHz: a slow wave with noise, and a saw tooth with rare dropouts."""
    rng = np.random.default_rng(3)
    t = np.arange(rows) * 0.001
    frame = pl.DataFrame({
        "Time [s]": np.round(t, 3), "Pressure [kPa]": np.round(100 + 5 * np.sin(t / 40) + rng.normal(0, 0.05, rows), 3),
        "Signal [V]": np.where(rng.random(rows) < 1e-6, 0.0, np.round(1.0 + (t % 7.0) / 2.0, 4)),
    })  # fmt: skip
    return frame.write_csv().encode()


def fastest(function: object, *arguments: object) -> float:
    """Least of a few times in seconds."""
    times = []
    for _ in range(ROUNDS):
        begun = time.perf_counter()
        function(*arguments)  # type: ignore[operator]
        times.append(time.perf_counter() - begun)
    return min(times)


def main() -> None:
    """Print the ratios."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, default=5_000_000)
    chosen = parser.parse_args()
    raw = table(chosen.rows)
    mapping = understand(raw).mapping
    base, reading = np.median(
        [(fastest(pl.read_csv, raw), fastest(read_table, raw, mapping)) for _ in range(ROUNDS)], axis=0
    )  # in turn, so that both see the same machine
    found = read_table(raw, mapping).recording
    packing = fastest(pack, found)
    del found
    print(f"{2 * chosen.rows:,} samples, {len(raw) / 1e6:.0f} MB; polars reads them in {base:.2f} s")
    print(f"read into channels: {reading / base:.2f} x polars; cut into chunks with pyramids: {packing / base:.2f} x")
    print(f"peak memory of this process: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MB")
    with running() as site:
        client = Client(site.port, "t0")
        job = client("POST", "/jobs", {"client_key": str(uuid4()), "vehicle": {"make": "Tessel"}})[1]["id"]
        begun = client("POST", f"/jobs/{job}/recordings", {"client_key": str(uuid4()), "name": "long.csv", "bytes": len(raw)})[1][
            "id"
        ]
        start = time.perf_counter()
        for number in range(-(-len(raw) // PIECE_BYTES)):
            client.send_file(
                f"/recordings/{begun}/pieces/{number}", "piece", raw[number * PIECE_BYTES : (number + 1) * PIECE_BYTES]
            )
        arrived = time.perf_counter()
        assert client("POST", f"/recordings/{begun}/reading", {})[0] == 200
        state = "reading"
        while state == "reading":
            time.sleep(0.05)
            state = client("GET", f"/recordings/{begun}")[1]["recording"]["state"]
        drawable = time.perf_counter() - arrived
        assert state == "ready", state
        print(f"sent in pieces: {(arrived - start) / base:.1f} x polars; from the last piece to drawable: {drawable / base:.1f} x")
        for name, share in (("all", 1.0), ("a tenth", 0.1), ("a thousandth", 1e-3), ("a millionth", 1e-6)):
            empty, drawn = [], []
            for round_ in range(40):
                span = chosen.rows * 0.001 * share
                at = (chosen.rows * 0.001 - span) * (round_ / 40)
                begun_at = time.perf_counter()
                client("GET", "/health")
                empty.append(time.perf_counter() - begun_at)
                begun_at = time.perf_counter()
                client("GET", f"/recordings/{begun}/lines?start_s={at}&end_s={at + span}&columns=1000&channels=0,1")
                drawn.append(time.perf_counter() - begun_at)
            middle, worst = np.median(drawn) / np.median(empty), np.percentile(drawn, 95) / np.percentile(empty, 95)
            print(f"drawing {name}: p50 {middle:.1f} x, p95 {worst:.1f} x an empty request")


if __name__ == "__main__":
    main()
