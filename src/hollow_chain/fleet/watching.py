"""What has changed from one survey to the next, in a form that a log or a mail takes."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from hollow_chain.fleet.surveying import UNREAD, HostLine, Survey

DOWN, WELL_AGAIN, AT_RISK, SAFE_AGAIN = "not well", "well again", "down after next boot", "up after next boot"
UNREAD_NOW, READ_AGAIN, NEW, GONE = "not read", "read again", "new host", "gone"


class WatchedEvent(NamedTuple):
    """One thing that has changed."""

    event: str
    host: str
    service: str = ""
    """Empty: the host as a whole."""
    cause: str = ""
    says: str = ""


def changed(old: Survey, new: Survey) -> Iterator[WatchedEvent]:
    """What has changed from *old* to *new*, host by host. Of a host that is not read nothing is known to have changed."""
    before = {line.host: line for line in old.lines}
    after = {line.host: line for line in new.lines}
    causes = _causes(new)
    for host in sorted(before.keys() | after.keys()):
        was, now = before.get(host), after.get(host)
        if now is None:
            yield WatchedEvent(GONE, host)
        else:
            yield from _of_host(was, now, causes)


_Causes = dict[str, list[tuple[str, str, str]]]


def _causes(survey: Survey) -> _Causes:
    """By the host that it sits on: the service, the cause, and what is said."""
    found: _Causes = {}
    for one in survey.causes:
        for host in (*one.hosts, *one.takes_along):
            found.setdefault(host, []).append((one.service, one.cause, one.says))
    return found


def _of_host(was: HostLine | None, now: HostLine, causes: _Causes) -> Iterator[WatchedEvent]:
    if was is None:
        yield WatchedEvent(NEW, now.host)
    if now.stands == UNREAD:
        if was is None or was.stands != UNREAD:
            yield WatchedEvent(UNREAD_NOW, now.host, says=now.why)
        return
    if was is not None and was.stands == UNREAD:
        yield WatchedEvent(READ_AGAIN, now.host)
    sick = set(was.services) if was is not None else set()
    known = causes.get(now.host, [])
    for service in sorted(set(now.services) - sick):
        cause, says = next(((cause, says) for at, cause, says in known if at == service), ("", ""))
        if not cause and known:
            cause, says = known[0][1], known[0][2]
        yield WatchedEvent(DOWN, now.host, service, cause, says)
    risk = set(was.at_risk) if was is not None else set()
    for service in sorted(set(now.at_risk) - risk):
        yield WatchedEvent(AT_RISK, now.host, service)
    if was is None or was.stands == UNREAD:
        return
    for service in sorted(sick - set(now.services)):
        yield WatchedEvent(WELL_AGAIN, now.host, service)
    for service in sorted(risk - set(now.at_risk) - set(now.services)):
        yield WatchedEvent(SAFE_AGAIN, now.host, service)


def with_last_known(old: Survey, new: Survey) -> Survey:
    """*new*, in which hosts that are not read keep what was last known of their services: when they are read again, that is compared."""
    before = {line.host: line for line in old.lines}
    lines = [
        line._replace(services=before[line.host].services, at_risk=before[line.host].at_risk)
        if line.stands == UNREAD and line.host in before
        else line
        for line in new.lines
    ]
    return new._replace(lines=lines)
