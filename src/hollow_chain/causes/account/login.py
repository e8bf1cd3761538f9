"""Logins at other services: the account, or its password, that the one who is called refuses."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta

from hollow_chain.causes.case import SOCKETS, Case
from hollow_chain.causes.finding import FITS, HINT, SAID, Evidence, Finding, Mend
from hollow_chain.causes.nature import Boot, When
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.facts.endpoints import is_loopback
from hollow_chain.facts.host import Event
from hollow_chain.wording.forms import read, says
from hollow_chain.wording.things import endpoints_of, named_endpoints

_REFUSED = "login refused"
_NEAR_ITS_END = timedelta(seconds=15)
"""Before the end of a run, what it ends over is said: clients give up a login after some seconds, and servers refuse others all day."""


@cause("login-refused", Boot.STAYS, states=NOT_UP, when=When.SPOKE)
def login_refused(case: Case) -> Iterator[Finding]:
    """Another service, which it calls, does not let it in: the account, the password or the key that it gives there is refused.

    Looks at: log lines that say so, with the account and the address that they name; who listens at that address.
    Convinced by: such a line that the run did not go on after.
    Against: a run that went on after it: then it was the login of somebody else at this service, or one that it can do without.
    Mend: put the account or its password right, here or there; no password is ever shown.
    """
    said = [event for event in case.own_events() if says(event.text, _REFUSED)]
    if not said:
        return
    event = said[-1]
    over = case.outlived(event) is not None or _is_long_ago(case, event)
    account = next((name for one in reversed(said) for name in read(one.text).named(_REFUSED, "account")), "")
    where, served = _called(case, event)
    who = f" as '{account}'" if account else ""
    yield Finding(
        says=f"{case.service.name} could not log in{who} at {where or 'a service that it uses'}: it was refused there.",
        evidence=(case.quoted(event, HINT if over else SAID), *served),
        mends=(
            Mend(
                f"Put the account or its password right in the settings of {case.service.name}"
                f"{f', or the account {account!r} at' if account else ', or at'} {where or 'the other side'}; "
                f"then start {case.service.name}."
            ),
        ),
        holder=account,
        residual=over,
        explains=() if over else ("exits-with-error", "crash-loop", "exits-at-once", "start-timeout"),
    )


def _is_long_ago(case: Case, event: Event) -> bool:
    """Whether the run went on for a while after it, without a word."""
    ended = case.service.last.ended_at if case.service.last is not None else None
    return ended is not None and ended - event.at > _NEAR_ITS_END


def _called(case: Case, event: Event) -> tuple[str, tuple[Evidence, ...]]:
    """Who refused it, as far as the line names an address: the service that listens there, with what shows that; or the bare address."""
    found = [*endpoints_of(event.text), *named_endpoints(event.text)]
    if not found:
        return "", ()
    name, port = found[-1]
    place = f"{name}:{port}" if name else f"port {port}"
    if not is_loopback(name) and name not in ("localhost", "", *case.host.addresses):
        return place, ()
    holders = {one.service for one in case.index.sockets.at(port) if one.service}
    if len(holders) != 1:
        return place, ()
    (holder,) = holders
    return f"{holder} ({place})", (case.seen(f"{holder} listens at port {port}", SOCKETS, bears=FITS),)
