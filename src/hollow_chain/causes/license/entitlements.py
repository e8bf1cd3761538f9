"""Entitlements that do not hold: expired, missing, taken, or against the clock."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta

from hollow_chain.causes.case import Case
from hollow_chain.causes.finding import PROOF, Finding, Mend
from hollow_chain.causes.license.view import (
    ANY_STATE,
    ENDS,
    NEW_FILE,
    ServerView,
    holds,
    issued_ahead,
    last_moment,
    log_words,
    matters,
    read,
    title,
    told,
    views,
)
from hollow_chain.causes.nature import SEATS, Boot, When
from hollow_chain.causes.rule import cause
from hollow_chain.causes.words import span
from hollow_chain.facts.license import Entitlement
from hollow_chain.license.compare import covers
from hollow_chain.wording.counts import counted


@cause("license-expired", Boot.STAYS, states=ANY_STATE, when=When.LICENSED)
def license_expired(case: Case) -> Iterator[Finding]:
    """The entitlement has run out, or does not hold yet.

    Looks at: the days of the wanted entitlements against the clock of the server's host.
    Convinced by: a last day that has passed, where no other entitlement for the same holds.
    Against: a clock that is off (then ``license-clock-wrong``); an entitlement that holds.
    Mend: a new file from the publisher.
    """
    for view in views(case):
        now = case.host.read_at
        if now is None or not matters(view):
            continue
        for what, group in _groups(view):
            ended = [e for e in group if e.ends_at is not None and last_moment(e.ends_at) < now]
            early = [e for e in group if e.starts_at is not None and e.starts_at > now]
            if not group or len(ended) + len(early) < len(group) or any(issued_ahead(e, now) for e in group):
                continue
            one = (ended or early)[0]
            when = f"expired on {one.ends_at:%Y-%m-%d}, {span((now - one.ends_at).total_seconds())} ago" if ended and one.ends_at else (
                f"holds from {one.starts_at:%Y-%m-%d} on" if one.starts_at else "does not hold")  # fmt: skip
            yield Finding(
                says=f"The entitlement {what} {when}.",
                evidence=(read(view, f"{title(one)} {when}", PROOF), *log_words(view, "expired", "holds from")),
                mends=(Mend(NEW_FILE.format(f" with {what}"), "with the new file, after a reload"),),
                holder=what,
                explains=("license-seats-taken", "license-entitlement-missing", *ENDS),
            )


def _groups(view: ServerView) -> Iterator[tuple[str, list[Entitlement]]]:
    """Each wanted product and feature (else each of the file) with its entitlements."""
    if view.wants:
        for want in view.wants:
            yield title(want), view.of_file(want) or view.of_server(want)
    elif view.file is not None:
        names = dict.fromkeys((e.product, e.feature) for e in view.file.entitlements)
        for product, feature in names:
            group = [e for e in view.file.entitlements if (e.product, e.feature) == (product, feature)]
            yield title(group[0]), group


@cause("license-entitlement-missing", Boot.STAYS, states=ANY_STATE, when=When.LICENSED)
def license_entitlement_missing(case: Case) -> Iterator[Finding]:
    """What the application wants is not entitled: no such product or feature, or not in that version.

    Looks at: what is wanted, and the entitlements of the file and of the server.
    Convinced by: none that fits, in a file that was read.
    Against: one that fits in the file and not on the server (then ``license-not-reloaded``).
    Mend: a file from the publisher that has it; or set the application to what is entitled.
    """
    for view in views(case):
        if not view.denied or (view.file is None and not view.server.entitlements):
            continue
        for want in view.wants:
            offered = view.of_file(want) or view.of_server(want)
            unread = view.file is not None and (not view.file.exists or bool(view.file.error))
            if unread or any(covers(e.version, want.version) for e in offered):
                continue
            newest = f"; the newest entitled version is {offered[0].version}" if offered else ""
            listed = ", ".join(
                title(e) for e in (view.file.entitlements if view.file else view.server.entitlements)[:6]
            )
            yield Finding(
                says=f"No entitlement for {title(want)} is in the license file of {case.node.name}{newest}.",
                evidence=(
                    read(view, f"entitlements: {listed or 'none'}", PROOF),
                    *log_words(view, "no entitlement", "goes up to version"),
                ),
                mends=(Mend(NEW_FILE.format(f" with {title(want)}"), "with the new file, after a reload"),),
                holder=title(want),
            )


@cause("license-seats-taken", Boot.ANEW, put_right=(SEATS,), states=ANY_STATE, when=When.LICENSED)
def license_seats_taken(case: Case) -> Iterator[Finding]:
    """All seats of the wanted entitlement are taken.

    Looks at: seats and use as the server tells them, against what is wanted; the server's log.
    Convinced by: fewer free seats than wanted, and an application that did not get them.
    Against: an application that runs: it may hold the seats itself.
    Mend: wait, end what holds seats and does not need them, or buy more.
    """
    for view in views(case):
        if not view.wants or not view.denied:
            continue
        for want in view.wants:
            offered = [
                e
                for e in view.of_server(want)
                if covers(e.version, want.version) and e.seats is not None and e.used is not None
            ]
            if not offered or any((e.seats or 0) - (e.used or 0) >= want.seats for e in offered):
                continue
            one = offered[0]
            yield Finding(
                says=f"{one.used} of {counted(one.seats or 0, 'seat')} of {title(one)} are taken; "
                f"{want.seats} {'is' if want.seats == 1 else 'are'} wanted.",
                evidence=(
                    told(view, f"{title(one)}: {one.used} of {one.seats} seats used", PROOF),
                    *log_words(view, "are free", "seats"),
                ),
                mends=(
                    Mend("End sessions that hold seats and do not need them; the log of the server names the clients."),
                    Mend(NEW_FILE.format(" with more seats"), "with the new file, after a reload"),
                ),
                holder=title(one),
            )


@cause("license-clock-wrong", Boot.STAYS, states=ANY_STATE, when=When.LICENSED)
def license_clock_wrong(case: Case) -> Iterator[Finding]:
    """The clock of the server's host is off, so that entitlements seem not to hold.

    Looks at: days of issue ahead of the clock; the clock against a trusted one, and whether it changes what holds.
    Convinced by: an entitlement that was issued after "now"; a clock that is off by more than what is missing.
    Against: a clock that is right.
    Mend: set the clock.
    """
    for view in views(case):
        now, offset = case.host.read_at, case.host.clock_offset
        if now is None or not matters(view):
            continue
        ahead = [e for e in view.wanted() if issued_ahead(e, now)]
        true_now = now - timedelta(seconds=offset) if offset is not None and abs(offset) > 60 else None
        turned = [e for e in view.wanted() if true_now is not None and holds(e, true_now) and not holds(e, now)]
        if not ahead and not turned:
            continue
        if ahead and ahead[0].issued_at is not None:
            fact = read(
                view,
                f"{title(ahead[0])} was issued on {ahead[0].issued_at:%Y-%m-%d}; the clock says {now:%Y-%m-%d}",
                PROOF,
            )
        else:
            fact = case.seen(
                f"the clock of {case.node.host} is off by {span(abs(offset or 0))}; by the right time {title(turned[0])} holds",
                "clock",
                bears=PROOF,
            )
        yield Finding(
            says=f"The clock of {case.node.host} is wrong, so that {title((ahead or turned)[0])} does not hold.",
            evidence=(fact, *log_words(view, "clock")),
            mends=(
                Mend(
                    f"Set the clock of {case.node.host} and keep it set by a time service; then reload {case.node.name}."
                ),
            ),
            explains=("license-expired", "license-entitlement-missing", "clock-wrong", *ENDS),
        )
