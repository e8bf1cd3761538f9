"""Who could have written it: what records say of themselves is believed as far as the journal itself bears it out."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hollow_chain.causes import Case, Evidence, Facts, Finding, Mend, Rule
from hollow_chain.causes.acts import start
from hollow_chain.causes.finding import DOUBT, FITS, HINT, PROOF, SAID, TELLS
from hollow_chain.causes.nature import Boot
from hollow_chain.chain import Graph
from hollow_chain.facts import Host, Service, snapshot
from hollow_chain.facts.host import Event
from hollow_chain.facts.runs import LastRun
from hollow_chain.sources.systemd.journal import STOPPED, event_of, trust_of
from hollow_chain.verdict import diagnose

NOON = datetime(2026, 3, 4, 12, 0, tzinfo=UTC)
MANAGER = {
    "_PID": "1",
    "_UID": "0",
    "_COMM": "systemd",
    "SYSLOG_IDENTIFIER": "systemd",
    "MESSAGE_ID": STOPPED,
    "UNIT": "a.service",
}
FORGED = {
    **MANAGER,
    "_PID": "4711",
    "_UID": "1001",
    "_COMM": "logger",
    "CONFIG_FILE": "/etc/shadow",
    "CONFIG_LINE": "1",
    "ERRNO": "98",
}
OWN = {**FORGED, "_SYSTEMD_UNIT": "a.service", "_COMM": "systemd"}
FORKED = {
    "_PID": "99",
    "_UID": "1001",
    "_EXE": "/usr/lib/systemd/systemd",
    "_SYSTEMD_UNIT": "a.service",
    "SYSLOG_IDENTIFIER": "systemd",
}


def test_the_manager_is_believed() -> None:
    event = event_of({**MANAGER, "CONFIG_FILE": "/etc/a", "CONFIG_LINE": "3", "MESSAGE": "x"}, "a.service", NOON)
    assert (event.trust, event.by_manager, event.code, event.file, event.line) == (
        "trusted",
        True,
        STOPPED,
        "/etc/a",
        3,
    )


@pytest.mark.parametrize(
    ("fields", "trust"), [(FORGED, "told"), (OWN, "own")], ids=["a stranger", "the service itself"]
)
def test_others_are_not_whatever_they_call_themselves(fields: dict[str, str], trust: str) -> None:
    event = event_of(fields, "a.service", NOON)
    assert event.trust == trust and "systemd" not in event.source
    assert (event.code, event.file, event.line, event.number) == ("", "", None, None)


def test_the_manager_between_fork_and_program_speaks_as_the_unit() -> None:
    event = event_of(
        {**FORKED, "MESSAGE": "a.service: Failed at step EXEC spawning /x: No such file"}, "a.service", NOON
    )
    assert (event.by_manager, event.trust, event.code) == (True, "own", "")
    assert event_of({**FORKED, "_SYSTEMD_UNIT": "b.service"}, "a.service", NOON).by_manager is False


def test_the_kernel_and_root_are_believed() -> None:
    assert trust_of({"_TRANSPORT": "kernel"}, "a.service") == "trusted"
    assert trust_of({"_UID": "0", "_PID": "77", "_SYSTEMD_UNIT": "b.service"}, "a.service") == "trusted"


@given(
    st.dictionaries(
        st.sampled_from([*FORGED, "PRIORITY", "MESSAGE", "_EXE", "_TRANSPORT", "UNIT"]), st.text(max_size=40)
    )
)
def test_no_fields_break_the_reading(fields: dict[str, str]) -> None:
    event = event_of(fields, "a.service", NOON)
    assert event.service == "a.service"
    if event.code:
        assert fields["_PID"] == "1" and fields["_UID"] == "0"
    if event.by_manager:
        assert fields.get("_PID") == "1" or fields.get("_EXE", "").startswith(("/usr/lib/systemd/", "/lib/systemd/"))


def case_of(**more: Any) -> Case:
    service = Service(
        name="a.service", state="failed", startup="automatic", last=LastRun(result="exit-code", started_at=NOON)
    )
    facts = Facts(Graph(snapshot([Host(name="h", read_at=NOON, services=[service], **more)])))
    return Case(facts, facts.graph.node("h", "a.service"))


def test_words_bear_on_a_claim_as_far_as_they_cannot_be_forged() -> None:
    def worth(trust: Any, bears: str) -> tuple[str, bool]:
        piece = case_of().quoted(Event(at=NOON, text="x", trust=trust), bears)
        return piece.bears, piece.told

    assert [worth(trust, PROOF) for trust in ("", "trusted", "own", "told")] == [
        (PROOF, False), (PROOF, False), (SAID, True), (HINT, True),
    ]  # fmt: skip
    assert [worth("told", bears)[0] for bears in (SAID, FITS, HINT, DOUBT, TELLS)] == [HINT, HINT, HINT, TELLS, TELLS]


def finding(*evidence: Evidence) -> Finding:
    return Finding("x", evidence, mends=(Mend("Start it.", acts=(start("a.service"),)),))


@pytest.mark.parametrize(
    ("evidence", "acts"),
    [
        ((Evidence("said", "journal", bears=SAID, told=True),), 0),
        ((Evidence("said", "journal", bears=SAID, told=True), Evidence("seen", "files", bears=TELLS)), 0),
        ((Evidence("said", "journal", bears=SAID, told=True), Evidence("seen", "files", bears=SAID)), 1),
        ((Evidence("seen", "files"),), 1),
    ],
    ids=["words alone", "beside what weighs nothing", "borne out", "no words at all"],
)
def test_nothing_is_changed_for_words_alone(evidence: tuple[Evidence, ...], acts: int) -> None:
    def look(case: Case) -> list[Finding]:
        return [finding(*evidence)]

    found = next(iter(Rule("x", "host", look, Boot.STAYS).findings(case_of())))
    assert len(found.mends[0].acts) == acts and found.mends[0].does == "Start it."


@pytest.mark.parametrize(
    ("trust", "cause"), [("trusted", "maintenance-left-stopped"), ("own", "stopped"), ("told", "stopped")]
)
def test_maintenance_is_what_root_recorded(trust: Any, cause: str) -> None:
    last = LastRun(result="success", started_at=NOON, up_at=NOON, ended_at=NOON + timedelta(hours=1))
    service = Service(name="a.service", state="stopped", startup="automatic", last=last)
    said = Event(at=NOON + timedelta(hours=1), service="a.service", text="stopping for an upgrade", trust=trust)
    host = Host(
        name="h",
        read_at=NOON + timedelta(hours=2),
        boot_at=NOON - timedelta(hours=1),
        services=[service],
        events=[said],
    )
    facts = Facts(Graph(snapshot([host])))
    assert [c.finding.cause for c in diagnose(facts, facts.graph.node("h", "a.service")).causes] == [cause]
