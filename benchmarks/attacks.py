"""What a clumsy or hostile client does, and what everybody else notices of it.

Against the whole of Sondar with two web processes and two workers. While each attack goes on, another person asks ``/health`` and enters
readings; both are given as multiples of the same person's figures with nobody else there. Beside it: how long the attack's own answer
took, its status, and by how much the processes' memory grew.
Run: ``./run bench attacks``.
"""

from __future__ import annotations

import argparse
import http.client
import json
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from uuid import uuid4

import numpy as np

from benchmarks.site import Client
from benchmarks.whole import Whole, first_diagnosis, whole
from sondar.circuit_files import library_circuits

NESTED = "a: &a [x, x, x, x, x, x, x, x, x]\n" + "".join(
    f"{chr(98 + n)}: &{chr(98 + n)} [{', '.join(f'*{chr(97 + n)}' for _ in range(9))}]\n" for n in range(9)
)


@dataclass
class Bystander:
    """Somebody else, who notices."""

    site: Whole
    client: Client
    diagnosis: str
    health: list[float] = field(default_factory=list)
    entry: list[float] = field(default_factory=list)
    failures: list[str] = field(default_factory=list)

    def look(self, seconds: float, stop: Callable[[], bool] = lambda: False) -> None:
        """Ask and enter for so long, or until told to stop, five times at least."""
        end = time.monotonic() + seconds
        rounds = 0
        while rounds < 5 or (time.monotonic() < end and not stop()):
            self.health.append(self._timed("GET", "/health"))
            self.entry.append(self._timed("POST", f"/diagnoses/{self.diagnosis}/exclusions", {
                "client_key": str(uuid4()), "kind": "point", "name": "X12", "excluded": rounds % 2 == 0}))  # fmt: skip
            rounds += 1
            time.sleep(0.05)

    def _timed(self, method: str, path: str, body: Any = None) -> float:
        begun = time.perf_counter()
        try:
            status, _ = self.client(method, path, body)
            if status >= 300:
                self.failures.append(f"{method} {path} {status}")
        except (OSError, http.client.HTTPException, ValueError) as error:
            self.failures.append(repr(error))
        return time.perf_counter() - begun

    def taken(self) -> tuple[float, float]:
        """p95 of both since the last time, in milliseconds."""
        found = (float(np.percentile(self.health, 95)) * 1000, float(np.percentile(self.entry, 95)) * 1000)
        self.health.clear(), self.entry.clear()
        return found


def relay_box(count: int) -> str:
    """A circuit of so many relays on one fuse, each switched by the module and with a load."""
    head = ["sondar: 1", f"id: relay-box-{count}", f"title: Relay box {count}", "vehicle: {make: Halden, model: Tern}",
            "complaint: Nothing runs.", "controls:", '  key: {title: Key, values: ["off", "on"]}']  # fmt: skip
    head += [f'  c{i}: {{title: Command {i}, values: ["off", "on"]}}' for i in range(count)]
    parts = ["modules: {ECM: {title: Module, place: plenum}}", "parts:", "  BAT: {family: battery}", "  F1: {family: fuse, rating_a: 40}",
             "  G1: {family: ground_point}", "  G2: {family: ground_point}",
             '  IGN: {family: switch, closed_when: {key: ["on"]}}']  # fmt: skip
    plugs = ["connectors:", "  X1: {cavities: {" + ", ".join(f'"{i + 1}": D{i}.out' for i in range(count)) + "}}"]
    wires = ["wires:", "  W1: {from: BAT.pos, to: F1.1}", "  W2: {from: BAT.pos, to: IGN.1}"]
    for i in range(count):
        parts += [f"  K{i}: {{family: relay, coil_ohm: 85, pull_in_v: 7}}", f"  R{i}: {{family: resistor, resistance_ohm: 12}}",
                  f'  D{i}: {{family: low_side_driver, module: ECM, on_when: {{key: ["on"], c{i}: "on"}}}}']  # fmt: skip
        plugs.append(f'  X{i + 2}: {{cavities: {{"30": K{i}.30, "85": K{i}.85, "86": K{i}.86, "87": K{i}.87}}}}')
        ways = (("F1.2", f"X{i + 2}.30"), ("IGN.2", f"X{i + 2}.86"), (f"X{i + 2}.85", f"X1.{i + 1}"), (f"X{i + 2}.87", f"R{i}.1"),
                (f"R{i}.2", "G1.stud"), (f"D{i}.gnd", "G2.stud"))  # fmt: skip
        wires += [f"  W{i}{letter}: {{from: {a}, to: {b}}}" for letter, (a, b) in zip("abcdef", ways, strict=True)]
    return "\n".join([*head, *parts, *plugs, *wires, "joins:", "  - [BAT.neg, chassis]", ""])


def opened(client: Client, text: str) -> tuple[int, str]:
    """Load a circuit, begin a job on it and ask for its first step until it answers or is given up."""
    status = 202
    while status == 202:
        status, made = client("POST", "/circuits", {"text": text})
    if status != 201:
        return status, made["detail"]
    body = {"client_key": str(uuid4()), "vehicle": {"make": "Halden"}, "circuit_version_id": made["version_id"]}
    job = client("POST", "/jobs", body)[1]["id"]
    diagnosis = client("GET", f"/jobs/{job}")[1]["diagnoses"][0]["id"]
    begun, said = time.monotonic(), ""
    while True:
        status, answer = client("GET", f"/diagnoses/{diagnosis}")
        if status != 202 or time.monotonic() - begun > 200:
            return status, f"{said} then {answer.get('title', 'ready')}" if said else "ready"
        said = f"still working: {answer['working']}"


def memory_mb(site: Whole) -> float:
    """Resident memory of web processes and workers."""
    total = 0.0
    for number in site.running.processes:
        try:
            total += int(Path(f"/proc/{number}/statm").read_text().split()[1]) * 4096 / 1e6
        except OSError:
            continue
    return total


def main() -> None:
    """Run every attack and print the table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--only", default="", help="attacks whose name holds this")
    arguments = parser.parse_args()
    with whole() as site:
        attacker = Client(site.port, "t0")
        bystander = Bystander(site, Client(site.port, "t0"), first_diagnosis(attacker)[1])
        bystander.look(4)
        bystander.taken()
        bystander.look(8)
        idle = bystander.taken()
        job = first_diagnosis(attacker)[0]
        print(json.dumps({"alone": {"health p95 ms": round(idle[0], 1), "entry p95 ms": round(idle[1], 1)}}), flush=True)
        attacks: dict[str, Callable[[], Any]] = {
            "YAML, nested aliases, 0.4 kB": lambda: attacker("POST", "/circuits", {"text": NESTED})[0],
            "YAML, 10 kB of [": lambda: attacker("POST", "/circuits", {"text": "[" * 10_000})[0],
            "YAML, 36,000 keys": lambda: attacker("POST", "/circuits", {"text": "".join(f"k{n}: 1\n" for n in range(36_000))})[0],
            "an id of 3,000 characters": lambda: attacker("POST", "/circuits", {"text": _renamed("a" * 3000)})[0],
            "JSON, 100,000 deep": lambda: _raw(site.port, "/jobs", b"[" * 100_000, attacker),
            "3,000 codes": lambda: attacker("POST", f"/jobs/{job}/scans", {
                "client_key": str(uuid4()), "source": "import", "text": "\n".join(f"P{0x1000 + n:04X}" for n in range(3000))})[0],
            "1.2 MB of notes": lambda: {attacker("POST", f"/jobs/{job}/notes", {
                "client_key": str(uuid4()), "body": "guillemot " * 399})[0] for _ in range(300)},
            "thirty wrong passwords at once": lambda: _at_once(site.port, 30),
            "fifty reload their benches at once": lambda: _reload(site, attacker),
            "a circuit of 3 relays": lambda: opened(attacker, relay_box(3)),
            "a circuit of 20 relays": lambda: opened(attacker, relay_box(20)),
        }  # fmt: skip
        for name, attack in attacks.items():
            if arguments.only not in name:
                continue
            print(json.dumps({name: _attacked(site, bystander, idle, attack)}), flush=True)


def _attacked(site: Whole, bystander: Bystander, idle: tuple[float, float], attack: Callable[[], Any]) -> dict[str, Any]:
    found: list[Any] = []
    done = threading.Event()

    def go() -> None:
        begun = time.monotonic()
        try:
            found.append(attack())
        except Exception as error:
            found.append(repr(error))
        found.append(time.monotonic() - begun)
        done.set()

    before = memory_mb(site)
    thread = threading.Thread(target=go)
    thread.start()
    bystander.look(300, done.is_set)
    thread.join()
    health, entry = bystander.taken()
    failures, bystander.failures = bystander.failures[:3], []
    return {
        "answer": found[0] if not isinstance(found[0], set) else sorted(found[0]), "seconds": round(found[1], 2),
        "health p95 over alone": round(health / idle[0], 1), "entry p95 over alone": round(entry / idle[1], 1),
        "memory MB": round(memory_mb(site) - before), "others' failures": failures,
    }  # fmt: skip


def _renamed(name: str) -> str:
    return library_circuits()["ambient-temperature"].replace("id: ambient-temperature", f"id: {name}", 1)


def _raw(port: int, path: str, body: bytes, client: Client) -> int:
    link = http.client.HTTPConnection("127.0.0.1", port, timeout=60)
    link.request("POST", f"/api/v1{path}", body, {**client._headers, "Content-Type": "application/json"})
    return link.getresponse().status


def _at_once(port: int, count: int) -> dict[str, int]:
    answers: list[int] = []

    def wrong() -> None:
        client = Client.__new__(Client)
        client.connect(port)
        answers.append(client("POST", "/session", {"sign_in": "nobody-here", "password": "wrong-password"})[0])

    threads = [threading.Thread(target=wrong) for _ in range(count)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    return {str(status): answers.count(status) for status in sorted(set(answers))}


def _reload(site: Whole, client: Client) -> dict[str, int]:
    """Fifty pages ask for ten jobs and their benches in the moment after all workers were killed."""
    slugs = list(library_circuits())[:10]
    pages = [first_diagnosis(client, slug) for slug in slugs]
    clients = [Client(site.port, "t0") for _ in range(50)]
    for number in site.kinds()["worker"]:
        site.kill(number)
    answers: list[int] = []

    def load(index: int) -> None:
        job, diagnosis = pages[index % len(pages)]
        for path in (f"/jobs/{job}", f"/diagnoses/{diagnosis}", f"/jobs/{job}/timeline"):
            status = 202
            while status == 202:
                status = clients[index]("GET", path)[0]
            answers.append(status)

    threads = [threading.Thread(target=load, args=(index,)) for index in range(50)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    return {str(status): answers.count(status) for status in sorted(set(answers))}


if __name__ == "__main__":
    main()
