"""Plans for facts of any shape: whatever they hold, a plan is made without a fault of the program, and its proof is consistent."""

from __future__ import annotations

import json
import random
from typing import Any

import pytest

from hollow_chain.causes import Facts
from hollow_chain.chain import Graph, Node
from hollow_chain.facts.codec import decode
from hollow_chain.mend.plan import Plan
from hollow_chain.mend.planning import Planner
from hollow_chain.mend.verbs import VERBS
from hollow_chain.show.mend import plan_document
from hollow_chain.verdict import diagnose

SAID = (
    "bind 0.0.0.0:80: Address already in use", "open /srv/f/x: Permission denied", "connect to 127.0.0.1:81 failed: Connection refused",
    "/etc/x.conf:3: unknown word", "pid file /run/x.pid exists", "No space left on device", "cannot write /srv/f/x: Read-only file system",
)  # fmt: skip
PATHS = ("/bin/p0", "/bin/p1", "/srv/f", "/srv/f/x", "/x", "/run/x.pid")


class Making:
    """Facts by chance, from a seed."""

    def __init__(self, seed: int) -> None:
        self.rng = random.Random(seed)

    def one(self, *values: Any) -> Any:
        return self.rng.choice(values)

    def odds(self, chance: float) -> bool:
        return self.rng.random() < chance

    def service(self, names: list[str], name: str) -> dict[str, Any]:
        made: dict[str, Any] = {
            "name": name,
            "state": self.one("running", "starting", "stopping", "stopped", "done", "paused", "failed", "unknown"),
            "startup": self.one("automatic", "delayed", "manual", "event", "on-need", "disabled", "unknown"),
            "kind": self.one(*["service"] * 9, "socket", "timer", "mount", "device", "target", "odd"),
            "links": [self.link(names) for _ in range(self.rng.randrange(3))],
        }
        maybe = {
            "last": self.last(),
            "claims": [{"port": self.one(80, 81, 443)}],
            "definition": {"load": self.one("loaded", "masked", "refused", "missing"), "needs_reload": self.odds(0.3)},
            "conditions": [
                {
                    "kind": self.one("ConditionPathExists", "AssertPathExists"),
                    "parameter": "/x",
                    "outcome": self.one("met", "unmet"),
                }
            ],
            "program": {
                "path": self.one(*PATHS[:2]),
                "style": self.one("simple", "notify", "oneshot", "forking", ""),
                "folder": self.one("", "/srv/f"),
            },
            "account": {"user": self.one("mate", "root", "ghost")},
            "limits": self.one(
                {"start_seconds": 0.03, "start_typed": "30ms"},
                {"start_seconds": 3e4, "start_typed": "30000"},
                {"start_seconds": 90},
            ),
            "starts": [self.start(day) for day in (1, 2, 3)],
            "triggers": [{"kind": self.one("socket", "timer", "event"), "name": self.one(*names)}],
            "seats": [{"product": "suite", "server": self.one(*names)}],
            "confinement": {"read_only": ["/"], "hidden": self.one([], ["/srv"])},
        }
        chances = {"last": 0.6, "claims": 0.5, "triggers": 0.1, "seats": 0.1}
        return made | {key: value for key, value in maybe.items() if self.odds(chances.get(key, 0.3))}

    def link(self, names: list[str]) -> dict[str, Any]:
        return {"to": self.one(*names, "ghost"), "kind": self.one("hard", "soft", "order", "clash"), "pulls": self.odds(0.8),
                "host": self.one("", "", "", "far", "nowhere")}  # fmt: skip

    def last(self) -> dict[str, Any]:
        return {
            "result": self.one("success", "exit-code", "signal", "timeout", "start-limit-hit", "resources", "dependency"),
            "exit_status": self.one(0, 1, 2, 200, 203, 217), "restarts": self.one(0, 0, 1, 5), "started_at": "2026-03-04T05:00:00Z",
            "ended_at": "2026-03-04T05:10:00Z", "error_number": self.one(0, 0, 1053, 1058, 1067, 1068, 1069, 5, 2, 32, 10048),
        }  # fmt: skip

    def start(self, day: int) -> dict[str, Any]:
        return {"at": f"2026-03-0{day}T05:00:00Z", "seconds": self.rng.random() * 50, "outcome": self.one("up", "failed", "timeout"),
                "at_boot": self.odds(0.5)}  # fmt: skip

    def host(self, name: str) -> dict[str, Any]:
        names = [f"s{number}" for number in range(self.rng.randrange(1, 9))]
        files = [
            {"path": path, "exists": self.odds(0.7), "kind": self.one("file", "folder"), "owner": self.one("root", "mate"), "group": "root",
             "mode": self.one("0600", "0755", "0644", ""), "executable": self.odds(0.5)} for path in PATHS
        ]  # fmt: skip
        return {
            "name": name, "manager": self.one("systemd", "control-manager"), "read_at": "2026-03-04T06:12:09Z",
            "boot_at": "2026-03-03T20:00:00Z", "services": [self.service(names, one) for one in names], "files": files,
            "accounts": [{"name": "mate", "groups": ["mates"]}, {"name": "ghost", "exists": False}], "sockets_read": self.odds(0.5),
            "listeners": [{"port": 80, "process": 5, "service": self.one(*names, "")}] if self.odds(0.5) else [],
            "events": [{"at": "2026-03-04T05:09:59Z", "service": self.one(*names), "text": self.one(*SAID)} for _ in range(3)],
            "limits": self.one({}, {"start_seconds": 30, "start_typed": "30000"}),
        }  # fmt: skip

    def document(self) -> bytes:
        hosts = [self.host(name) for name in ("near", "far")[: self.one(1, 2)]]
        return json.dumps({"format": "hollow-chain/snapshot", "version": 1, "hosts": hosts}).encode()


def consistent(plan: Plan) -> None:
    """What has to be true of any plan."""
    for one in plan.tries:
        proof = one.proof
        assert proof is not None and 0 <= proof.up_now <= 1 and 0 <= proof.up <= 1
        assert proof.holds == (proof.sufficient and proof.minimal and proof.harmless)
        assert (
            proof.sufficient == (not proof.lacks)
            and proof.harmless == (not proof.harms)
            and proof.minimal == (not proof.needless)
        )
        assert not proof.holds or one.steps
        assert {step.does for step in one.steps if step.by_person} == set(proof.assumed)
        assert all(step.act is None or step.act.verb in VERBS for step in one.steps)
        assert all(
            step.act is None or step.act.verb != "stop" or step.choice or step.act.service in plan.given_up
            for step in one.steps
        )
    ratios = [one.cost / max(one.probability, 0.01) for one in plan.tries]
    assert ratios == sorted(ratios)
    json.dumps(plan_document(plan))


@pytest.mark.parametrize("seed", range(60))
def test_a_plan_is_made_and_its_proof_is_consistent(seed: int) -> None:
    making = Making(seed)
    facts = Facts(Graph(decode(making.document())))
    for node in [*list(facts.graph.nodes())[:4], Node("near", "ghost", None)]:
        planner = Planner(facts, making.odds(0.2), making.one((), ("s1",)), making.odds(0.2), runs=20)
        consistent(planner.plan(diagnose(facts, node)))
