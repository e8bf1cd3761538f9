"""Account: who the service runs as, and what that account may do."""

from __future__ import annotations

import re
from collections.abc import Iterator

from hollow_chain.causes import lines
from hollow_chain.causes.case import ACCOUNTS, FILES, Case
from hollow_chain.causes.rule import AFTER_RELOAD, NOT_UP, Evidence, Finding, Mend, cause
from hollow_chain.causes.words import failed_last, numbered
from hollow_chain.facts.host import Event, File

EXIT_GROUP, EXIT_USER = 216, 217
"""Exit statuses of systemd itself (systemd.exec(5), "Process Exit Codes")."""


@cause("account-missing", states=NOT_UP)
def account_missing(case: Case) -> Iterator[Finding]:
    """The user or group that it is to run as does not exist.

    Looks at: the accounts of the host; the manager's exit statuses 216 and 217.
    Convinced by: an account data base without that name.
    Against: an account made anew at each start.
    Mend: create the account, or correct its name in the definition.
    """
    service = case.service
    account = service.account
    if account is None or account.dynamic:
        return
    status = service.last.exit_status if service.last else None
    missing: list[tuple[str, str]] = []
    evidence: list[Evidence] = []
    for kind, name, number in (("user", account.user, EXIT_USER), ("group", account.group, EXIT_GROUP)):
        known = case.account(name, kind) if name else None
        if not name or (known.exists if known else status != number):
            continue
        missing.append((kind, name))
        if known:
            evidence.append(case.seen(f"no {kind} {name!r} on {case.node.host}", ACCOUNTS))
        if status == number:
            evidence.append(case.seen(f"exit status {number} of the manager: the {kind} could not be determined"))
    if case.host.manager == "control-manager" and not missing and account.user:
        evidence += numbered(case, 1057)
        missing += [("user", account.user)] if evidence else []
    if not missing:
        return
    words = " and the ".join(f"{kind} {name!r}" for kind, name in missing)
    yield Finding(
        says=f"{service.name} is to run as the {words}, which {'do' if len(missing) > 1 else 'does'} not exist.",
        evidence=tuple(evidence),
        mends=(
            Mend(f"Create the {words} as the package of {service.name} would."),
            Mend(f"Or correct the {missing[0][0]} in the definition of {service.name}.", AFTER_RELOAD),
        ),
        sure=0.97 if status in (EXIT_GROUP, EXIT_USER) else 0.9,
    )


_BARRED_NUMBERS = {1069: "the logon failed", 1385: "the account lacks the right to run as a service"}


@cause("account-barred", states=NOT_UP)
def account_barred(case: Case) -> Iterator[Finding]:
    """Its account is locked, expired, has another password, or lacks the right to run as a service.

    Looks at: the error number, what is known of the account.
    Convinced by: error 1069 or 1385; an account that is locked or expired, of a service that failed.
    Against: a start with the same account since.
    Mend: renew the account's password or right; the least that is enough.
    """
    service = case.service
    user = service.account.user if service.account else ""
    known = case.account(user) if user else None
    number = service.last.error_number if service.last else None
    reasons = [_BARRED_NUMBERS[number]] if number in _BARRED_NUMBERS else []
    expired = known is not None and known.expires_at and case.host.read_at and known.expires_at < case.host.read_at
    if known is not None and known.exists and (failed_last(service) or reasons):
        reasons += ["it is locked"] if known.locked else []
        reasons += [f"it expired at {known.expires_at:%Y-%m-%d}"] if expired and known.expires_at else []
        reasons += ["it lacks the right to run as a service"] if known.may_run_services is False else []
    if not reasons or (number not in _BARRED_NUMBERS and case.host.manager == "systemd"):
        return
    yield Finding(
        says=f"{service.name} may not run as {user or 'its account'}: {', '.join(dict.fromkeys(reasons))}.",
        evidence=tuple(
            case.seen(f"account {user or '(not named)'}: {reason}", ACCOUNTS) for reason in dict.fromkeys(reasons)
        ),
        mends=(
            Mend(
                f"Put the account {user or 'of the service'} right (password, lock, expiry, right to run services), no more."
            ),
        ),
        sure=0.93,
        explains=("exits-with-error",),
    )


@cause("access-denied", states=("running", *NOT_UP))
def access_denied(case: Case) -> Iterator[Finding]:
    """Its account, or its confinement, may not read, write or enter something.

    Looks at: log lines that refuse a path; owner, group and mode of the path and of every folder on the way; what the
    definition makes read-only or hides; the manager's exit statuses for its own steps.
    Convinced by: such a line, and a path whose mode does not let the account in.
    Against: a path that is not there; a refused port (then that is the cause).
    Mend: the smallest right that is enough.
    """
    service = case.service
    if case.standing.well:
        return
    user = service.account.user if service.account and service.account.user else "root"
    yield from _by_number(case, user)
    for event, path in _refused(case):
        confined = _confined(case, path)
        barrier = _barrier(case, path, user) or _badly_owned(case, event, path)
        if barrier is None and not confined and case.file(path) is None and not lines.of_manager(event):
            continue
        place = barrier.path if barrier else path
        why = (
            f"its definition makes {confined} read-only or hides it"
            if confined and (barrier is None or user == "root")
            else f"{place} belongs to {barrier.owner}:{barrier.group}, mode {barrier.mode}"
            if barrier
            else "the log says so, though owner and mode would let it"
        )
        evidence = [case.quoted(event)]
        if barrier:
            evidence.append(
                case.seen(f"{place}: {barrier.kind}, owner {barrier.owner}:{barrier.group}, mode {barrier.mode}", FILES)
            )
        if confined:
            evidence.append(case.seen(f"confinement of {service.name}: {confined}"))
        yield Finding(
            says=f"{service.name} (account {user}) may not use {path}: {why}.",
            evidence=tuple(evidence),
            mends=(
                Mend(f"Let {service.name} write to {path} in its definition, and to nothing else.", AFTER_RELOAD)
                if confined and (barrier is None or user == "root")
                else Mend(
                    f"Give the account {user} the smallest right that is enough on {place}; its right owner is a good guess."
                ),
            ),
            sure=0.94 if barrier or confined else 0.75,
            explains=(
                "exits-with-error",
                "exits-at-once",
                "crash-loop",
                "config-rejected",
                "path-missing",
                "start-rate-limited",
            ),
        )
        return


def _by_number(case: Case, user: str) -> Iterator[Finding]:
    evidence = numbered(case, 5)
    if evidence:
        yield Finding(
            says=f"{case.service.name} may not do what it needs as {user if case.service.account else 'its account'}: "
            "access was denied.",
            evidence=tuple(evidence),
            mends=(
                Mend(f"Find what {case.service.name} could not open (its log), and give its account that one right."),
            ),
            sure=0.65,
        )


def _badly_owned(case: Case, event: Event, path: str) -> File | None:
    """The file whose owner or mode as such is what the record complains of."""
    return case.file(path) if lines.says_ownership(event.text) else None


def _refused(case: Case) -> Iterator[tuple[Event, str]]:
    """Paths that a record refuses; the longest path of each record is the one that is meant."""
    for event, near in lines.refused(case.last_events()):
        paths = [p for p in near if not re.search(rf"{re.escape(p)}:\d+", event.text)]
        program = case.service.program
        meant = [p for p in paths if not (program and p == program.path)] or paths
        if not near and program and not lines.of_manager(event):
            # The record names no path: of those that the service is known to use, one that keeps its account out.
            known = [*program.paths, *program.log_files, *program.environment_files]
            user = case.service.account.user if case.service.account else ""
            meant = [p for p in known if _barrier(case, p, user or "root")][:1]
        if meant:
            yield event, meant[-1] if lines.of_manager(event) else max(meant, key=len)


def _confined(case: Case, path: str) -> str:
    """The part of the confinement that keeps the service from *path*; empty where none does."""
    confinement = case.service.confinement
    if confinement is None:
        return ""
    if any(_inside(path, hidden) for hidden in confinement.hidden):
        return next(hidden for hidden in confinement.hidden if _inside(path, hidden))
    if any(_inside(path, writable) for writable in confinement.writable):
        return ""
    read_only = [place for place in confinement.read_only if _inside(path, place)]
    volatile = any(_inside(path, place) for place in ("/dev", "/proc", "/sys"))
    said = any(lines.says_read_only(event.text) for event in case.last_events())
    return max(read_only, key=len) if read_only and not volatile and said else ""


def _inside(path: str, place: str) -> bool:
    return (path + "/").startswith(place.rstrip("/") + "/")


def _barrier(case: Case, path: str, user: str) -> File | None:
    """The first thing on the way to *path*, itself last, whose mode keeps *user* out; None where all let it pass."""
    if user == "root":
        return None
    account = case.account(user)
    groups = set(account.groups if account else ()) | ({case.service.account.group} if case.service.account else set())
    absent = (last := case.file(path)) is not None and not last.exists
    parts = path.split("/")
    for depth in range(2, len(parts) + 1):
        file = case.file("/".join(parts[:depth]))
        if file is None or not file.exists or not file.mode:
            continue
        bits = int(file.mode, 8) if re.fullmatch(r"[0-7]{3,5}", file.mode) else 0o777
        shift = 6 if file.owner == user else 3 if file.group in groups else 0
        rights = bits >> shift & 7
        # Search on the way; write and search where the last part is yet to be made; read and write at the end.
        needed = 1 if depth < len(parts) - absent else 3 if absent else 6
        if rights & needed != needed:
            return file
    return None
