"""The verdict as a whole: properties that hold on any facts, and how rivals and doubts are told."""

from __future__ import annotations

import io
from datetime import UTC, datetime, timedelta
from pathlib import Path

from hypothesis import HealthCheck, assume, given, settings
from hypothesis import strategies as st
from rich.console import Console

from hollow_chain.causes import Facts, Finding, Standing
from hollow_chain.chain import Graph
from hollow_chain.facts import Host, Link, Service, Snapshot, snapshot
from hollow_chain.facts.host import (
    OF_RECORDS,
    BootRecord,
    Event,
    File,
    HostAccount,
    HostLimits,
    Listener,
    Process,
    Unread,
)
from hollow_chain.facts.runs import LastRun, Start
from hollow_chain.facts.service import Account, Claim, Condition, Confinement, Definition, Limits, Program, Trigger
from hollow_chain.show.documents import to_json, verdict_document
from hollow_chain.show.page import Page
from hollow_chain.show.why import show_all, show_verdict
from hollow_chain.sources import files
from hollow_chain.verdict import diagnose, diagnose_all, is_missed

NOON = datetime(2026, 3, 4, 12, 0, tzinfo=UTC)
NAMES = [
    "a.service",
    "b.service",
    "c@1.service",
    "c@.service",
    "d.socket",
    "e.mount",
    "dev-f.device",
    "g.target",
    "Case",
]
PATHS = ["/a", "/etc/b.conf", "/etc/c-1.conf", "/run/d.pid", "/srv", "D:/x/y.exe"]
WORDS = [
    "bind 0.0.0.0:80: Address already in use", "open /etc/b.conf: No such file or directory", "/etc/b.conf:3: unknown option",
    "cannot lock /run/d.pid: pid 55", "write /srv/x: no space left on device", "mkdir /srv/x: permission denied",
    "connection refused", "listen 10.9.9.9:1: cannot assign requested address", "Found ordering cycle", "hello [bold] \x1b[2J", "",
]  # fmt: skip
moments = st.none() | st.integers(-(10**6), 10**4).map(lambda s: NOON + timedelta(seconds=s))
names = st.sampled_from(NAMES)
paths = st.sampled_from(PATHS)
small = st.none() | st.integers(0, 300)

links = st.builds(
    Link, to=names | st.just("ghost"), kind=st.sampled_from(["hard", "soft", "order", "clash"]), host=st.sampled_from(["", "", "h2", "h9"]),
    word=st.sampled_from(["", "Requires", "BindsTo", "Requisite"]), pulls=st.booleans(), stops=st.booleans(),
)  # fmt: skip
last_runs = st.builds(
    LastRun, exit_status=small, signal=st.none() | st.integers(1, 70), restarts=st.integers(0, 50), started_at=moments, up_at=moments,
    error_number=st.sampled_from([None, 0, 2, 1053, 1058, 1068, 1069, 1077, 10048]), ended_at=moments, left_up_at=moments,
    result=st.sampled_from(["", "success", "exit-code", "signal", "timeout", "start-limit-hit", "oom-kill", "protocol", "core-dump"]),
)  # fmt: skip
services = st.builds(
    Service,
    name=names,
    kind=st.sampled_from(["service", "socket", "mount", "device", "target", "timer"]),
    state=st.sampled_from(["running", "starting", "stopping", "stopped", "done", "paused", "failed", "unknown"]),
    detail=st.sampled_from(["", "activating (auto-restart)"]),
    startup=st.sampled_from(["automatic", "delayed", "manual", "event", "on-need", "disabled", "unknown"]),
    template=st.booleans(),
    template_of=st.sampled_from(["", "c@.service"]),
    instance=st.sampled_from(["", "1"]),
    wanted_by=st.lists(st.just("g.target"), max_size=1),
    links=st.lists(links, max_size=4),
    triggers=st.lists(st.builds(Trigger, kind=st.sampled_from(["socket", "bus"]), name=names, due_at=moments), max_size=2),
    conditions=st.lists(
        st.builds(Condition, kind=st.sampled_from(["ConditionPathExists", "AssertPathExists", "ConditionHost"]), parameter=paths,
                  negated=st.booleans(), optional=st.booleans(), outcome=st.sampled_from(["met", "unmet", "untested"])), max_size=2),
    definition=st.none() | st.builds(Definition, file=paths, load=st.sampled_from(["loaded", "refused", "masked", "missing"]),
                                     needs_reload=st.booleans(), enabled_at=moments, on_disk=st.just({"User": "x"}) | st.just({})),
    program=st.none() | st.builds(Program, path=paths, folder=paths, style=st.sampled_from(["simple", "oneshot", "notify"]),
                                  paths=st.lists(paths, max_size=2), environment_files=st.lists(paths, max_size=1)),
    account=st.none() | st.builds(Account, user=st.sampled_from(["", "mate", "root"]), dynamic=st.booleans()),
    last=st.none() | last_runs,
    limits=st.none() | st.builds(Limits, start_seconds=st.none() | st.floats(-1, 1e9), memory_bytes=st.none() | st.integers(0, 1 << 40)),
    confinement=st.none() | st.builds(Confinement, read_only=st.lists(paths, max_size=2), hidden=st.lists(paths, max_size=1)),
    starts=st.lists(st.builds(Start, at=st.just(NOON), seconds=st.floats(0, 1e6)), max_size=2),
    claims=st.lists(st.builds(Claim, port=st.integers(0, 90), address=st.sampled_from(["", "::", "10.0.0.1", "nonsense"])), max_size=2),
)  # fmt: skip


def host(name: str) -> st.SearchStrategy[Host]:
    return st.builds(
        Host,
        name=st.just(name),
        manager=st.sampled_from(["systemd", "control-manager"]),
        read_at=st.none() | st.just(NOON),
        boot_at=moments,
        architecture=st.sampled_from(["", "x86_64"]),
        services=st.lists(services, max_size=7, unique_by=lambda s: s.name),
        listeners=st.lists(st.builds(Listener, port=st.integers(0, 90), address=st.sampled_from(["", "::", "0.0.0.0", "10.0.0.1"]),
                                     process=st.integers(0, 60), service=names | st.just("")), max_size=3),
        processes=st.lists(st.builds(Process, process=st.just(55), service=names), max_size=1),
        accounts=st.lists(st.builds(HostAccount, name=st.just("mate"), exists=st.booleans(), locked=st.none() | st.booleans(),
                                    expires_at=moments), max_size=1),
        files=st.lists(st.builds(File, path=paths, exists=st.booleans(), mode=st.sampled_from(["", "0600", "0755", "x"]),
                                 kind=st.sampled_from(["file", "folder"]), executable=st.none() | st.booleans(),
                                 format=st.sampled_from(["", "elf aarch64", "script", "empty", "pe"]), changed_at=moments,
                                 names_process=st.sampled_from([0, 55, 56])), max_size=4),
        events=st.lists(st.builds(Event, at=st.just(NOON), text=st.sampled_from(WORDS), service=names,
                                  by_manager=st.booleans()), max_size=5),
        limits=st.none() | st.builds(HostLimits, start_seconds=st.none() | st.floats(-1, 1e9), delayed_seconds=st.none() | st.floats(0, 1e9)),
        boots=st.just([BootRecord(at=NOON)]),
        unread=st.lists(st.just(Unread(what="the journal", why="no rights", part=OF_RECORDS)), max_size=1),
    )  # fmt: skip


snapshots = st.tuples(host("h"), host("h2")).map(lambda pair: snapshot(list(pair)))
thorough = settings(
    max_examples=250, deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large]
)


@thorough
@given(snapshots)
def test_on_any_facts_a_verdict_keeps_its_promises(document: Snapshot) -> None:
    graph = Graph(document)
    facts = Facts(graph)
    for node in [*graph.nodes(), graph.node("h", "ghost")]:
        verdict = diagnose(facts, node, "error 1053")
        assert verdict.healthy == (not verdict.causes)
        for cause in verdict.causes:
            finding = cause.finding
            assert finding.evidence
            assert not finding.note
            assert 0 < cause.confidence <= 1
            assert cause.chain[0].key == node.key
            assert cause.chain[-1].key == (finding.host, finding.service)
            assert len({n.key for n in cause.chain}) == len(cause.chain)
            for upper, lower in zip(cause.chain, cause.chain[1:], strict=False):
                below = {edge.head.key for edge in graph.needs(upper, frozenset(("hard", "soft", "order")))}
                below |= {graph.node(upper.host, t.name).key for t in (upper.service.triggers if upper.service else ())}
                assert lower.key in below
        confidences = [cause.confidence for cause in verdict.causes]
        assert confidences == sorted(confidences, reverse=True)
        if node.service is not None and not facts.standing(node).well:
            assert verdict.causes, "what is not well is never called healthy"
        text = to_json(verdict_document(verdict))
        assert "\x1b" not in text


@thorough
@given(snapshots)
def test_any_verdict_can_be_shown_without_harm(document: Snapshot) -> None:
    facts = Facts(Graph(document))
    out = io.StringIO()
    page = Page(Console(file=out, width=60, highlight=False, markup=False, emoji=False))
    for node in facts.graph.nodes():
        show_verdict(page, facts, diagnose(facts, node))
    show_all(page, facts, list(diagnose_all(facts)))
    assert "\x1b" not in out.getvalue()


def agree(document: Snapshot) -> int:
    """Compare the look at the whole fleet with single looks; how many services it is about."""
    fleet = {v.target.key: v for v in diagnose_all(Facts(Graph(document)))}
    facts = Facts(Graph(document))
    for key, together in fleet.items():
        single = diagnose(facts, facts.graph.node(*key))
        assert [(c.finding.cause, c.finding.service, c.confidence) for c in together.causes] == [
            (c.finding.cause, c.finding.service, c.confidence) for c in single.causes
        ]
    for node in facts.graph.nodes():
        assert facts.standing(node).well or node.key in fleet, "not well, and passed over"
    return len(fleet)


@thorough
@given(snapshots)
def test_the_fleet_and_the_single_look_agree(document: Snapshot) -> None:
    agree(document)


questions = st.lists(
    st.tuples(
        st.integers(0, 13),
        st.sampled_from(["", "", "error 1053", "connect to 127.0.0.1:80 failed: connection refused"]),
    ),
    min_size=2,
    max_size=6,
)


def told(facts: Facts, question: tuple[int, str]) -> list[tuple[str, str, float]]:
    nodes = list(facts.graph.nodes())
    verdict = diagnose(facts, nodes[question[0] % len(nodes)], question[1])
    return [(c.finding.cause, c.finding.service, c.confidence) for c in verdict.causes]


@settings(max_examples=80, deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large])
@given(snapshots, questions)
def test_an_answer_does_not_depend_on_what_was_asked_before(document: Snapshot, asked: list[tuple[int, str]]) -> None:
    assume(any(host.services for host in document.hosts))
    shared = Facts(Graph(document))
    for question in asked:
        assert told(shared, question) == told(Facts(Graph(document)), question)
    assert list(diagnose_all(shared)) == list(diagnose_all(Facts(Graph(document))))


def test_the_fleet_and_the_single_look_agree_on_the_demo(demo_facts: Path) -> None:
    assert agree(files.read(demo_facts)) > 15


def test_a_claim_without_evidence_cannot_be_made() -> None:
    try:
        Finding(says="something", evidence=())
    except ValueError:
        return
    raise AssertionError("a claim without evidence was made")


def one(services: list[Service], **fields: object) -> Facts:
    return Facts(
        Graph(snapshot([Host(name="h", read_at=NOON, boot_at=NOON - timedelta(hours=9), services=services, **fields)]))
    )  # type: ignore[arg-type]


def failed(**last: object) -> LastRun:
    return LastRun(result="exit-code", exit_status=1, started_at=NOON, ended_at=NOON, **last)  # type: ignore[arg-type]


def test_what_could_not_be_read_lowers_the_confidence_and_is_told() -> None:
    service = Service(name="a", state="failed", startup="automatic", last=failed())
    sure = diagnose(one([service]), one([service]).graph.node("h", "a"))
    facts = one([service], unread=[Unread(what="the journal", why="no rights", part=OF_RECORDS)])
    dim = diagnose(facts, facts.graph.node("h", "a"))
    assert dim.causes[0].confidence < sure.causes[0].confidence
    assert dim.unread == ["h: the journal (no rights)"]


def test_where_nothing_explains_it_the_next_look_is_named() -> None:
    facts = one(
        [
            Service(
                name="a", state="failed", startup="automatic", last=failed(), program=Program(log_files=["/var/log/a"])
            )
        ]
    )
    verdict = diagnose(facts, facts.graph.node("h", "a"))
    assert verdict.next_look is not None
    assert "hollow-chain observe a" in verdict.next_look.does and "starts a" in verdict.next_look.why


def test_a_disabled_service_is_missed_only_where_something_needs_it() -> None:
    idle = Service(name="low", state="stopped", startup="disabled")
    alone = one([idle])
    assert alone.standing(alone.graph.node("h", "low")) is Standing.IDLE
    assert not is_missed(alone, alone.graph.node("h", "low"))
    needed = one(
        [idle, Service(name="top", state="failed", startup="automatic", links=[Link(to="low")], last=failed())]
    )
    assert is_missed(needed, needed.graph.node("h", "low"))


def test_a_loop_is_told_once_and_on_the_member_nearest_to_the_target() -> None:
    def member(name: str, below: str) -> Service:
        both = [Link(to=below), Link(to=below, kind="order")]
        return Service(name=name, state="stopped", startup="automatic", links=both)

    top = Service(name="top", state="stopped", startup="automatic", links=[Link(to="b")])
    facts = one([top, member("a", "b"), member("b", "c"), member("c", "a")])
    verdict = diagnose(facts, facts.graph.node("h", "top"))
    cycles = [c for c in verdict.causes if c.finding.cause == "dependency-cycle"]
    assert [c.finding.service for c in cycles] == ["b"]
    assert sorted(cycles[0].finding.loop) == ["a", "b", "c"]


def test_a_service_of_which_nobody_tells_how_it_stands_gets_no_cause_and_no_all_clear() -> None:
    for manager in ("control-manager", "systemd"):
        service = Service(name="tide", startup="manual", last=LastRun())
        facts = Facts(Graph(snapshot([Host(name="office", manager=manager, services=[service])])))
        verdict = diagnose(facts, facts.graph.node("office", "tide"))
        assert verdict.is_untold and "is not told" in verdict.summary
