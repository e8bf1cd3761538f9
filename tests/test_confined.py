"""Services that are up without their endpoints because their definition lets them have none."""

from __future__ import annotations

from pathlib import Path

import pytest

from hollow_chain.causes import Facts
from hollow_chain.chain import Graph
from hollow_chain.facts.confined import kept_from_sockets
from hollow_chain.facts.host import snapshot
from hollow_chain.facts.service import Confinement, Service
from hollow_chain.reach.interfaces import Socket
from hollow_chain.verdict import diagnose
from tests.made_host import MadeHost, ago

UP = {
    "ActiveState": "active",
    "SubState": "running",
    "MainPID": 4711,
    "InactiveExitTimestamp": ago(60),
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
        (Confinement(calls_by="SystemCallFilter", calls_refused=["bind"]), "SystemCallFilter="),
        (Confinement(calls_by="SystemCallFilter", calls_refused=[]), ""),
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
        (
            {"SystemCallFilter": [True, ["read", "write"]], "SystemCallErrorNumber": 1},
            "127.0.0.1:7411",
            "SystemCallFilter=",
        ),
        ({"SystemCallFilter": [True, ["socket", "bind:1", "listen"]]}, "127.0.0.1:7411", ""),
        (
            {"SystemCallFilter": [False, ["socket", "bind", "listen"]], "SystemCallErrorNumber": 1},
            "/etc/desk.yaml",
            "SystemCallFilter=",
        ),
        ({"SystemCallFilter": [False, ["mount"]], "SystemCallErrorNumber": 1}, "/etc/desk.yaml", ""),
        ({}, "/etc/desk.yaml", ""),
        ({}, "127.0.0.1:7411", ""),
        ({"RestrictAddressFamilies": [True, ["AF_UNIX"]]}, "tides", ""),
    ],
)
def test_up_without_a_socket_that_its_definition_does_not_let_it_have(
    tmp_path: Path, confined: dict[str, object], argument: str, named: str
) -> None:
    made = MadeHost(tmp_path)
    made.put("/usr/bin/true", "#!/bin/sh\n", 0o755)
    made.put("/etc/desk.yaml", "host: 127.0.0.1\nport: 7411\n")
    command = ["/usr/bin/true", *(["--listen"] if "/" not in argument else []), argument]
    made.unit("desk.service", ExecStart=[[command[0], command, False]], **UP, **confined)
    host = made.read(extra=("desk.service",))
    read = Facts(Graph(snapshot([host])))
    causes = diagnose(read, read.graph.node(host.name, "desk.service")).causes
    assert [one.finding.cause for one in causes] == ["listener-off"] * bool(named)
    assert all(named in one.finding.says for one in causes)


@pytest.mark.parametrize(
    ("says", "holds", "named"),
    [
        ("listening on 127.0.0.1:7411", False, True),
        ("listening on 127.0.0.1:7411", True, False),
        ("listening on 127.0.0.1:7499", False, False),
        ("ready for the tide", False, False),
    ],
)
def test_up_without_the_socket_that_it_is_set_to_and_says_that_it_has(
    tmp_path: Path, says: str, holds: bool, named: bool
) -> None:
    made = MadeHost(tmp_path)
    made.put("/usr/bin/true", "#!/bin/sh\n", 0o755)
    made.unit(
        "desk.service", ExecStart=[["/usr/bin/true", ["/usr/bin/true", "--listen", "127.0.0.1:7411"], False]], **UP
    )
    if holds:
        made.listens = [Socket(7411, "127.0.0.1", "tcp", 4711)]
        made.runs_now = {4711: ("/usr/bin/true", "desk.service")}
    made.says("desk.service", says, 59)
    host = made.read(extra=("desk.service",))
    read = Facts(Graph(snapshot([host])))
    causes = diagnose(read, read.graph.node(host.name, "desk.service")).causes
    assert [one.finding.cause for one in causes] == ["listener-off"] * named


@pytest.mark.parametrize(
    ("argument", "mode", "named"),
    [("/etc/desk/desk.conf", 0o600, True), ("/etc/desk/desk.conf", 0o644, False), ("-v", 0o600, False)],
)
def test_up_without_the_settings_that_its_definition_names(
    tmp_path: Path, argument: str, mode: int, named: bool
) -> None:
    made = MadeHost(tmp_path)
    made.put("/usr/bin/true", "#!/bin/sh\n", 0o755)
    made.put("/etc/desk/desk.conf", "", mode)
    made.unit("desk.service", ExecStart=[["/usr/bin/true", ["/usr/bin/true", argument], False]], User="mate", **UP)
    made.says("desk.service", "cannot read /etc/desk/desk.conf: Permission denied, going on without", 59)
    host = made.read(extra=("desk.service",))
    read = Facts(Graph(snapshot([host])))
    found = diagnose(read, read.graph.node(host.name, "desk.service"))
    assert [one.finding.cause for one in found.causes] == ["access-denied"] * named
    assert all("runs without /etc/desk/desk.conf" in one.finding.says for one in found.causes)
