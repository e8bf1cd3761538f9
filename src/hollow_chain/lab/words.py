"""What the stand-in host says: the family's error numbers, and the records that it writes."""

from __future__ import annotations

from typing import NamedTuple

NOT_REGISTERED, DISABLED, RUNS_ALREADY, NOT_RUNNING, NEEDED_BY_RUNNING = 1060, 1058, 1056, 1062, 1051
NEED_FAILED, NEED_NOT_REGISTERED, CIRCLE, TIMED_OUT, ENDED = 1068, 1075, 1059, 1053, 1067
SOURCE = "event log"


class Said(NamedTuple):
    """How a failure shows."""

    number: int
    result: str
    text: str
    """The record; ``{name}``, ``{blame}``, ``{thing}``, ``{program}``, ``{account}``, ``{endpoint}``, ``{port}``."""
    exit_status: int | None = None


FAILURES: dict[str, Said] = {
    "start-timeout": Said(TIMED_OUT, "timeout", "{name} did not answer within its start limit"),
    "disabled": Said(NEED_FAILED, "dependency", "{name} was not started: {blame} cannot be started"),
    "not-registered": Said(NEED_NOT_REGISTERED, "dependency", "{name} was not started: {blame} is not registered"),
    "dependency-cycle": Said(CIRCLE, "dependency", "{name} was not started: it waits for itself over others"),
    "needs": Said(NEED_FAILED, "dependency", "{name} was not started: {blame} did not start"),
    "start-race": Said(ENDED, "exit-code", "connect to {endpoint} failed: connection refused", 7),
    "port-held": Said(ENDED, "exit-code", "bind to port {port} failed: address already in use (10048)", 1),
    "held-by-peer": Said(32, "exit-code", "cannot open {thing}: it is in use by another process", 1),
    "account-barred": Said(1069, "resources", "{name} could not log on as {account}"),
    "account-missing": Said(1069, "resources", "{name} could not log on as {account}"),
    "program-missing": Said(2, "resources", "{name} was not started: {program} was not found"),
    "access-denied": Said(5, "exit-code", "access is denied", 5),
    "exits-with-error": Said(ENDED, "exit-code", "{name} ended unexpectedly", 3),
}
_OTHER = FAILURES["exits-with-error"]


def of(cause: str) -> Said:
    """How a failure of that cause shows."""
    return FAILURES.get(cause, _OTHER)


ANSWERS = {
    NOT_REGISTERED: "no service of that name is registered",
    DISABLED: "it is disabled",
    RUNS_ALREADY: "it runs already",
    NOT_RUNNING: "it does not run",
    NEEDED_BY_RUNNING: "others that run need it: {}",
}
