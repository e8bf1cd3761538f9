"""What the stand-in host says: the family's error numbers, and the records that it writes."""

from __future__ import annotations

from hollow_chain.boot.plan import NEEDS
from hollow_chain.causes import named, rule_of
from hollow_chain.causes.nature import Shown

NOT_REGISTERED, DISABLED, RUNS_ALREADY, NOT_RUNNING, NEEDED_BY_RUNNING, NOT_TAKEN = 1060, 1058, 1056, 1062, 1051, 1052
NEED_FAILED, NEED_NOT_REGISTERED, CIRCLE, TIMED_OUT, ENDED = 1068, 1075, 1059, 1053, 1067
"""Error numbers of the control-manager family (winerror.h, ``ERROR_SERVICE_*``)."""
SOURCE = "event log"


_NEEDS = Shown(NEED_FAILED, "dependency", "{name} was not started: {blame} did not start")
"""How it shows that a need did not come up."""


def of(cause: str) -> Shown:
    """How a start that fails by that cause shows; where nothing is known of that, as an end with an error."""
    if cause == NEEDS:
        return _NEEDS
    shown = rule_of(cause).shown or rule_of(named.EXITS_WITH_ERROR).shown
    assert shown is not None
    return shown


ANSWERS = {
    NOT_REGISTERED: "no service of that name is registered",
    DISABLED: "it is disabled",
    RUNS_ALREADY: "it runs already",
    NOT_RUNNING: "it does not run",
    NOT_TAKEN: "it does not take that request now",
    NEEDED_BY_RUNNING: "others that run need it: {}",
}
