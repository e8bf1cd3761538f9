"""The line of its settings with the word that a run ended on, where nothing else tells what it could not use."""

from __future__ import annotations

from pathlib import Path

import pytest

from hollow_chain.causes import Facts
from hollow_chain.chain import Graph
from hollow_chain.facts.host import snapshot
from hollow_chain.families.messages import STARTED
from hollow_chain.verdict import diagnose
from hollow_chain.verdict.judge import Cause
from tests.made_host import MadeHost

SETTINGS = "listen: 127.0.0.1\nberthz: 12\nmode: tidal\n# mode: ebbing\n"


def told(made: MadeHost) -> Cause:
    """The first cause of the desk."""
    host = made.read()
    read = Facts(Graph(snapshot([host])))
    return diagnose(read, read.graph.node(host.name, "desk.service")).causes[0]


@pytest.fixture
def desk(tmp_path: Path) -> MadeHost:
    """A host with a desk that failed with an error of its own."""
    made = MadeHost(tmp_path)
    made.put("/usr/bin/true", "#!/bin/sh\n", 0o755)
    made.put("/bin/sh", "", 0o755)
    made.put("/etc/desk/desk.yaml", SETTINGS)
    made.failed("desk.service", command=("/usr/bin/true", "/etc/desk/desk.yaml"))
    return made


@pytest.mark.parametrize(
    ("says", "line"),
    [
        ('DataError: can not match "berthz" to any class field', 2),
        ("fatal: no adapter for 'tidal' here", 3),
        ("error: `berthz` was left over", 2),
    ],
)
def test_the_line_with_the_word_is_named(desk: MadeHost, says: str, line: int) -> None:
    desk.says("desk.service", says)
    first = told(desk)
    assert first.finding.cause == "config-rejected" and f"/etc/desk/desk.yaml:{line}" in first.finding.says
    assert first.confidence <= 0.6


def test_a_line_that_came_since_it_last_was_up_is_likely(desk: MadeHost) -> None:
    desk.put("/etc/desk/desk.yaml", SETTINGS, age=70)
    by_manager = {"_PID": "1", "_UID": "0", "_COMM": "systemd", "UNIT": "desk.service", "_SYSTEMD_UNIT": "init.scope"}
    desk.says("init.scope", "Started desk.service.", 900, MESSAGE_ID=STARTED, **by_manager)
    desk.says("desk.service", 'DataError: can not match "berthz" to any class field')
    assert 0.8 < told(desk).confidence < 0.95


@pytest.mark.parametrize(
    "says", ["fatal: no berth is free", "fatal: 'ebbing' is over", "fatal: 'desk.yaml' and 'quay'"]
)
def test_other_words_are_none_of_its_settings(desk: MadeHost, says: str) -> None:
    desk.says("desk.service", says)
    assert told(desk).finding.cause == "exits-with-error"


def test_what_its_own_words_say_goes_before(desk: MadeHost) -> None:
    desk.says("desk.service", "fatal: cannot open 'berthz': Permission denied")
    assert told(desk).finding.cause != "config-rejected"
