"""The last run of a unit, from what the manager keeps of it."""

from __future__ import annotations

from datetime import datetime

from hollow_chain.facts.runs import LastRun
from hollow_chain.sources.systemd.values import FOREVER, MOST_ARGUMENTS, Properties, moment, said, seconds
from hollow_chain.wording.secrets import mask_arguments

_CHILD_EXITED = 1
"""``CLD_EXITED`` (sigaction(2)): the main process ended by itself."""


def last_run_of(facts: Properties, kind: str) -> LastRun | None:
    """What the properties of a unit tell of its last run; None where it has not run."""
    started = moment(facts.get("InactiveExitTimestamp"))
    result = facts.get("Result", "")
    if started is None and result in ("", "success"):
        return None
    code, status = facts.get("ExecMainCode", 0), facts.get("ExecMainStatus", 0)
    step, command_line = "", list[str]()
    step_program = ""
    for name in ("ExecCondition", "ExecStartPre", "ExecStartPost"):
        for command in facts.get(name, ()):
            ignored, ended_code, ended_status = command[2], command[8], command[9]
            if not ignored and ended_code and (ended_code != _CHILD_EXITED or ended_status):
                step, step_program, code, status = name, command[0], ended_code, ended_status
                command_line = mask_arguments(list(command[1]))[:MOST_ARGUMENTS]
    main = moment(facts.get("ExecMainStartTimestamp")) if kind == "service" else None
    if not step and not code and result in _OF_A_PROCESS:
        step, step_program, command_line = _step_before_program(facts, main, started)
    # Waiting for the next try of a restart moves the unit's moment: where the program itself ran last, its own counts.
    begun = main if main and not step and facts.get("NRestarts", 0) else _later(main, started)
    return LastRun(
        result=result,
        exit_status=status if code == _CHILD_EXITED else None,
        signal=status if code > _CHILD_EXITED else None,
        started_at=begun,
        up_at=moment(facts.get("ActiveEnterTimestamp")),
        ended_at=moment(facts.get("InactiveEnterTimestamp")) or moment(facts.get("ExecMainExitTimestamp")),
        left_up_at=moment(facts.get("ActiveExitTimestamp")),
        step=step,
        step_program=step_program,
        step_arguments=command_line or None,
        took=_took(facts),
        cpu_seconds=cpu / 1e9 if isinstance(cpu := facts.get("CPUUsageNSec"), int) and 0 < cpu < FOREVER else None,
        restarts=facts.get("NRestarts", 0),
        reload_result=reloaded if (reloaded := str(facts.get("ReloadResult", ""))) != "success" else "",
        status_text=said(facts.get("StatusText", "")),
    )


_OF_A_PROCESS = ("exit-code", "signal", "core-dump", "timeout", "exec-condition")
"""Results of a start that a process of it came to (systemd.exec(5), ``$SERVICE_RESULT``)."""
_BEFORE_PROGRAM = ("ExecCondition", "ExecStartPre")


def _step_before_program(
    facts: Properties, main: datetime | None, started: datetime | None
) -> tuple[str, str, list[str]]:
    """The step that a start failed in which never came to the program, where it can be but one: how each step ended the manager forgets
    when it reads its definitions anew. Its program and command line, where only one command can have failed."""
    commands = [(name, command) for name in _BEFORE_PROGRAM for command in facts.get(name, ()) if not command[2]]
    # Of a program that forks the beginning is not kept: its start is a step itself.
    came_to_it = facts.get("Type") == "forking" or started is None or (main is not None and main >= started)
    if not commands or came_to_it or len({name for name, _ in commands}) > 1:
        return "", "", []
    name, command = commands[0]
    if len(commands) > 1:
        return name, "", []
    return name, command[0], mask_arguments(list(command[1]))[:MOST_ARGUMENTS]


def _took(facts: Properties) -> float | None:
    """From the beginning of the last start to its end; None where it is under way, or has failed."""
    begun, up, ended = (
        facts.get(f"{name}TimestampMonotonic") or 0 for name in ("InactiveExit", "ActiveEnter", "InactiveEnter")
    )
    if begun and up >= begun:
        return seconds(up - begun)
    if begun and ended >= begun and not up and facts.get("Result") == "success":
        return seconds(ended - begun)
    return None


def _later(one: datetime | None, other: datetime | None) -> datetime | None:
    """The later moment: a restart does not move the unit's, a failing step before the program not the program's."""
    return max(one, other) if one and other else one or other
