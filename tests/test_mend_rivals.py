"""Rival explanations: a sequence of tries, ordered by expected cost; one that did not hold is taken back before the next."""

from __future__ import annotations

from pathlib import Path

import pytest

from hollow_chain.causes import Evidence, Facts, Finding, Mend
from hollow_chain.causes import acts as say
from hollow_chain.chain import Graph
from hollow_chain.facts.codec import decode
from hollow_chain.mend.carrying import Carrier
from hollow_chain.mend.guarding import Guard
from hollow_chain.mend.journal import all_in, locked
from hollow_chain.mend.lab_hands import LabHands
from hollow_chain.mend.outcome import MendOutcome
from hollow_chain.mend.plan import Plan
from hollow_chain.mend.planning import Planner
from hollow_chain.trouble import Trouble
from hollow_chain.verdict import Cause, Verdict
from hollow_chain.verdict.below import on_top, way_of
from tests.conftest import Run
from tests.test_mend_lab import definitions, host, running, services

__all__ = ["host"]


def cause(facts: Facts, name: str, sure: float, *mends: Mend, place: str = "LaneCount") -> Cause:
    """A made-up cause at a place."""
    node = facts.graph.node("quay-lab", place)
    finding = Finding(
        name, (Evidence("seen", "somewhere"),), mends, residual=True, cause=name, host="quay-lab", service=place
    )
    return Cause(finding, sure, way_of((node,)))


def planned(path: Path, *causes: tuple[str, float, tuple[Mend, ...]]) -> Plan:
    """The plan for causes that nobody is sure of."""
    facts = Facts(Graph(decode(path.read_bytes())))
    target = facts.graph.node("quay-lab", "LaneCount")
    found = [cause(facts, name, sure, *mends) for name, sure, mends in causes]
    return Planner(facts, runs=60).plan(Verdict(target, "stopped", facts.graph.hosts["quay-lab"].read_at, found))


START = Mend("Start it.", acts=(say.start("LaneCount"),))
WAIT = Mend("Let it wait.", acts=(say.wait("LaneCount", "PlateStore"),))
BY_HAND = Mend("Oil the counter.")


@pytest.fixture()
def stopped(run: Run, host: Path) -> Path:
    run("lab", "stop", "host", "LaneCount")
    return host


def test_the_cheapest_for_its_chances_is_first(stopped: Path) -> None:
    plan = planned(
        stopped, ("exits-with-error", 0.45, (BY_HAND,)), ("start-race", 0.25, (WAIT,)), ("stopped", 0.3, (START,))
    )
    assert [one.causes[0][0] for one in plan.tries] == ["stopped", "start-race", "exits-with-error"]
    ratios = [one.cost / one.probability for one in plan.tries]
    assert ratios == sorted(ratios)
    assert all("stays up" in one.look and one.proof is not None and one.proof.holds for one in plan.tries)


def test_tries_that_do_the_same_are_one(stopped: Path) -> None:
    plan = planned(stopped, ("stopped", 0.4, (START,)), ("killed", 0.3, (START,)))
    assert len(plan.tries) == 1 and plan.tries[0].probability == 0.7
    assert [answer[0] for answer in plan.tries[0].causes] == ["stopped", "killed"]


def carrier(path: Path) -> Carrier:
    return Carrier(LabHands(path.parent), lambda text: None, watch=10)


def applied(path: Path, plan: Plan) -> MendOutcome:
    carries = carrier(path)
    with locked(carries.hands.place):
        return carries.apply(plan)


def sequence(path: Path) -> Plan:
    """A start that will not hold, then the wait that is really missing; both are still found when their turn comes."""
    return planned(path, ("stopped", 0.5, (START,)), ("start-race", 0.4, (WAIT, START)))


def test_what_did_not_hold_is_taken_back_before_the_next_try(
    run: Run, host: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for call in (
        "stop NightJob",
        "stop BoardWeb",
        "stop PlateStore",
        "fault hidden LaneCount PlateStore",
        "stop LaneCount",
    ):
        command, *words = call.split()
        assert run("lab", command, "host", *words).status == 0
    # What is supposed here is not what the rules would find; whether it is still found is tried elsewhere.
    monkeypatch.setattr(Guard, "check", lambda *_: None)
    before = definitions(host)
    plan = sequence(host)
    assert [len(one.steps) for one in plan.tries] == [1, 2]
    outcome = applied(host, plan)
    assert outcome.well, (outcome.summary, outcome.checks)
    assert {"LaneCount", "PlateStore"} <= running(host)
    assert [link["to"] for link in services(host)["LaneCount"]["links"]] == ["NetBase", "PlateStore"]
    journal = all_in(host.parent / "mends")[0]
    steps = [(one.what, one.attempt) for one in journal.records if one.what in ("before", "undone")]
    assert steps[:2] == [("before", 0), ("undone", 0)] and {attempt for what, attempt in steps[2:]} == {1}
    assert carrier(host).undo(journal).well
    assert definitions(host) == before and "LaneCount" not in running(host)


def test_a_try_for_a_person_is_waited_for_after_those_of_the_machine(run: Run, stopped: Path) -> None:
    run("lab", "fault", "host", "crash", "LaneCount")
    plan = planned(stopped, ("stopped", 0.5, (START,)), ("exits-with-error", 0.4, (BY_HAND,)))
    outcome = applied(stopped, plan)
    assert not outcome.well and outcome.waits_for == (1, "Oil the counter.")
    (journal,) = all_in(stopped.parent / "mends")
    assert journal.standing.asked == (1, 0) and not journal.standing.closed
    run("lab", "heal", "host")
    # Nothing shows whether the counter is oiled: the start tells.
    assert carrier(stopped).done(journal, 1).well and "LaneCount" in running(stopped)
    with pytest.raises(Trouble, match="waits for nobody"):
        carrier(stopped).done(journal, 1)


def test_unsure_causes_at_different_places_are_no_rivals(run: Run, stopped: Path) -> None:
    for name in ("NightJob", "BoardWeb", "PlateStore"):
        run("lab", "stop", "host", name)
    facts = Facts(Graph(decode(stopped.read_bytes())))
    target = facts.graph.node("quay-lab", "BoardWeb")
    below = cause(facts, "killed", 0.6, Mend("Start it.", acts=(say.start("PlateStore"),)), place="PlateStore")
    own = cause(
        facts, "start-race", 0.7, Mend("Let it wait.", acts=(say.wait("BoardWeb", "LaneCount"),)), place="BoardWeb"
    )
    below = Cause(below.finding, below.confidence, on_top(target, below.way))
    unlikely = cause(facts, "disk-full", 0.2, BY_HAND, place="PlateStore")
    unlikely = Cause(unlikely.finding, 0.2, below.way)
    verdict = Verdict(target, "stopped", facts.graph.hosts["quay-lab"].read_at, [own, below])
    plan = Planner(facts, runs=60).plan(verdict)
    assert len(plan.tries) == 1 and {answer[0] for answer in plan.tries[0].causes} == {"killed", "start-race"}
    assert plan.offered
    contested = Planner(facts, runs=60).plan(Verdict(target, "stopped", verdict.read_at, [own, below, unlikely]))
    assert [{answer[0] for answer in one.causes} for one in contested.tries] == [
        {"killed", "start-race"},
        {"disk-full", "start-race"},
    ]
