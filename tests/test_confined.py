"""Services that are up without their endpoints because their definition lets them have none."""

from __future__ import annotations

from pathlib import Path

import pytest

from hollow_chain.causes import Facts
from hollow_chain.chain import Graph
from hollow_chain.facts.confined import kept_from_sockets
from hollow_chain.facts.host import snapshot
from hollow_chain.facts.service import Confinement, Service
from hollow_chain.verdict import diagnose
from tests.made_host import MadeHost, ago

UP = {
    "ActiveState": "active",
    "SubState": "running",
    "MainPID": 4711,
    "ActiveEnterTimestamp": ago(60),
    "ExecMainStartTimestamp": ago(60),
}


@pytest.mark.parametrize(
    ("confinement", "by"),
    [
        (None, ""),
        (Confinement(), ""),
        (Confinement(families=["AF_UNIX"]), "RestrictAddressFamilies="),
        (Confinement(families=[]), "RestrictAddressFamilies="),
        (Confinement(families=["AF_UNIX", "AF_INET6"]), ""),
        (Confinement(families=["-AF_NETLINK"]), ""),
        (Confinement(families=["-AF_INET", "-AF_INET6"]), "RestrictAddressFamilies="),
        (Confinement(calls_by="SystemCallFilter"), "SystemCallFilter="),
        (Confinement(calls_by="ProtectClock"), ""),
    ],
)
def test_what_may_keep_it_from_sockets(confinement: Confinement | None, by: str) -> None:
    assert kept_from_sockets(Service("a.service", confinement=confinement)) == by


@pytest.mark.parametrize(
    ("confined", "argument", "named"),
    [
        ({"RestrictAddressFamilies": [True, ["AF_UNIX"]]}, "127.0.0.1:7411", "RestrictAddressFamilies="),
        ({"SystemCallFilter": [False, ["bind"]], "SystemCallErrorNumber": 1}, "127.0.0.1:7411", "SystemCallFilter="),
        ({}, "127.0.0.1:7411", ""),
        ({"RestrictAddressFamilies": [True, ["AF_UNIX"]]}, "tides", ""),
    ],
)
def test_up_without_a_socket_that_its_definition_does_not_let_it_have(
    tmp_path: Path, confined: dict[str, object], argument: str, named: str
) -> None:
    made = MadeHost(tmp_path)
    made.put("/usr/bin/true", "#!/bin/sh\n", 0o755)
    command = ["/usr/bin/true", "--listen", argument]
    made.unit("desk.service", ExecStart=[[command[0], command, False]], **UP, **confined)
    host = made.read(extra=("desk.service",))
    read = Facts(Graph(snapshot([host])))
    causes = diagnose(read, read.graph.node(host.name, "desk.service")).causes
    assert [one.finding.cause for one in causes] == ["listener-off"] * bool(named)
    assert all(named in one.finding.says for one in causes)
