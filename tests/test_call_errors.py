"""What the C library calls its errors, at the end of a line: each is read as what it is, and none as a word about a configuration."""

from __future__ import annotations

import errno
import os
from datetime import UTC, datetime

import pytest

from hollow_chain.causes import Facts
from hollow_chain.chain import Graph
from hollow_chain.facts.codec import decode
from hollow_chain.facts.host import Event
from hollow_chain.verdict import diagnose
from hollow_chain.wording.complaints import config_errors
from tests.test_cases import document

NOON = datetime(2026, 3, 4, 12, tzinfo=UTC)
SERVICE = {
    "name": "a.service", "state": "failed", "startup": "automatic", "program": {"path": "/usr/bin/a", "arguments": ["/usr/bin/a"]},
    "last": {"result": "exit-code", "exit_status": 1, "started_at": "2026-03-04T05:00:00Z", "ended_at": "2026-03-04T05:00:02Z"},
}  # fmt: skip
TELLING = {
    "ENOSPC": "disk-full", "EDQUOT": "disk-full", "EMFILE": "limit-reached", "ENFILE": "limit-reached", "ENOMEM": "limit-reached",
    "EADDRINUSE": "port-held", "EADDRNOTAVAIL": "address-missing", "EHOSTUNREACH": "host-unreachable", "EHOSTDOWN": "host-unreachable",
    "ENETUNREACH": "host-unreachable", "ENETDOWN": "host-unreachable", "ETIMEDOUT": "host-unreachable",
}  # fmt: skip
"""What an error tells without a name beside it; of the others a line alone tells no more than that the program ended over it."""


@pytest.mark.parametrize("name", sorted(set(errno.errorcode.values())))
def test_an_error_of_a_call_is_read_as_what_it_is(name: str) -> None:
    line = f"ERROR: quay: set-up of the desk: {os.strerror(getattr(errno, name))}"
    assert config_errors([Event(at=NOON, text=line, service="a.service")]) == []
    told = [{"at": "2026-03-04T05:00:01Z", "service": "a.service", "source": "journal (a)", "process": 7, "text": line}]
    facts = Facts(Graph(decode(document({"services": [SERVICE], "events": told}))))
    first = diagnose(facts, facts.graph.node("quay", "a.service")).causes[0]
    assert first.finding.cause == TELLING.get(name, "exits-with-error")
    assert first.confidence <= 0.8
