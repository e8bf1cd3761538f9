"""What a run complains of and goes on after is not what it ended over; what it ended over is, whatever closes the run after that."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Any

import pytest

from hollow_chain.causes import Facts
from hollow_chain.causes.good_runs import said_when_well
from hollow_chain.chain import Graph
from hollow_chain.facts.codec import decode
from hollow_chain.facts.host import Event
from hollow_chain.verdict import diagnose
from tests.test_cases import document

NONE = "exits-with-error"
HELD = {
    "listeners": [{"protocol": "tcp", "address": "0.0.0.0", "port": 7440, "process": 99, "program": "/usr/bin/z", "service": "z.service"}],
    "sockets_read": True,
}  # fmt: skip


def gone(*paths: str) -> dict[str, Any]:
    return {"files": [{"path": path, "exists": False, "kind": ""} for path in paths]}


def there(path: str, mode: str = "0600", kind: str = "file") -> dict[str, Any]:
    return {"files": [{"path": path, "kind": kind, "owner": "root", "group": "root", "mode": mode}]}


def first(text: str, facts: dict[str, Any]) -> tuple[str, float]:
    """The first cause of a service that said this in its last run, and how sure it is."""
    service = {
        "name": "a.service", "state": "failed", "startup": "automatic", "program": {"path": "/usr/bin/a", "arguments": ["/usr/bin/a"]},
        "account": {"user": "mate", "group": "mate"},
        "last": {"result": "exit-code", "exit_status": 1, "started_at": "2026-03-04T05:00:00Z", "ended_at": "2026-03-04T05:00:02Z"},
    }  # fmt: skip
    said = [
        {
            "at": f"2026-03-04T05:00:01.{n:02}Z",
            "service": "a.service",
            "source": "journal (a)",
            "process": 7,
            "text": line,
        }
        for n, line in enumerate(text.split(" // "))
    ]
    read = Facts(Graph(decode(document({"services": [service], "events": said, **facts}))))
    cause = diagnose(read, read.graph.node("quay", "a.service")).causes[0]
    return cause.finding.cause, cause.confidence


@pytest.mark.parametrize(
    ("text", "facts"),
    [
        ("WARN  address already in use: 7440, falling back to 7441 // fatal: tides diverged", HELD),
        ("cannot open /srv/q/cache: No such file or directory // creating it // fatal: tides diverged", gone("/srv/q/cache")),
        ("stat /srv/q/opt: no such file or directory (optional) // fatal: tides diverged", gone("/srv/q/opt")),
        ("DEBUG open /srv/q/a: no such file or directory // fatal: tides diverged", gone("/srv/q/a")),
        ("[notice] /etc/q/mime.types: No such file or directory // [error] tides diverged", gone("/etc/q/mime.types")),
        ("connect to 10.9.0.7:5432: connection timed out // connected to 10.9.0.7:5432 // fatal: tides diverged", {}),
        ("Failed to resolve tally.example: Temporary failure in name resolution // tally is off // fatal: tides diverged", {}),
        ("chown /srv/q/data: Operation not permitted (ignored) // fatal: tides diverged", there("/srv/q/data", "0755", "folder")),
        ("/srv/q/hook.sh: Permission denied // hook failed with 126, continuing // fatal: tides diverged", there("/srv/q/hook.sh", "0644")),
        ("unknown key 'colour' in /etc/q/q.yml line 3 (ignored) // fatal: tides diverged", there("/etc/q/q.yml", "0644")),
    ],
)  # fmt: skip
def test_what_was_gone_on_after_is_not_named(text: str, facts: dict[str, Any]) -> None:
    assert first(text, facts)[0] == NONE


@pytest.mark.parametrize(
    "quoted",
    [
        '      raise FareError("cannot read /srv/q/key: Permission denied")',
        '\u276f 14 \u2502   raise FareError("cannot read /srv/q/key: Permission denied")',
        "> 14 |   throw new Error('cannot read /srv/q/key: Permission denied')",
    ],
)
def test_what_the_source_of_the_program_would_say_it_has_not_said(quoted: str) -> None:
    assert first(f"{quoted} // FareError: tides diverged", there("/srv/q/key"))[0] == NONE


def test_what_lies_some_steps_back_is_a_hint_at_the_most() -> None:
    cause, sure = first(
        "Could not load key: /etc/q/key // listening on port 7440 // fatal: tides diverged", gone("/etc/q/key")
    )
    assert cause == NONE or sure <= 0.6


@pytest.mark.parametrize(
    ("cause", "text", "facts"),
    [
        ("path-missing", "open /srv/q/data: no such file or directory // fatal: store is closed", gone("/srv/q/data")),
        ("path-missing", "ERROR open /srv/q/data: no such file // ERROR component store: down // FATAL 1 of 3 components down", gone("/srv/q/data")),
        ("path-missing", "WARN  cannot read /srv/q/key: No such file or directory // FATAL no usable key", gone("/srv/q/key")),
        ("path-missing", "WARN  /srv/q/key: No such file or directory // ERROR keys: 0 loaded, at least 1 needed", gone("/srv/q/key")),
        ("path-missing", "INFO reading /srv/q/tides // INFO /srv/q/tides: No such file or directory // ERROR no tides", gone("/srv/q/tides")),
        ("path-missing", "No module named 'quay' // [CRITICAL] WORKER TIMEOUT // [ERROR] Worker (pid:7) exited with code 3", {}),
        ("port-held", "[ERROR] Bind on TCP/IP port 7440: Address already in use // [ERROR] Is another one running? // [ERROR] Aborting", HELD),
        ("port-held", "bind 0.0.0.0:7440: address already in use // panic: no listener", HELD),
        ("access-denied", "ERROR open /srv/q/key: permission denied // FATAL signer is not there", there("/srv/q/key")),
        ("access-denied", "warning: cannot read /srv/q/key: Permission denied // fatal: no key", there("/srv/q/key")),
        ("host-unreachable", "ERROR: dial tcp 10.9.0.7:5432: connect: no route to host // ERROR store: gave up after 3 tries", {}),
        ("config-rejected", 'q.conf:14: unknown directive "berthz" // fatal: 1 error', {}),
        ("too-open", "/srv/q/key: permissions are too open // fatal: key refused", there("/srv/q/key", "0644")),
        ("limit-reached", "accept: too many open files // fatal: reactor died", {}),
    ],
)  # fmt: skip
def test_what_it_ended_over_is_named_whatever_comes_after(cause: str, text: str, facts: dict[str, Any]) -> None:
    assert first(text, facts)[0] == cause


def test_a_line_of_a_whole_second_may_be_of_the_start_after_the_stop() -> None:
    starting, started, stopping = (
        "7d4958e842da4a758f6c1cdc7b36dcc5", "39f53479d3a045ac8e11786248231fbf", "de5b426a63be47a7b6ac3eaac82e2f6f",
    )  # fmt: skip
    noon = datetime(2031, 3, 4, 12, 0, 20, tzinfo=UTC)

    def told(code: str, seconds: float) -> Event:
        return Event(at=noon + timedelta(seconds=seconds), text="", service="a.service", by_manager=True, code=code)

    def said(text: str, seconds: float) -> Event:
        return Event(at=noon + timedelta(seconds=seconds), text=text, service="a.service")

    run = [
        told(starting, 0.1),
        said("cannot open /srv/plan", 2),
        said("using defaults", 1),
        told(started, 2.4),
        told(stopping, 2.6),
    ]
    assert said_when_well(run) == {"using defaults"}
    assert said_when_well([*run[:-1], told(stopping, 4)]) == {"using defaults", "cannot open /srv/plan"}
