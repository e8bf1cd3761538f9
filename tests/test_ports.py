"""``ports``: claims against holders, through the program; and what configuration files and arguments claim by their form."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hollow_chain.facts.endpoints import Endpoint, in_ranges, overlap
from hollow_chain.facts.service import Program, Service
from hollow_chain.sources import claims
from hollow_chain.sources.endpoint_settings import claims_of_arguments, claims_of_text
from hollow_chain.sources.evidence_files import Text
from tests.conftest import Run

UP = {"state": "running", "startup": "automatic"}
OFF = {"state": "stopped", "startup": "automatic"}


def host(folder: Path, **facts: Any) -> Path:
    about = {"name": "quay", "read_at": "2026-03-04T06:00:00Z", **facts}
    path = folder / "facts.json"
    path.write_text(json.dumps({"format": "hollow-chain/snapshot", "version": 1, "hosts": [about]}))
    return path


def test_the_demo_shows_its_clashes(run: Run, demo_facts: Path) -> None:
    done = run("ports", "--from", demo_facts, "--clashes", "--json")
    assert done.status == 1
    found = {row["port"]: row for row in done.json["ports"]}
    assert found[80]["clash"] == "held"
    assert found[80]["holders"][0]["shared_with"] == ["SharedWeb", "RemotePages"]
    assert found[80]["free"] == 81
    assert found[5004]["clash"] == "reserved"
    assert found[5004]["free"] == 5011
    assert found[7300]["clash"] == "held"
    assert run("ports", "7440", "--from", demo_facts).status == 0
    text = run("ports", "BoardWeb", "--from", demo_facts).out
    assert "CLASH (held): BoardWeb cannot have tcp port 80 on all addresses: SharedWeb (which hosts" in text
    assert "Free: 81" in text


def test_instances_on_different_addresses_do_not_clash(run: Run, tmp_path: Path) -> None:
    services = [{"name": f"web@{n}.service", **UP, "claims": [{"port": 80, "address": f"10.0.0.{n}"}]} for n in (1, 2)]
    done = run("ports", "--from", host(tmp_path, services=services), "--json")
    assert done.status == 0
    assert done.json["clashes"] == 0
    services.append({"name": "all.service", **OFF, "claims": [{"port": 80}]})
    done = run("ports", "--from", host(tmp_path, services=services), "--json")
    assert done.status == 1
    assert done.json["ports"][0]["clash"] == "twice"


def test_a_socket_that_the_manager_holds_for_a_service_is_no_clash(run: Run, tmp_path: Path) -> None:
    services = [
        {"name": "a.socket", "kind": "socket", **UP, "claims": [{"port": 7000}]},
        {"name": "a.service", "state": "stopped", "startup": "event", "triggers": [{"kind": "socket", "name": "a.socket"}],
         "claims": [{"port": 7000}]},
    ]  # fmt: skip
    place = host(tmp_path, services=services, listeners=[{"port": 7000, "process": 1, "service": "a.socket"}])
    assert run("ports", "--from", place).status == 0


def test_what_runs_and_does_not_listen_is_remarked(run: Run, tmp_path: Path) -> None:
    services = [{"name": "a.service", **UP, "claims": [{"port": 7000}]}]
    place = host(tmp_path, services=services, sockets_read=True, listeners=[{"port": 22, "service": "b.service"}])
    assert "nobody listens on tcp port 7000" in run("ports", "a", "--from", place).out
    assert run("ports", "no-such", "--from", place).out == "No port fits.\n"


ANY4, ANY6 = Endpoint(80, "tcp", "0.0.0.0"), Endpoint(80, "tcp6", "::")


@pytest.mark.parametrize(
    ("one", "other", "clash"),
    [
        (ANY4, ANY6, True),
        (ANY4, ANY6._replace(v6_only=True), False),
        (ANY4, Endpoint(80, "tcp", "10.0.0.1"), True),
        (ANY4, Endpoint(80, "tcp6", "2001:db8::1"), False),
        (ANY4, Endpoint(80, "udp", "0.0.0.0"), False),
        (ANY4, Endpoint(81, "tcp", "0.0.0.0"), False),
        (ANY4._replace(reuse=True), ANY4._replace(reuse=True), False),
        (ANY4._replace(reuse=True), ANY4, True),
        (Endpoint(80, "tcp", "127.0.0.1"), Endpoint(80, "tcp", "localhost"), True),
        (Endpoint(80, "tcp6", "::ffff:10.0.0.1"), Endpoint(80, "tcp", "10.0.0.1"), True),
        (Endpoint(80, "tcp6", "fe80::1%eth0"), Endpoint(80, "tcp6", "[fe80::1]"), True),
        (Endpoint(80), ANY6._replace(v6_only=True), True),
    ],
)
def test_the_real_rules_of_sharing(one: Endpoint, other: Endpoint, clash: bool) -> None:
    assert overlap(one, other) is clash
    assert overlap(other, one) is clash


def test_ranges() -> None:
    assert in_ranges(5004, ["80", " 5000-5010 "]) == "5000-5010"
    assert in_ranges(81, ["80", "nonsense", "90-100"]) == ""


@pytest.mark.parametrize(
    ("text", "claims"),
    [
        ("port 6379\nbind 127.0.0.1 -::1\n", {(6379, "127.0.0.1"), (6379, "::1")}),
        ("bind-address = 127.0.0.1\nport = 3306\n# port = 99\n", {(3306, "127.0.0.1")}),
        ("listener 1883 0.0.0.0", {(1883, "0.0.0.0")}),
        ("server {\n listen 80 default_server;\n listen [::]:81;\n proxy_pass http://x:99;\n}", {(80, ""), (81, "::")}),
        ("-p 11211\n-l 127.0.0.1\n", {(11211, "127.0.0.1")}),
        ("frontend f\n  bind *:8088\n  server a 10.0.0.1:99", {(8088, "")}),
        ('{\n "port": 8080,\n "remote_port": 99\n}', {(8080, "")}),
        ("accept = 127.0.0.1:443\nconnect = 10.0.0.1:99", {(443, "127.0.0.1")}),
        ("listen-on port 5353 { 127.0.0.1; };", {(5353, "")}),
    ],
)
def test_general_forms_of_configuration(text: str, claims: set[tuple[int, str]]) -> None:
    assert {(c.port, c.address) for c in claims_of_text(text, "f") if not c.switched_off} == claims


@pytest.mark.parametrize(
    ("text", "sure", "unsure"),
    [
        ("Listen 80\n<IfModule x_module>\nListen 443\n</IfModule>\nListen 81\n", {80, 81}, {443}),
        ("#if TLS\nlisten 80\n", {80}, set()),
        ("[main]\nport = 8080\n[database]\nhost = 10.0.0.7\nport = 5432\n", {8080}, {5432}),
        ("[server]\nhost = 0.0.0.0\nport = 8080\n[crane]\nport = 9000", {8080}, {9000}),
        ("[tally]\nport = 8080", {8080}, set()),
        ("name: tally\nstore:\n  host: localhost\n  port: 6379\nhttp:\n  port: 8080\n", {8080}, {6379}),
        ("outputs:\n  - type: cargo\n    host: 10.0.0.7\n    port: 6379\nport: 8080\n", {8080}, {6379}),
        ('{\n "port": 8080,\n "queue": {\n  "host": "127.0.0.1",\n  "port": 6379\n }\n}', {8080}, {6379}),
        ("server 127.0.0.1\nport 6379\n", set(), {6379}),
        ("http_port 8080\ncargo_port = 6379\n", {8080}, {6379}),
        ("frontend f\n  bind *:8088\nbackend b\n  port 99", {8088}, {99}),
        ("[metrics]\nenabled = false\nlisten = 0.0.0.0:9555\n[web]\nlisten = :8080", {8080}, set()),
        ("tls {\n  enable no;\n  inner {\n   listen 443;\n  }\n}\nlisten 80;\n", {80}, set()),
        ("server:\n  interface: 127.0.0.1\n  port: 5353\n", {5353}, set()),
        ('{"remote": "10.0.0.7", "port": 6379}', set(), {6379}),
        ('{"allowed": "10.0.0.7", "port": 8080}', {8080}, set()),
    ],
)
def test_a_port_is_a_program_s_own_by_the_words_around_it(text: str, sure: set[int], unsure: set[int]) -> None:
    found = claims_of_text(text, "f", own=("tally.service",))
    assert ({c.port for c in found if c.counts}, {c.port for c in found if c.unsure}) == (sure, unsure)


def test_what_may_be_of_another_is_at_the_address_beside_it() -> None:
    for text, address in (
        ("dns: 10.0.0.9\nhost: 127.0.0.1\nport: 80\n", "127.0.0.1"),
        ("peer: 10.0.0.7\nport: 80\n", "10.0.0.7"),
    ):
        assert [claim.address for claim in claims_of_text(text, "f")] == [address]
    assert claims_of_arguments(["--host", "10.0.0.7", "--port", "80"])[0].address == "10.0.0.7"


def test_what_one_file_leaves_open_another_may_say() -> None:
    """A claim that is sure wins over the same one of another file that is not, whichever is read first."""
    service = Service(name="tally.service", program=Program(path="/usr/bin/tally", paths=["/etc/a", "/etc/b"]))
    said = {"/etc/a": "cargo_port = 6379", "/etc/b": "listen 6379"}
    texts = {path: Text(path, text, datetime(2026, 3, 4, tzinfo=UTC), "trusted") for path, text in said.items()}
    claims.add(service, None, texts)  # type: ignore[arg-type]
    assert [(claim.port, claim.counts) for claim in service.claims] == [(6379, True)]


@pytest.mark.parametrize(
    ("arguments", "counts"),
    [
        ("--port 8080", True), ("--host 0.0.0.0 --port 8080", True), ("-h cargo -p 6379", False), ("--host cargo --port 6379", False),
        ("--cargo-port 6379", False), ("--web.listen-address=:9100", True), ("-l 127.0.0.1 -p 11211", True),
    ],
)  # fmt: skip
def test_a_port_among_arguments_is_the_program_s_own_or_may_be_that_of_another(arguments: str, counts: bool) -> None:
    assert [claim.counts for claim in claims_of_arguments(arguments.split())] in ([counts], [])


@pytest.mark.parametrize(
    "text",
    ["port 0", "[mysqld]\nskip-networking\n", "listen_addresses = ''\nport = 5432", "enable_tcp = off", "listen = no"],
)
def test_general_forms_of_a_listener_that_is_off(text: str) -> None:
    found = claims_of_text(text, "f")
    assert found
    assert all(claim.switched_off for claim in found)
    assert not claims_of_text("skip-networking = 0", "f")


def test_arguments() -> None:
    found = claims_of_arguments(["/usr/bin/x", "--port=7000", "--listen", "127.0.0.1:7001", "--report", "7002", "-p"])
    assert {(c.port, c.address) for c in found} == {(7000, ""), (7001, "127.0.0.1")}
    assert claims_of_arguments([]) == []
    assert claims_of_arguments(["x", "--port", "0"])[0].switched_off


@given(st.text(max_size=200))
def test_no_text_does_harm(text: str) -> None:
    for claim in claims_of_text(text, "f"):
        assert 0 <= claim.port < 65536
    claims_of_arguments(text.split())
