"""Lines that another line of the same run settles are no reason of its end, through the real program."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest

from hollow_chain.facts.host import Event
from hollow_chain.wording.settled import does_without, unsettled
from tests.conftest import Run
from tests.test_cases import document

ABSENT = (
    "/etc/a/extra.conf",
    "/etc/a/optional.properties",
    "/var/cache/a/state.json",
    "/usr/lib/a/extra.so",
    "/srv/a/in",
)
FACTS: dict[str, Any] = {
    "services": [
        {
            "name": "a.service",
            "state": "failed",
            "startup": "automatic",
            "account": {"user": "mate"},
            "program": {"path": "/usr/sbin/a", "style": "simple"},
            "last": {
                "result": "exit-code",
                "exit_status": 1,
                "started_at": "2026-03-04T05:00:00Z",
                "ended_at": "2026-03-04T05:00:02Z",
            },
        },
        {"name": "b.service", "state": "running"},
    ],
    "accounts": [{"name": "mate", "kind": "user", "exists": True}],
    "files": [
        *({"path": path, "exists": False} for path in ABSENT),
        {"path": "/root/.arc", "kind": "file", "owner": "root", "group": "root", "mode": "0600"},
    ],
    "listeners": [{"port": 8080, "protocol": "tcp", "address": "0.0.0.0", "service": "b.service", "process": 71}],
}
RUNS = [
    (
        "a default in place of a file",
        "port-held",
        ["config file /etc/a/extra.conf not found, using defaults", "bind: 0.0.0.0:8080: Address already in use"],
    ),
    (
        "a refusal that is ignored",
        "config-rejected",
        ["could not read /root/.arc: Permission denied (ignored)", "unknown directive foo in /etc/a.conf:3"],
    ),
    (
        "an exception that was handled",
        "port-held",
        [
            "Traceback (most recent call last):",
            '  File "/opt/a/app.py", line 10, in load',
            "FileNotFoundError: [Errno 2] No such file or directory: '/var/cache/a/state.json'",
            "",
            "During handling of the above exception, another exception occurred:",
            "",
            "Traceback (most recent call last):",
            '  File "/opt/a/app.py", line 22, in main',
            "OSError: [Errno 98] error while attempting to bind on address ('0.0.0.0', 8080): address already in use",
        ],
    ),
    (
        "an exception that led to another",
        "path-missing",
        [
            "Traceback (most recent call last):",
            "FileNotFoundError: [Errno 2] No such file or directory: '/srv/a/in'",
            "The above exception was the direct cause of the following exception:",
            "Traceback (most recent call last):",
            "RuntimeError: cannot start",
        ],
    ),
    (
        "a warning with its reason, and the error",
        "port-held",
        [
            "WARN  Config - cannot load extra settings",
            "Caused by: java.io.FileNotFoundException: /etc/a/optional.properties (No such file or directory)",
            "ERROR Main - start failed",
            "Caused by: java.net.BindException: Address already in use: 0.0.0.0:8080",
        ],
    ),
    (
        "a reason that was only warned of, and a bare end",
        "path-missing",
        ["WARN cannot open /srv/a/in: No such file or directory", "ERROR start failed"],
    ),
    (
        "a library that it does without",
        "account-missing",
        [
            "optional plugin not loaded: /usr/lib/a/extra.so: cannot open shared object file: No such file or directory",
            "unknown user 'quay'",
        ],
    ),
]


@pytest.mark.parametrize(("cause", "words"), [run[1:] for run in RUNS], ids=[run[0] for run in RUNS])
def test_the_reason_stands_alone(run: Run, tmp_path: Path, cause: str, words: list[str]) -> None:
    told = [
        {"at": "2026-03-04T05:00:01Z", "service": "a.service", "source": "journal (a)", "process": 312, "text": text}
        for text in words
    ]
    (tmp_path / "facts.json").write_bytes(document({**FACTS, "events": told}))
    verdict = run("why", "a", "--host", "quay", "--from", "facts.json", "--json").json
    assert [found["cause"] for found in verdict["causes"]] == [cause], json.dumps(verdict["causes"])[:2000]


def test_a_line_alone_that_does_without_is_a_hint_at_most(run: Run, tmp_path: Path) -> None:
    text = "config file /etc/a/extra.conf not found, using defaults"
    told = [{"at": "2026-03-04T05:00:01Z", "service": "a.service", "source": "journal (a)", "text": text}]
    (tmp_path / "facts.json").write_bytes(document({**FACTS, "events": told}))
    first = run("why", "a", "--host", "quay", "--from", "facts.json", "--json").json["causes"][0]
    assert first["confidence"] <= 0.7


@pytest.mark.parametrize(
    "text",
    [
        "no such file, ignoring",
        "falling back to IPv4",
        "cannot open x: using the default",
        "not found (optional)",
        "missing: will be created",
    ],
)
def test_it_goes_on_without(text: str) -> None:
    assert does_without(text)


@pytest.mark.parametrize(
    "text",
    [
        "cannot open /srv/a/in",
        "the default is wrong",
        "retrying in 2 s",
        "required file is missing",
        "unknown option: ignore",
    ],
)
def test_it_does_not(text: str) -> None:
    assert not does_without(text)


def test_the_managers_records_and_seen_calls_stay() -> None:
    at = datetime(2026, 3, 4, 5, tzinfo=UTC)
    manager = Event(
        at=at,
        service="a.service",
        source="journal (systemd)",
        text="a.service: WARNING: ignored",
        trust="trusted",
        process=1,
    )
    own = Event(at=at, service="a.service", source="journal (a)", text="/etc/x not found, ignored", process=9)
    end = Event(at=at, service="a.service", source="journal (a)", text="ERROR: /etc/y: Permission denied", process=9)
    kept = unsettled([manager, own, end])
    assert end in kept
    assert own not in kept
    assert not manager.by_manager or manager in kept
