"""``make bench``: speed as ratios within one run, and how right the program is. Exits 1 if a target is missed.

Single parts by name: ``python -m bench faults``.
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from tests.live.realhost import RealHost, why_not

from bench import boots, far, faults, fleet, observe, proofs, secrets, soak, win32
from bench.made_up import made_up
from hollow_chain.facts.codec import encode

PROGRAM = Path(sys.executable).parent / "hollow-chain"
DECODE = (
    "import sys, time, msgspec; from hollow_chain.facts import Snapshot; data = open(sys.argv[1], 'rb').read(); "
    "began = time.perf_counter(); msgspec.json.decode(data, type=Snapshot); print(time.perf_counter() - began)"
)
WHOLE = (
    "import gc, sys, time, resource; gc.disable(); from hollow_chain.causes import Facts, catalogue; "
    "from hollow_chain.chain import Graph; from hollow_chain.cli.common import load; "
    "from hollow_chain.verdict import diagnose_all; catalogue(); "
    "began = time.perf_counter(); facts = Facts(Graph(load([sys.argv[1]]))); "
    "found = sum(1 for _ in diagnose_all(facts)); print(time.perf_counter() - began); "
    "print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024); print(found)"
)


def seconds(*command: str) -> float:
    """How long a whole process takes."""
    began = time.perf_counter()
    subprocess.run(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False)
    return time.perf_counter() - began


def ratio(ours: Callable[[], float], theirs: Callable[[], float], times: int) -> tuple[float, float, float]:
    """Medians of both, measured in turns, and their ratio."""
    ours(), theirs()
    pairs = [(ours(), theirs()) for _ in range(times)]
    mine, other = (statistics.median(column) for column in zip(*pairs, strict=True))
    return mine, other, mine / other


def start_up(folder: Path) -> Iterator[tuple[str, float, float]]:
    """``why`` on a snapshot of 300 services against the bare import of what the command line is made with."""
    path = folder / "host.json"
    path.write_bytes(encode(made_up(300)))
    mine, other, factor = ratio(
        lambda: seconds(str(PROGRAM), "why", "berth-00250", "--from", str(path)),
        lambda: seconds(sys.executable, "-c", "import typer, rich.console"),
        15,
    )
    print(f"why, 300 services: {mine * 1000:.0f} ms; import of typer and rich.console: {other * 1000:.0f} ms")
    yield "why on 300 services / bare import", factor, 2.0


def planning(folder: Path) -> Iterator[tuple[str, float, float]]:
    """``mend`` (plan and proof) and ``rehearse`` of a snapshot of 300 services against ``why`` on the same."""
    path = str(folder / "plan.json")
    (folder / "plan.json").write_bytes(encode(made_up(300)))

    def why() -> float:
        return seconds(str(PROGRAM), "why", "berth-00085", "--from", path)

    mend, other, factor = ratio(lambda: seconds(str(PROGRAM), "mend", "berth-00085", "--from", path), why, 7)
    boots_of, _, times = ratio(lambda: seconds(str(PROGRAM), "rehearse", "--from", path), why, 5)
    print(
        f"300 services: why {other * 1000:.0f} ms, mend {mend * 1000:.0f} ms, rehearse 1,000 boots {boots_of * 1000:.0f} ms"
    )
    # Thrice `why`, and the rehearsals: NumPy and a handful of small boots, which take as long as `why` again.
    yield "mend on 300 services / why", factor, 5.0
    # Two seconds where `why` takes 0.16.
    yield "rehearse 1,000 boots of 300 services / why", times, 12.5


def live(_: Path) -> Iterator[tuple[str, float, float]]:
    """``capture`` and ``why`` on a live host."""
    reason = why_not()
    if reason:
        print(f"capture of a live host: not measured ({reason})")
        return
    with RealHost("bench") as host:
        inside = ("nsenter", "-t", str(host.init), "-a")
        capture = (*inside, str(PROGRAM), "capture", "--out", "/var/tmp/host.json")
        show = (*inside, "sh", "-c", "systemctl show '*' --all > /var/tmp/show.txt")
        why = (*inside, str(PROGRAM), "why", "dbus.service")
        mine, other, factor = ratio(lambda: seconds(*capture), lambda: seconds(*show), 15)
        print(f"capture of a live host: {mine * 1000:.0f} ms; systemctl show '*' --all: {other * 1000:.0f} ms")
        yield "capture / systemctl show", factor, 2.0
        mine, other, factor = ratio(lambda: seconds(*why), lambda: seconds(*capture), 15)
        print(f"why on a live host: {mine * 1000:.0f} ms; capture: {other * 1000:.0f} ms")
        yield "why on a live host / capture", factor, 1.5


def decode_many(folder: Path) -> Iterator[tuple[str, float, float]]:
    """Parsing and diagnosing 100,000 services against decoding the same file into the model."""
    path = folder / "fleet.json"
    path.write_bytes(encode(made_up(100_000, hosts=50)))
    size = path.stat().st_size
    memory = 0.0

    def whole() -> float:
        nonlocal memory
        done = subprocess.run([sys.executable, "-c", WHOLE, str(path)], capture_output=True, text=True, check=True)
        took, used, found = done.stdout.split()
        memory = max(memory, float(used))
        assert int(found) > 1000
        return float(took)

    def decode() -> float:
        done = subprocess.run([sys.executable, "-c", DECODE, str(path)], capture_output=True, text=True, check=True)
        return float(done.stdout)

    mine, other, factor = ratio(whole, decode, 3)
    print(f"100,000 services ({size / 1e6:.0f} MB): parse and diagnose {mine:.1f} s; decode alone {other:.1f} s")
    yield "parse and diagnose 100,000 services / decode", factor, 5.0
    yield "memory for that / size of the file", memory / size, 8.0


def main() -> int:
    """Run all measurements; 1 if a target is missed."""
    parts = {
        "start-up": start_up,
        "planning": planning,
        "live": live,
        "decode": decode_many,
        "fleet": fleet.measured,
        "boots": boots.boots,
        "secrets": secrets.measure,
        "win32": win32.measure,
        "proofs": proofs.measure,
        "faults": faults.measure,
        "soak": soak.measure,
        "observe": observe.measure,
        "far": far.measure,
    }
    chosen = [part for name, part in parts.items() if len(sys.argv) < 2 or name in sys.argv[1:]]
    missed = 0
    with tempfile.TemporaryDirectory() as folder:
        rows = [row for part in chosen for row in part(Path(folder))]
    print(f"\n{'ratio':<50} {'measured':>9} {'target':>8}")
    for name, factor, target in rows:
        missed += factor > target
        print(f"{name:<50} {factor:>9.2f} {f'<= {target:g}':>8}{'  MISSED' if factor > target else ''}")
    return 1 if missed else 0


if __name__ == "__main__":
    sys.exit(main())
