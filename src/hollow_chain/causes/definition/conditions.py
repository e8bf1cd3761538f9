"""Conditions of a start that do not hold."""

from __future__ import annotations

import re
from collections.abc import Iterator

from hollow_chain.causes.case import Case
from hollow_chain.causes.finding import PROOF, Finding, Mend
from hollow_chain.causes.nature import Boot
from hollow_chain.causes.rule import cause
from hollow_chain.causes.standing import EXEC_CONDITION, passed_over, skipped
from hollow_chain.chain import HARD
from hollow_chain.facts.habits import is_of_instance
from hollow_chain.facts.service import Condition, Service
from hollow_chain.lazy import pattern

_MACHINE_CONDITIONS = pattern(
    r"(Virtualization|Architecture|Firmware|Host|Kernel|Security|Capability|ACPower|NeedsUpdate|FirstBoot|"
    r"CPUFeature|Memory$|CPUs|Control(Group|lers)|OSRelease|Pressure|Credential)"
)


@cause("condition-unmet", Boot.ANEW, states=("stopped", "failed", "unknown"))
def condition_unmet(case: Case) -> Iterator[Finding]:
    """A start condition does not hold, so the manager passes the service over without a failure.

    Looks at: the outcome of each condition when it was last tested.
    Convinced by: one that did not hold and that a technician can change (a file, a folder, an account).
    Against: nobody goes without it: then the manager did as it was told, and it is a note. An assertion makes the start fail.
    Mend: provide what the condition asks for, or change the condition.
    """
    service = case.service
    if not skipped(service):
        return
    unmet = [c for c in service.conditions if c.outcome == "unmet"]
    if passed_over(service) and not unmet:
        yield _command_said_no(case)
        return
    if any(is_of_instance(service, c.parameter) and not c.negated for c in unmet):
        return
    by_nature = all(
        _MACHINE_CONDITIONS.search(c.kind) or (c.parameter + "/").startswith(("/sys/", "/proc/", "/dev/"))
        for c in unmet
    )
    said = ", ".join(_in_words(c) for c in unmet[:3])
    yield Finding(
        says=f"{service.name} was {'refused a' if _asserts(unmet) else 'skipped at its'} start: {said}.",
        evidence=tuple(
            case.seen(f"{c.kind}={'!' if c.negated else ''}{c.parameter} does not hold", bears=PROOF) for c in unmet[:5]
        ),
        mends=(Mend(_provide(unmet[0], service)), Mend(f"Then start {service.name}.", only_starts=True)),
        # An assertion makes the start fail, unlike a condition (systemd.unit(5), "AssertArchitecture=").
        note=by_nature or (not _asserts(unmet) and not _is_gone_without(case)),
        explains=("stopped", "never-started", "manual-not-started"),
    )


def _is_gone_without(case: Case) -> bool:
    """Whether something that is not well cannot do without the service."""
    if case.needed_from is not None:
        return True
    return any(not case.facts.standing(edge.tail).well for edge in case.graph.needed_by(case.node, HARD))


def _asserts(unmet: list[Condition]) -> bool:
    return any(one.kind.startswith("Assert") for one in unmet)


def _command_said_no(case: Case) -> Finding:
    """A start condition that is a command, and ended with a status that means no (systemd.service(5), ``ExecCondition=``)."""
    service, last = case.service, case.service.last
    program = last.step_program if last is not None and last.step == "ExecCondition" else ""
    status = f" with status {last.exit_status}" if last is not None and last.exit_status else ""
    said = [case.quoted(e) for e in case.last_events() if not e.by_manager][-2:]
    return Finding(
        says=f"{service.name} was skipped at its start: its condition ExecCondition={program or ' (a command)'} ended{status}.",
        evidence=(
            case.seen(
                f"result {EXEC_CONDITION}: the command ended{status}", at=last.ended_at if last else None, bears=PROOF
            ),
            *said,
        ),
        mends=(
            Mend(f"See what {program or 'that command'} asks for, and provide it or change the condition.", seeks=True),
            Mend(f"Then start {service.name}.", only_starts=True),
        ),
        explains=("stopped", "never-started", "manual-not-started", "exits-with-error"),
    )


def _in_words(condition: Condition) -> str:
    kind = re.sub(r"^(Condition|Assert)", "", condition.kind)
    words = re.sub(r"(?<=[a-z])(?=[A-Z])", " ", kind).lower()
    what = "assertion" if condition.kind.startswith("Assert") else "condition"
    return f"its {what} \u201c{words} {'is not ' if condition.negated else ''}{condition.parameter}\u201d does not hold"


def _provide(condition: Condition, service: Service) -> str:
    if condition.parameter.startswith("/"):
        verb = "Remove" if condition.negated else "Provide"
        return f"{verb} {condition.parameter}, if {service.name} is meant to run here."
    return f"Provide what {condition.kind}={condition.parameter} asks for, or change the condition."
