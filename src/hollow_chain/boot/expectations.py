"""What to expect of the next boot from what is known now: which faults will be there again, who will race whom.

A cause that was found now is one of three kinds: it *stays* (a reboot does not put back a missing program), it is *over*
with a reboot (a process that nobody restarts), or it *arises anew* in each boot from durations and order, which the
simulation does by itself. Which of them a cause is, is said where it is registered.

A diagnosis is right or wrong in all boots alike, so what is likeliest is taken to be so in each of them; how sure it is goes
beside the figures (:class:`~hollow_chain.boot.plan.Presumed`). A share of boots is only what differs from boot to boot: durations,
races, events, and starts that on record failed now and then.
"""

from __future__ import annotations

from msgspec.structs import replace

from hollow_chain.boot.durations import prior_of, work_of
from hollow_chain.boot.making import Expected
from hollow_chain.boot.plan import Fault, Presumed
from hollow_chain.causes import Facts, Finding, Standing, named, rule_of
from hollow_chain.causes.nature import Boot
from hollow_chain.chain import Node
from hollow_chain.facts.host import Host
from hollow_chain.facts.service import Service
from hollow_chain.families import family_of
from hollow_chain.verdict import Cause, diagnose_all

LIKELY = 0.5
"""From this probability on a cause is taken to be there; where none is so likely, the likeliest of them."""
_DIES_LATER = ("simple", "idle", "")
"""Start types that count as up before the program has shown that it stays."""
_SHORT_LIFE = 0.2
"""Seconds after which a program dies that the records only tell to have died at once: long enough to be up for those that wait
for its start alone, as it was on record."""


def expected_of(facts: Facts, host: Host, by_hand: bool = False) -> Expected:
    """What the verdicts on *host* mean for its next boot; for a start now, where it is *by_hand*."""
    expected = Expected()
    for node, causes in _by_node(facts, host).values():
        likely = [cause for cause in causes if cause.confidence >= LIKELY] or causes[:1]
        for cause in likely:
            if not _is_over(node, cause.finding, host, by_hand):
                _expect(facts, host, expected, node.name, cause.finding, cause.confidence)
    for service in host.services:
        odds = _odds_by_record(service)
        if odds and service.name not in expected.faults:
            expected.faults[service.name] = Fault(named.EXITS_WITH_ERROR, odds, _after(service, host))
    _first_after_change(facts, host, expected)
    return expected


def _by_node(facts: Facts, host: Host) -> dict[str, tuple[Node, list[Cause]]]:
    """The causes on *host*, likeliest first, by the service whose starts they are about."""
    found: dict[str, tuple[Node, list[Cause]]] = {}
    for verdict in diagnose_all(facts):
        for cause in verdict.causes:
            place = facts.graph.node(cause.finding.host, cause.finding.service)
            here = place.host == host.name and not _serves_badly(facts, place)
            # What another host does wrong, or a service that runs, is seen on what stands on it and is down.
            node = place if here else verdict.target
            if node.host == host.name and (here or not facts.standing(node).well):
                found.setdefault(node.name, (node, []))[1].append(cause)
    for _, causes in found.values():
        causes.sort(key=lambda cause: -cause.confidence)
    return found


def _first_after_change(facts: Facts, host: Host, expected: Expected) -> None:
    """The first boot after a change goes by the definitions on disk, which the records and what runs now know nothing of."""
    changed = [
        s for s in host.services if s.definition is not None and s.definition.needs_reload and s.definition.on_disk
    ]
    index = facts.index(host.name)
    for service in changed:
        words = service.definition.on_disk if service.definition else {}
        program, user = words.get("ExecStart", "").partition(" ")[0], words.get("User") or words.get("account", "")
        file, account = index.file(program) if program else None, index.accounts.get(("user", user))
        if file is not None and not file.exists:
            expected.faults[service.name] = Fault(named.PROGRAM_MISSING)
        elif account is not None and not account.exists:
            expected.faults[service.name] = Fault(named.ACCOUNT_MISSING)
        if program:
            known, prior = work_of(service, host), prior_of(service, host)
            expected.works[service.name] = replace(known, spread=max(known.spread, prior.between), records=0)
    if changed:
        names = ", ".join(service.name for service in changed[:5]) + (" ..." if len(changed) > 5 else "")
        expected.notes.append(
            f"{len(changed)} start by definitions that were changed since they were loaded ({names}): this boot is the first by "
            "them, and may differ from those on record"
        )


def _serves_badly(facts: Facts, node: Node) -> bool:
    return node.service is not None and facts.standing(node) is Standing.UP


def _expect(facts: Facts, host: Host, expected: Expected, name: str, finding: Finding, confidence: float) -> None:
    service, cause, holder = facts.graph.find(host.name, name), finding.cause, finding.holder
    boot = rule_of(cause).boot
    if service is None or (boot is Boot.ANEW and finding.host == host.name):
        return
    rival = facts.graph.find(host.name, holder) if holder else None
    known = expected.taken.get(name)
    if known is None or known.sure < confidence:
        expected.taken[name] = Presumed(cause, confidence)
    if boot is Boot.USES:
        if rival is not None and rival.name not in expected.uses.get(name, ()):
            expected.uses.setdefault(name, []).append(rival.name)
        return
    if boot is Boot.RIVALRY and holder:
        # A holder that is no service is not started again by the boot.
        if rival is not None and rival.name != name:
            expected.rivals.append((name, rival.name, cause))
        return
    if expected.taken[name].cause == cause or name not in expected.faults:
        expected.faults[name] = Fault(cause, 1.0, _after(service, host))


def _is_over(node: Node, finding: Finding, host: Host, by_hand: bool) -> bool:
    """Whether a boot of *host*, or a start now (*by_hand*), puts it right: a start by hand is all that some lack, crashes excepted."""
    rule = rule_of(finding.cause)
    if finding.host != host.name or not rule.is_over(node.service):
        return False
    return rule.lacks_only_a_start or not by_hand


def _after(service: Service, host: Host) -> float | None:
    """How long it stays up before the fault ends it; None where the start itself fails."""
    last = service.last
    if not family_of(host).up_means_ready:
        style = service.program.style if service.program else ""
        if style not in _DIES_LATER or (last is not None and last.step):
            return None
    elif last is None or last.up_at is None:
        return None
    if last is not None and last.up_at and last.ended_at and last.ended_at > last.up_at:
        return max((last.ended_at - last.up_at).total_seconds(), 1e-3)
    return _SHORT_LIFE


def _odds_by_record(service: Service) -> float:
    """The chance that a start fails, from its records: those that ran out of time are not counted, time is simulated."""
    failed = sum(start.outcome == "failed" for start in service.starts)
    came_up = sum(start.outcome == "up" for start in service.starts)
    return failed / (failed + came_up + 1) if failed and came_up else 0.0
