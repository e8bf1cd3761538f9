"""All of one service on one page."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from tests.conftest import Run

FULL = """
- name: h
  read_at: 2026-03-04T06:20:00Z
  boot_at: 2026-03-01T06:00:00Z
  sockets_read: true
  services:
  - name: tide.service
    description: How high the water stands
    state: running
    detail: active (running)
    startup: manual
    links: [{to: store.service, word: Requires}, {to: sysinit.target, word: Requires}]
    definition: {file: /etc/systemd/system/tide.service, drop_ins: [/etc/systemd/system/tide.service.d/a.conf]}
    program: {path: /opt/tide, arguments: [/opt/tide, --port, "7780"], process: 77, style: notify, paths: [/etc/tide.conf],
              environment: ["TOKEN=***"]}
    account: {user: tide, group: tide}
    limits: {start_seconds: 30, restart: on-failure, restart_seconds: 5, rate_count: 5, rate_seconds: 10, memory_bytes: 1048576,
             lowered: {LimitNOFILE: 64}}
    confinement: {read_only: [/usr, /etc], capabilities: [], private_tmp: true, families: [-AF_INET6], calls_by: SystemCallFilter}
    usage: {memory_bytes: 524288, tasks: 3, open_files: 12, most_open_files: 64}
    last: {result: success, up_at: 2026-03-04T06:00:00Z, started_at: 2026-03-04T06:00:00Z, restarts: 2, cpu_seconds: 1.5}
    claims: [{port: 7780, source: arguments, address: 127.0.0.1}, {port: 7781, source: configuration /etc/tide.conf, switched_off: true}]
    starts: [{at: 2026-03-04T05:00:00Z, seconds: 30, outcome: timeout}, {at: 2026-03-04T06:00:00Z, seconds: 0.4}]
  - {name: store.service, state: running, startup: automatic}
  - {name: kiosk.service, state: stopped, startup: automatic, links: [{to: tide.service}], wanted_by: [multi-user.target]}
  - {name: sysinit.target, kind: target, state: running}
  - {name: multi-user.target, kind: target, state: running}
  listeners: [{port: 7780, address: 127.0.0.1, service: tide.service, process: 77}]
  files:
  - {path: /opt/tide, owner: root, group: root, mode: "0755", size: 2048}
  - {path: /etc/tide.conf, exists: false}
  events:
  - {at: 2026-03-04T06:00:00Z, service: tide.service, source: journal (tide), text: "ready \\u001b[31m on 7780"}
"""


def test_the_whole_of_a_service_is_on_the_page(run: Run, facts: Callable[[str], Path]) -> None:
    done = run("about", "tide", "--from", facts(FULL), COLUMNS="110")
    assert done.status == 0
    for text in (
        "tide.service on h: How high the water stands",
        "running, well",
        "its manager says: active (running), not enabled",
        "2 by the manager since",
        "512 KiB of at most 1 MiB",
        "3 tasks",
        "12 open of at most 64",
        "/etc/systemd/system/tide.service.d/a.conf",
        "--port 7780",
        "TOKEN=***",
        "groups tide",
        "on-failure after 5 s",
        "5 starts in 10 s",
        "LimitNOFILE",
        "may only read /usr, /etc",
        "has none of root's rights",
        "may not use sockets of AF_INET6",
        "has a /tmp of its own",
        "holds tcp port 7780 on 127.0.0.1",
        "store.service  running, automatic",
        "kiosk.service  stopped, automatic",
        "/etc/tide.conf  [not there]",
        "ran out of time after 30 s",
    ):
        assert text in done.out, text
    assert "sysinit.target" not in done.out  # well, and everybody's
    assert "\x1b" not in done.out and "\\x1b[31m" in done.out


def test_its_document_has_the_same(run: Run, facts: Callable[[str], Path]) -> None:
    found = run("about", "tide", "--from", facts(FULL), "--json").json
    assert found["format"] == "hollow-chain/about" and found["own_words"] == "not enabled"
    assert found["service"]["usage"] == {"memory_bytes": 524288, "tasks": 3, "open_files": 12, "most_open_files": 64}
    assert [one["service"] for one in found["needs"]] == ["store.service"]
    assert [(one["service"], one["well"]) for one in found["needed_by"]] == [("kiosk.service", False)]
    assert found["listens"] == ["tcp port 7780 on 127.0.0.1"] and len(found["log"]) == 1
    assert found["verdict"]["format"] == "hollow-chain/verdict"


def test_of_little_only_that_little_is_said(run: Run, facts: Callable[[str], Path]) -> None:
    done = run("about", "x", "--from", facts("- name: h\n  services:\n  - {name: x.service, state: running}\n"))
    assert done.status == 0 and "Files" not in done.out and "Ports" not in done.out


def test_a_sick_one_has_status_1_and_a_miss_2(run: Run, demo_facts: Path) -> None:
    assert run("about", "barrier", "--from", demo_facts).status == 1
    missed = run("about", "nosuch", "--from", demo_facts)
    assert missed.status == 2 and missed.err.count("\n") == 1
    several = run("about", "signboard", "--from", demo_facts)
    assert several.status == 2 and "fits" in several.err
