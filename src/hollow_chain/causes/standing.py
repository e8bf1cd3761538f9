"""Is a service well, by itself? The one place that reads a state together with its startup type.

"Not running" has as many meanings as there are startup types; this module keeps them apart.
"""

from __future__ import annotations

from datetime import timedelta
from enum import Enum

from hollow_chain.facts.host import Host
from hollow_chain.facts.service import Service, is_deserted
from hollow_chain.families import family_of
from hollow_chain.families.steps import step_of
from hollow_chain.families.times import delayed_after, start_limit

DELAYED_GRACE = 180.0
"""How much later than that a delayed service may still be on its way: the group starts one after the other."""

NO_TRY_SINCE_BOOT = 1077
"""Control-manager error number: no start was tried since the last boot."""
SIGTERM = 15
"""The signal that the manager sends to stop a service (systemd.kill(5), ``KillSignal=``)."""

GAVE_UP_OVER = ("service-start-limit-hit", "unit-start-limit-hit", "trigger-limit-hit")
"""Results of a unit that starts another one on its event, and gave up over it (systemd.socket(5), systemd.path(5))."""

JUST_NOW = 10.0
"""Seconds for which a service that ended and was restarted has not yet shown that it stays."""


SETTLES_IN = 1.5
"""Seconds that a service has to be up before "it runs" is said of it: most programs that cannot go on end within one."""


class Standing(Enum):
    """How a service stands."""

    UP = "up"
    NOT_YET = "not yet"
    IDLE = "idle"
    """Not up, and nothing says that it should be."""
    DOWN = "down"
    UNSTABLE = "unstable"
    """Up at this moment, or about to be, but it keeps ending."""

    @property
    def well(self) -> bool:
        """Whether nothing is wrong with the service by itself."""
        return self not in (Standing.DOWN, Standing.UNSTABLE)


def standing(service: Service, host: Host, up_targets: frozenset[str] | None = None) -> Standing:
    """How *service* of *host* stands, from its own facts and the *up_targets* of its host (see there) alone."""
    state = service.state
    if service.definition is not None and service.definition.load == "refused" and state not in ("running", "starting"):
        return Standing.DOWN
    if state == "running":
        if is_deserted(service):
            return Standing.DOWN
        # The only look that a healthy service costs.
        return Standing.UNSTABLE if service.last is not None and flaps(service, host) else Standing.UP
    if state == "done":
        return Standing.UP
    if service.template:
        return Standing.IDLE
    if state in ("failed", "paused") or (service.progress is not None and hangs(service, host)):
        return Standing.DOWN
    if state == "starting":
        return _of_starting(service, host)
    if state == "stopping":
        in_vain = _was_watched_in_vain(service, host) or _stops_for_too_long(service, host)
        return Standing.DOWN if in_vain else Standing.NOT_YET
    return _of_stopped(service, host, up_targets)


def hangs(service: Service, host: Host) -> str:
    """How a start or stop that is under way does not come along: ``gone``, its process is not there any more; ``still``, it has not
    counted on for longer than it said that it would need. Empty where it may come along."""
    progress = service.progress
    if progress is None or service.state not in ("starting", "stopping"):
        return ""
    if progress.process_runs is False:
        return "gone"
    began = service.last.started_at if service.last is not None else None
    since = (host.read_at - began).total_seconds() if began is not None and host.read_at is not None else 0.0
    waited = max(progress.looked_for, since if progress.checkpoint <= 1 and service.state == "starting" else 0.0)
    return "still" if progress.moves is False and waited > progress.wait_hint else ""


def flaps(service: Service, host: Host) -> bool:
    """Whether it was restarted by the manager again and again (or once, within seconds), the last time just now.

    "Just now" is measured in the service's own pace: a service that has been up for longer than twice its
    average time between restarts, or for a quarter of an hour, has settled.
    """
    last = service.last
    if last is None or not last.restarts or (last.well_before or 0.0) >= _REAL_RUN:
        return False
    since = last.up_at or last.started_at
    if since is None or host.read_at is None:
        return service.state != "running"
    up_for = (host.read_at - since).total_seconds()
    if last.restarts == 1:
        return up_for < JUST_NOW
    if host.boot_at is None or up_for < 30:
        return up_for < 30
    pace = (host.read_at - host.boot_at).total_seconds() / last.restarts
    return up_for < min(900.0, 2 * pace)


_REAL_RUN = 60.0
"""Seconds of a run that ended well, after which a start anew is meant so, and no sign of trouble: as of a console after a logout."""


def unsettled(service: Service | None, host: Host) -> float:
    """How many seconds later it is worth another look whether *service* stays up; 0 where it has been up long enough, or is not up."""
    last = service.last if service is not None else None
    if (
        service is None
        or service.state != "running"
        or service.kind != "service"
        or last is None
        or host.read_at is None
    ):
        return 0.0
    up_for = (host.read_at - last.up_at).total_seconds() if last.up_at is not None else SETTLES_IN
    return SETTLES_IN - up_for if 0 <= up_for < SETTLES_IN else 0.0


def between_restarts(service: Service) -> bool:
    """Whether the manager is waiting to start it again after it ended."""
    return service.state == "starting" and "auto-restart" in service.detail


def _was_watched_in_vain(service: Service, host: Host) -> bool:
    """Whether somebody watched its start for as long as it may take, and it did not come up, or was not meant to end and did at once."""
    seen = {one.outcome for one in host.observed or () if one.service == service.name}
    return "not-up" in seen or ("ended" in seen and service.state == "stopped")


def _was_seen_to_fail(service: Service, host: Host) -> bool:
    """Whether a start of it was watched and failed: the next try, which is under way since, has not shown anything else yet."""
    return any(one.service == service.name and one.outcome == "failed" for one in host.observed or ())


def _of_starting(service: Service, host: Host) -> Standing:
    last = service.last
    if _was_watched_in_vain(service, host):
        return Standing.DOWN
    if _was_seen_to_fail(service, host):
        return Standing.UNSTABLE
    if between_restarts(service):
        ended_well = last is not None and last.result == "success" and not last.exit_status and last.restarts < 2
        return Standing.NOT_YET if ended_well else Standing.UNSTABLE
    if (last is not None and last.restarts >= 2) or _failed_and_is_restarted(service):
        return Standing.UNSTABLE
    if service.progress is not None and service.progress.moves is not None:
        # It reports, and was looked at twice: its own word holds, and no limit (SERVICE_STATUS, "dwWaitHint").
        return Standing.NOT_YET
    return Standing.DOWN if overdue(service, host) is not None else Standing.NOT_YET


def _failed_and_is_restarted(service: Service) -> bool:
    """Whether the manager has restarted it before, and its last run ended badly: on the way up once more, in the queue or begun."""
    last = service.last
    return last is not None and bool(last.restarts) and last.result not in ("", "success")


STOP_SECONDS = 90.0
"""The limit of a stop where the facts tell none (systemd-system.conf(5), ``DefaultTimeoutStopSec=``)."""
_TWICE = 2
"""A stop is given its limit once to end by itself, and once more after it was killed."""


def _stops_for_too_long(service: Service, host: Host) -> bool:
    """Whether a stop that is under way has outlasted its limit by far: then it hangs."""
    since = service.last.left_up_at if service.last is not None else None
    if since is None or host.read_at is None:
        return False
    own = service.limits.stop_seconds if service.limits is not None else None
    limit = own if own is not None and own > 0 else STOP_SECONDS
    return own != -1 and (host.read_at - since).total_seconds() > _TWICE * limit


def overdue(service: Service, host: Host) -> float | None:
    """By how many seconds a start that is under way has outlasted its limit; None where it has not, or where the manager sees to it."""
    last, limit = service.last, start_limit(service, host)
    if family_of(host).limits_hold or last is None or last.started_at is None or host.read_at is None or limit is None:
        return None
    taken = (host.read_at - last.started_at).total_seconds()
    return taken - limit.seconds if taken > limit.seconds else None


EXEC_CONDITION = "exec-condition"
"""Result of a start that a condition of its own, which is a command, passed over (systemd.service(5), ``ExecCondition=``)."""


def _of_stopped(service: Service, host: Host, targets: frozenset[str] | None) -> Standing:
    if service.job is not None and service.job.kind in ("start", "restart"):
        if service.job.state not in ("waiting", "running"):
            return Standing.DOWN
        return Standing.UNSTABLE if _failed_and_is_restarted(service) else Standing.NOT_YET
    if _condition_failed(service) or (host.observed and _was_watched_in_vain(service, host)):
        return Standing.DOWN
    if _tried_in_vain(service, host):
        return Standing.DOWN
    if service.startup == "delayed":
        return Standing.NOT_YET if delayed_left(service, host) is not None else Standing.DOWN
    if service.startup == "event" or (service.triggers and family_of(host).triggers_start_any):
        return Standing.NOT_YET
    if service.startup != "automatic" or skipped(service):
        return Standing.IDLE
    if _may_have_been_passed_over(service):
        return Standing.IDLE
    return Standing.DOWN if should_be_up(service, up_targets(host) if targets is None else targets) else Standing.IDLE


_NO_FAILURE = (None, 0, 1056, 1058, 1062, 1077)
"""Error numbers of the control-manager family that say nothing of a start: runs already, disabled, does not run, not tried."""


def _tried_in_vain(service: Service, host: Host) -> bool:
    """Whether a service was started since the boot and failed, whatever its startup type. Only the control-manager family needs to be
    asked: it has no state for that, and calls such a service stopped. It keeps the number of a failure until the next boot."""
    last = service.last
    if family_of(host).has_failed_state or last is None:
        return False
    if last.started_at is not None and host.boot_at is not None and last.started_at < host.boot_at:
        return False
    if last.error_number is not None:
        return last.error_number not in _NO_FAILURE
    return last.started_at is not None and last.result not in ("", "success")


def _may_have_been_passed_over(service: Service) -> bool:
    """Whether nobody has started it, and nobody knows whether its conditions hold: the manager may have passed it over, rightly."""
    return service.last is None and any(c.outcome == "untested" for c in service.conditions)


def up_targets(host: Host) -> frozenset[str]:
    """The targets of *host* that have been reached."""
    return frozenset(s.name for s in host.services if s.kind == "target" and s.state == "running")


def should_be_up(service: Service, reached: frozenset[str]) -> bool:
    """Whether something that is up wants the service up (systemd: the targets that it was enabled for)."""
    if not service.wanted_by:
        return True
    if service.kind == "target":
        return False
    return not reached or any(target in reached for target in service.wanted_by)


def delayed_left(service: Service, host: Host) -> float | None:
    """Seconds until the moment of a delayed service, 0 while its group is being started; None when it has passed."""
    if host.boot_at is None or host.read_at is None:
        return None
    begins = delayed_after(host)
    since_boot = (host.read_at - host.boot_at) / timedelta(seconds=1)
    tried = service.last is not None and service.last.started_at is not None and service.last.started_at >= host.boot_at
    if tried or since_boot > begins + DELAYED_GRACE:
        return None
    return max(0.0, begins - since_boot)


def _condition_failed(service: Service) -> bool:
    """Whether the command of a start condition could not even be run: that is no condition that does not hold."""
    last = service.last
    return last is not None and last.result == EXEC_CONDITION and step_of(last.exit_status) is not None


def passed_over(service: Service) -> bool:
    """Whether a command that is a start condition said that it is not to be started."""
    return service.last is not None and service.last.result == EXEC_CONDITION and not _condition_failed(service)


def skipped(service: Service) -> bool:
    """Whether the manager passed it over because a start condition did not hold.

    Of the conditions marked as optional, one has to hold; of the others, all (systemd.unit(5)).
    """
    if passed_over(service):
        return True
    optional = [c.outcome for c in service.conditions if c.optional]
    if optional and "unmet" in optional and "met" not in optional:
        return True
    return any(c.outcome == "unmet" and not c.optional for c in service.conditions)


_ANSWERS = frozenset((1051, 1052, 1055, 1056, 1061))
"""Control-manager error numbers with which a request is refused because of what the service is about to do (winerror.h): of one that is
under way they tell no end of a run."""
_UNDER_WAY = ("starting", "stopping", "running")


def failed_last(service: Service) -> bool:
    """Whether the last run ended badly by the manager's own words or numbers."""
    last = service.last
    if last is None:
        return False
    if is_deserted(service):
        return True
    if last.restarts > 0 and service.state in ("starting", "running"):
        return True  # the run before this one ended so that the manager had to start it again
    if last.error_number not in (None, 0, NO_TRY_SINCE_BOOT):
        return not (last.error_number in _ANSWERS and service.state in _UNDER_WAY)
    if last.result == EXEC_CONDITION:
        return _condition_failed(service)
    if last.result not in ("", "success"):
        return True
    return last.exit_status not in (None, 0) or (last.signal not in (None, SIGTERM) and not last.result)
