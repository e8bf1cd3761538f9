"""Complaints that name no place: what is refused, or absent, need not be a file, and the nearest closed or absent one is then not meant."""

from __future__ import annotations

import pytest

from hollow_chain.causes import Facts
from hollow_chain.chain import Graph
from hollow_chain.facts.codec import decode
from hollow_chain.verdict import diagnose
from tests.test_cases import document

PLACES = [
    {"path": "/srv/a/key", "owner": "root", "group": "root", "mode": "0600"},
    {"path": "/srv/a/berths", "exists": False},
]
BY_SETTINGS = {
    "named": [
        {"path": "/srv/a/key", "source": "key in /etc/a"},
        {"path": "/srv/a/berths", "source": "berths in /etc/a"},
    ]
}
BY_ARGUMENTS = {"paths": ["/srv/a/key"]}
FILES = {
    "fatal: permission denied": "/srv/a/key",
    "cannot read private key: Permission denied": "/srv/a/key",
    "berth directory does not exist": "/srv/a/berths",
    "berth file not found": "/srv/a/berths",
    "No such file or directory": "/srv/a/berths",
}
OTHERS = (
    "PermissionError: [Errno 13] Permission denied",
    "bind() failed: Permission denied", "setrlimit: Operation not permitted", "socket: Operation not permitted",
    "ioctl(SIOCSIFFLAGS): Operation not permitted", "permission denied for table berths", "access denied for user 'mate'@'localhost'",
    "401 Unauthorized: permission denied", "kill(12): Operation not permitted", "connect: Permission denied", "sudo: permission denied",
    "user berth does not exist", 'role "berth" does not exist', "table berth does not exist", "database berth does not exist",
    "berth 7 not found", "module berth not found", "host berth not found", "error: unit berth not found",
    "key not found: BERTH", "column berth does not exist", "No such process", "No such device", "class berth.Main not found",
    "symbol not found: berth", "no such container: berth", "index berth not found", "volume berth not found", "route not found",
)  # fmt: skip


def first(text: str, program: dict[str, object]) -> tuple[str, str, float]:
    facts = Facts(Graph(decode(document({
        "services": [{
            "name": "a.service", "state": "failed", "startup": "automatic", "account": {"user": "mate", "group": "mate"},
            "program": {"path": "/usr/bin/a", "arguments": ["/usr/bin/a"], **program}, "last": {"result": "exit-code", "exit_status": 1},
        }],
        "events": [{"at": "2026-03-04T05:00:01Z", "service": "a.service", "source": "journal (a)", "process": 7, "text": text}],
        "files": PLACES,
        "accounts": [{"name": "mate", "id": 1000}],
    }))))  # fmt: skip
    cause = diagnose(facts, facts.graph.node("quay", "a.service")).causes[0]
    return cause.finding.cause, cause.finding.says, cause.confidence


@pytest.mark.parametrize("text", FILES)
def test_the_one_place_of_its_settings_that_will_not_do_is_likely_meant(text: str) -> None:
    cause, says, sure = first(text, BY_SETTINGS)
    assert cause in ("access-denied", "path-missing") and FILES[text] in says and sure < 0.9, (cause, says, sure)


@pytest.mark.parametrize("program", [BY_SETTINGS, BY_ARGUMENTS], ids=["by settings", "by arguments"])
@pytest.mark.parametrize("text", OTHERS)
def test_what_is_no_matter_of_files_is_pinned_on_none(text: str, program: dict[str, object]) -> None:
    cause, says, _ = first(text, program)
    assert "/srv/a" not in says, (cause, says)
