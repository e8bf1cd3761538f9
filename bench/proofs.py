"""What proofs are worth: every plan is carried out, and what came of it is set against what its proof was."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
from collections import Counter
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, NamedTuple

from tests.live.realhost import RealHost
from tests.test_lab import HOST
from tests.test_mend_lab import FOR_PERSONS, MENDABLE, Mendable

HEAD = "format: hollow-chain/snapshot\nversion: 1\n"
PROGRAM = str(Path(sys.executable).parent / "hollow-chain")
DEMO = Path(__file__).parents[1] / "src" / "hollow_chain" / "demo" / "facts"
KINDS = ("simulated", "assumed", "not-known", "fails its proof")
OUTCOMES = ("held", "did not hold", "waits for a person", "not carried out")
Say = Callable[[list[str]], "tuple[int, dict[str, Any], str]"]


class Carried(NamedTuple):
    """A plan that was carried out."""

    what: str
    kind: str
    outcome: str
    why: str = ""


def carry(
    what: str, target: list[str], say: Say, by_hand: Callable[[dict[str, Any]], bool] = lambda step: False
) -> Carried | None:
    """Plan, agree to what it costs, carry out; a person's steps are done *by_hand*, as far as that can do them. None: nothing to mend."""
    _, plan, errors = say([*target, "--json"])
    if not plan.get("steps"):
        return None
    if not plan["offered"]:
        return Carried(what, KINDS[3], OUTCOMES[3])
    kind = plan["proof"]["kind"]
    agreed = [step["needs_consent"] for one in plan["tries"] for step in one["steps"] if step["needs_consent"]]
    words = [word for name in dict.fromkeys(agreed) if name != "a reboot" for word in ("--may-stop", name)]
    words += ["--reboot"] if "a reboot" in agreed else []
    status, done, errors = say([*target, *words, "--apply", "--yes", "--watch", "2", "--json"])
    while status == 1 and done.get("waits_for"):
        number = done["waits_for"]["step"]
        step = next((s for s in plan["steps"] if s["does"] == done["waits_for"]["does"]), None)
        if step is None or not by_hand(step):
            return Carried(what, kind, OUTCOMES[2])
        before = done["waits_for"]
        status, done, errors = say(["--done", str(number), "--watch", "2", "--json"])
        if done.get("waits_for") == before:
            return Carried(what, kind, OUTCOMES[2], done["summary"])
    if status == 0:
        return Carried(what, kind, OUTCOMES[0])
    bad = [check["says"] for check in done.get("checks", ()) if not check["well"]]
    return Carried(
        what, kind, OUTCOMES[1] if status == 4 else OUTCOMES[3], f"{done.get('summary', '')} {bad} {errors}".strip()
    )


def of_host(host: RealHost, what: str, target: str) -> Carried | None:
    """The plan for one service of a live host, carried out there."""

    def say(words: list[str]) -> tuple[int, dict[str, Any], str]:
        done = host.program("mend " + " ".join(f"'{word}'" for word in words))
        return done.returncode, json.loads(done.stdout) if done.stdout.startswith("{") else {}, done.stderr

    return carry(what, [target], say)


class Lab:
    """A stand-in host in a folder."""

    def __init__(self, folder: Path, *make: str) -> None:
        self.folder = folder / "host"
        self.env = {**os.environ, "HOLLOW_CHAIN_CASES": str(folder / "cases.db")}
        self("lab", "make", str(self.folder), *make)

    def __call__(self, *words: str) -> tuple[int, dict[str, Any], str]:
        done = subprocess.run([PROGRAM, *words], capture_output=True, text=True, env=self.env, check=False)
        return done.returncode, json.loads(done.stdout) if done.stdout.startswith("{") else {}, done.stderr

    def mend(self, words: list[str]) -> tuple[int, dict[str, Any], str]:
        """A mend on it."""
        return self("mend", *words, "--from", str(self.folder))

    def change(self, what: Callable[[dict[str, Any]], None]) -> bool:
        """A person does something on it."""
        path = self.folder / "host.json"
        document = json.loads(path.read_text())
        what(document["hosts"][0])
        path.write_text(json.dumps(document))
        return True

    def by_hand(self, step: dict[str, Any]) -> bool:
        """What a step for a person means is done, as far as it means anything that can be done here."""
        for act in step["means"]:
            if act["verb"] == "startup":
                self("lab", "startup", str(self.folder), act["service"], act["value"])
            elif act["verb"] == "stop":
                taken = [name for name in step["interrupts"] if name != act["service"] and " on " not in name]
                for name in [*reversed(taken), act["service"]]:
                    self("lab", "stop", str(self.folder), name)
            elif act["verb"] == "port":
                self.change(lambda host, act=act: _moved(host, act["service"], int(act["value"])))
            else:
                return False
        return bool(step["means"])

    def healed(self, step: dict[str, Any]) -> bool:
        """The faults that were put in are taken out again, with what they left behind."""

        def whole(host: dict[str, Any]) -> None:
            host["listeners"] = [one for one in host.get("listeners", ()) if one.get("service")]
            host["accounts"] = [one for one in host.get("accounts", ()) if one.get("may_run_services") is not False]
            host["files"] = [one for one in host.get("files", ()) if one.get("exists") is not False]

        self("lab", "heal", str(self.folder))
        return self.change(whole)


def _moved(host: dict[str, Any], name: str, port: int) -> None:
    for service in host["services"]:
        if service["name"] == name:
            service["claims"] = [{**claim, "port": port} for claim in service.get("claims", ())[:1]]


def of_lab(folder: Path) -> Iterator[Carried]:
    """The faults of the lab suite: those for a machine, and those for a person, who does what he is told."""
    (folder / "facts.yaml").write_text(HEAD + "hosts:\n" + HOST, encoding="utf-8")
    faults: dict[str, Mendable] = {**MENDABLE, **FOR_PERSONS}
    for number, (name, fault) in enumerate(faults.items()):
        place = folder / f"lab{number}"
        place.mkdir()
        lab = Lab(place, "--from", str(folder / "facts.yaml"))
        lab("lab", "boot", str(lab.folder))
        for command, *words in fault.calls:
            lab("lab", command, str(lab.folder), *words)
        found = carry(f"lab: {name}", [fault.target], lab.mend, lab.healed)
        if found is not None:
            yield found


def of_demo(folder: Path) -> Iterator[Carried]:
    """Every service of the demo that is not well, on hosts that a stand-in can be made of."""
    listed = json.loads(
        subprocess.run([PROGRAM, "roster", "--from", str(DEMO), "--json"], capture_output=True, check=False).stdout
    )
    hosts = dict.fromkeys(one["host"] for one in listed["services"])
    for host in hosts:
        for number, one in enumerate(s for s in listed["services"] if s["host"] == host and not s["well"]):
            place = folder / f"{host}-{number}"
            place.mkdir()
            lab = Lab(place, "--from", str(DEMO), "--host", host)
            if not lab.folder.exists():
                break
            found = carry(f"demo: {one['service']} on {host}", [one["service"]], lab.mend, lab.by_hand)
            if found is not None:
                yield found


def table(found: list[Carried]) -> Iterator[str]:
    """Proof kind by outcome."""
    many = Counter((one.kind, one.outcome) for one in found)
    yield f"{'proof':<16}" + "".join(f"{outcome:>20}" for outcome in OUTCOMES)
    for kind in KINDS:
        yield f"{kind:<16}" + "".join(f"{many[kind, outcome]:>20}" for outcome in OUTCOMES)
    for one in found:
        if one.outcome == OUTCOMES[1] or (one.outcome == OUTCOMES[3] and one.kind != KINDS[3]):
            yield f"  {one.kind}, {one.outcome}: {one.what}: {re.sub(r' +', ' ', one.why)[:300]}"


def failed(found: list[Carried]) -> int:
    """Proofs that were simulated throughout, and yet did not hold."""
    return sum(one.kind == KINDS[0] and one.outcome == OUTCOMES[1] for one in found)


def measure(folder: Path) -> Iterator[tuple[str, float, float]]:
    """The plans of the demo and of the lab suite; those of the live suite are carried out with its faults."""
    found = [*of_lab(folder), *of_demo(folder)]
    print("plans of the demo and of the stand-in hosts, by their proof and by what came of them:")
    print("\n".join(table(found)))
    yield "simulated proofs that failed, stand-in hosts", failed(found), 0.0
