"""Account: who the service runs as, and what that account may do."""

from __future__ import annotations

import re
from collections.abc import Iterator

from hollow_chain.causes import places, rights
from hollow_chain.causes.acts import Act, allow
from hollow_chain.causes.case import ACCOUNTS, FILES, Case
from hollow_chain.causes.definition.program import EXIT_EXEC, programs_of
from hollow_chain.causes.finding import AFTER_RELOAD, FITS, HINT, PROOF, SAID, Evidence, Finding, Mend
from hollow_chain.causes.nature import ACCOUNT, Boot, Shown, When
from hollow_chain.causes.rights import Barrier, account_of, barrier
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.standing import failed_last
from hollow_chain.causes.words import numbered
from hollow_chain.facts.host import Event, HostAccount
from hollow_chain.wording import lines
from hollow_chain.wording.forms import read, says
from hollow_chain.wording.things import paths_in

EXIT_GROUP, EXIT_USER, EXIT_PAM = 216, 217, 224
"""Exit statuses of systemd itself (systemd.exec(5), "Process Exit Codes")."""
EX_NOUSER = 67
"""Exit status by convention: an account is not known (sysexits.h(3head))."""


@cause(
    "account-missing",
    Boot.STAYS,
    answered_by=(ACCOUNT,),
    states=("running", *NOT_UP),
    when=When.UNWELL,
    shown=Shown(1069, "resources", "{name} could not log on as {account}"),
)
def account_missing(case: Case) -> Iterator[Finding]:
    """The user or group that it is to run as does not exist.

    Looks at: the accounts of the host; the manager's exit statuses 216 and 217; accounts that its log calls unknown.
    Convinced by: an account data base without that name.
    Against: an account made anew at each start.
    Mend: create the account, or correct its name in the definition.
    """
    yield from _of_definition(case)
    yield from _of_configuration(case)


def _of_definition(case: Case) -> Iterator[Finding]:
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
            evidence.append(case.seen(f"no {kind} {name!r} on {case.node.host}", ACCOUNTS, bears=PROOF))
        if status == number:
            said = f"exit status {number} of the manager: the {kind} could not be determined"
            evidence.append(case.seen(said, bears=PROOF))
    if case.family.numbers_failures and not missing and account.user:
        evidence += numbered(case, 1057, bears=PROOF)
        missing += [("user", account.user)] if evidence else []
    if not missing:
        return
    words = " and the ".join(f"{kind} {name!r}" for kind, name in missing)
    yield Finding(
        says=f"{service.name} is to run as the {words}, which {'do' if len(missing) > 1 else 'does'} not exist.",
        evidence=tuple(evidence),
        mends=(
            Mend(f"Create the {words} as the package of {service.name} would."),
            Mend(f"Or correct the {missing[0][0]} in the definition of {service.name}.", AFTER_RELOAD, instead=True),
        ),
        explains=("exits-with-error", "crash-loop"),
    )


def _of_configuration(case: Case) -> Iterator[Finding]:
    """An account that the program itself was to change to, and did not find."""
    if not failed_last(case.service):
        return
    for event, name in lines.unknown_user(case.own_events()):
        known = case.account(name)
        if known is not None and known.exists:
            continue
        status = case.service.last.exit_status if case.service.last else None
        yield Finding(
            says=f"{case.service.name} is to change to the user {name!r}, which does not exist.",
            evidence=(
                case.quoted(event, SAID),
                *((case.seen(f"no user {name!r} on {case.node.host}", ACCOUNTS, bears=SAID),) if known else ()),
                *((case.seen(f"exit status {EX_NOUSER}: no such account", bears=HINT),) if status == EX_NOUSER else ()),
            ),
            mends=(
                Mend(
                    f"Correct the name of the account in the configuration of {case.service.name}.", "at the next start"
                ),
                Mend(f"Or create the user {name!r} as the package of {case.service.name} would.", instead=True),
            ),
            explains=("exits-with-error", "crash-loop", "config-rejected", "exits-at-once"),
        )
        return


_BARRED_NUMBERS = {
    1069: "the logon failed",
    1385: "the account lacks the right to run as a service",
    1326: "the password does not fit",
    1327: "the account is restricted",
    1330: "the password has expired",
    1331: "the account is switched off",
    1793: "the account has expired",
    1907: "the password must be changed first",
    1909: "the account is locked",
}


@cause(
    "account-barred",
    Boot.STAYS,
    answered_by=(ACCOUNT,),
    states=NOT_UP,
    shown=Shown(1069, "resources", "{name} could not log on as {account}"),
)
def account_barred(case: Case) -> Iterator[Finding]:
    """Its account is locked, expired, has another password, or lacks the right to run as a service.

    Looks at: the error number, the manager's exit status 224, what is known of the account, what the log says of it.
    Convinced by: an error number of the logon; an account that is expired, of a service that opens a session with it.
    Against: a locked account of a systemd host where no session is opened: such accounts are usual there.
    Mend: renew the account's password or right; the least that is enough.
    """
    service = case.service
    user = service.account.user if service.account else ""
    known = case.account(user) if user else None
    evidence = [*_barred_by_number(case), *(_barred_by_session(case) if failed_last(service) else ())]
    seen = [] if known is None else _bars(case, known)
    if not evidence and (not case.family.locked_accounts_barred or not seen or not failed_last(service)):
        return
    reasons = [text for _, text in (*evidence, *seen)]
    yield Finding(
        says=f"{service.name} may not run as {user or 'its account'}: {', '.join(dict.fromkeys(reasons))}.",
        evidence=(
            *(piece for piece, _ in evidence),
            *(case.seen(f"account {user or '(not named)'}: {reason}", ACCOUNTS, bears=SAID) for _, reason in seen),
        ),
        mends=(
            Mend(
                f"Put the account {user or 'of the service'} right (password, lock, expiry, right to run services), no more."
            ),
        ),
        explains=("exits-with-error", "crash-loop"),
    )


def _barred_by_number(case: Case) -> list[tuple[Evidence, str]]:
    told = numbered(case, *_BARRED_NUMBERS, bears=PROOF)
    last = case.service.last
    number = last.error_number if last and last.error_number in _BARRED_NUMBERS else None
    more = [e for e in case.last_events() if e.number in _BARRED_NUMBERS and e.number != 1069]
    if more and told:
        number = more[-1].number
        told = [*told, case.quoted(more[-1], FITS)]
    if told and number is None:
        number = next((e.number for e in reversed(case.last_events()) if e.number in _BARRED_NUMBERS), None)
    return [(piece, _BARRED_NUMBERS.get(number or 1069, "the logon failed")) for piece in told]


def _barred_by_session(case: Case) -> list[tuple[Evidence, str]]:
    last = case.service.last
    said = lines.saying(case.last_events(), "account barred")
    found = [(case.quoted(said[-1], FITS), "its log says so")] if said else []
    if last is not None and last.exit_status == EXIT_PAM:
        status = case.seen(
            f"exit status {EXIT_PAM} of the manager: no session could be opened for the account", bears=SAID
        )
        found.insert(0, (status, "no session could be opened for it"))
    return found


def _bars(case: Case, known: HostAccount) -> list[tuple[HostAccount, str]]:
    found = []
    if known.exists and known.locked:
        found.append("it is locked")
    if known.expires_at and case.host.read_at and known.expires_at < case.host.read_at:
        found.append(f"it expired at {known.expires_at:%Y-%m-%d}")
    if known.may_run_services is False:
        found.append("it lacks the right to run as a service")
    return [(known, reason) for reason in found]


@cause(
    "access-denied",
    Boot.STAYS,
    answered_by=(ACCOUNT,),
    states=("running", *NOT_UP),
    shown=Shown(5, "exit-code", "access is denied", 5),
    when=When.UNWELL,
)
def access_denied(case: Case) -> Iterator[Finding]:
    """Its account, or its confinement, may not read, write or enter something.

    Looks at: log lines that refuse a path, or say that it could not be opened; owner, group, mode and access list of
    the path and of every folder on the way; what the definition makes read-only, hides, or takes from the account.
    Convinced by: such a line, and a path that does not let the account in.
    Against: a path that is not there; a refused port (then that is the cause).
    Mend: the smallest right that is enough.
    """
    if case.standing.well or (case.service.state == "stopped" and not failed_last(case.service)):
        return
    user = account_of(case)
    yield from _by_number(case, user)
    for event, path in _refused(case):
        writes = _writes(event)
        found = barrier(case, path, writes) or _badly_owned(case, event, path)
        if found is None and case.file(path) is None and not event.by_manager:
            continue
        yield _denied(case, event, path, found, user)
        return
    for path, way in _unreached_programs(case):
        yield _denied(case, None, path, way, user)
        return
    for event, path in lines.unopened_paths(case.own_events()):
        file, program = case.file(path), case.service.program
        found = barrier(case, path, _writes(event)) if file is not None and failed_last(case.service) else None
        if found is not None and not (program and path == program.path) and not says(event.text, "missing"):
            yield _denied(case, event, path, found, user)
            return
    for hidden_event, hidden in _hidden_own(case):
        yield _denied(
            case, hidden_event or next(iter(lines.telling(case.own_events())), None), hidden.path, hidden, user
        )
        return


def _unreached_programs(case: Case) -> Iterator[tuple[str, Barrier]]:
    """Programs that the manager could not run, and the folder on the way that keeps the account out: told by the exit status of
    the manager, for the record of a process that is gone at once may be lost (its unit is looked up when it is read)."""
    last = case.service.last
    if last is not None and last.exit_status == EXIT_EXEC:
        for path, _ in programs_of(case):
            for behind in _run_through(case, path):
                found = barrier(case, behind, False)
                if found is not None and found.path != behind:
                    yield behind, found


def _run_through(case: Case, program: str) -> Iterator[str]:
    """A program, its interpreter, and where links lead from there, as far as they were looked at."""
    seen: set[str] = set()
    path = program
    while path and path not in seen:
        seen.add(path)
        file = case.file(path)
        if file is None or not file.exists:
            return
        yield path
        after = file.link_to or file.interpreter
        path = after if after.startswith("/") or not after else f"{path.rpartition('/')[0]}/{after}"


def _bears(part: str, names: set[str]) -> bool:
    """Whether a part of a path bears one of *names*, with or without a suffix."""
    return part in names or part.partition(".")[0] in names


def _hidden_own(case: Case) -> Iterator[tuple[Event | None, Barrier]]:
    """Places that the definition hides although the service uses them: its log or its arguments name them, or they bear
    its name. A hidden file reads as an empty one, so that the words are often of something else."""
    confinement, program = case.service.confinement, case.service.program
    if confinement is None or not failed_last(case.service):
        return
    names = {case.node.name.rpartition(".")[0].partition("@")[0], *(a.rpartition(".")[0] for a in case.service.aliases)}
    names |= {program.path.rpartition("/")[2]} if program else set()
    for place in confinement.hidden:
        event = next((e for e in case.own_events() if any(places.inside(p, place) for p in paths_in(e.text))), None)
        used = program is not None and any(places.inside(path, place) for path in program.paths)
        if event is not None or used or any(_bears(part, names) for part in place.split("/")):
            yield event, Barrier(place, f"its definition hides {place} from it", by_definition=True)


def _writes(event: Event) -> bool | None:
    return True if says(event.text, "read only", "writes") else None


def _denied(case: Case, event: Event | None, path: str, found: Barrier | None, user: str) -> Finding:
    service = case.service
    evidence = []
    if event is not None:
        evidence.append(case.quoted(event, FITS if says(event.text, "denied", "read only") else HINT))
    if found is not None:
        evidence.append(case.seen(found.why, FILES if found.file else "definition", bears=SAID))
    else:
        evidence.append(case.seen("owner, mode and definition, as far as they were seen, would let it", FILES))
    place = found.path if found else path
    if found and found.by_definition:
        mend = _in_definition(case, path)
    else:
        writes = _writes(event) if event is not None else None
        does, acts = rights.in_words(case, path, place, writes, user)
        mend = Mend(does, acts=acts if found else ())
    why = found.why if found else "the log says so, though owner and mode would let it"
    return Finding(
        says=f"{service.name} (account {user}) may not use {path}: {why}.",
        evidence=tuple(evidence),
        mends=(mend,),
        explains=(
            "exits-with-error", "exits-at-once", "crash-loop", "config-rejected", "path-missing", "start-rate-limited", "killed",
        ),
    )  # fmt: skip


def _in_definition(case: Case, path: str) -> Mend:
    """Let the service use a place that its definition closes."""
    name, acts = case.service.name, _let_write(case, path)
    if acts or places.given(case, path):
        return Mend(f"Let {name} use {path} in its definition, and nothing else.", AFTER_RELOAD, acts)
    doubt = f"{path} is not among the places that the definition of {name} gives it: see first whether it is meant to use that at all"
    return Mend(
        f"{doubt}; if it is, and by hand only: let its definition give it {path}, and nothing else.", AFTER_RELOAD
    )


def _let_write(case: Case, path: str) -> tuple[Act, ...]:
    """Let the service write to *path* though its definition makes everything around it read-only; where it is yet to be made,
    to its folder (systemd.exec(5), "ReadWritePaths=")."""
    confinement, file = case.service.confinement, case.file(path)
    hidden = confinement is None or any(places.inside(path, place) for place in confinement.hidden)
    if hidden or not case.family.defined_in_files or file is None or re.search(r"[\s%\"'\\]", path):
        return ()
    place = path if file.exists else path.rpartition("/")[0]
    if file.link_to or not places.given(case, place):
        return ()
    return (allow(case.node.name, f"ReadWritePaths={place}"),)


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
        )


def _badly_owned(case: Case, event: Event, path: str) -> Barrier | None:
    """The file whose owner or mode as such is what the record complains of."""
    file = case.file(path)
    if file is None or not says(event.text, "ownership"):
        return None
    return Barrier(path, f"{path} belongs to {file.owner}:{file.group}, mode {file.mode}", file=file)


_STEPS_ON_FILES = frozenset({"EXEC", "CHDIR", "CHROOT", "NAMESPACE", "STDIN", "STDOUT", "STDERR", "CREDENTIALS"})
_STEPS_ON_FILES |= {f"{kind}_DIRECTORY" for kind in ("STATE", "CACHE", "LOGS", "CONFIGURATION", "RUNTIME")}
"""Steps of the manager that open files (systemd.exec(5), "Process Exit Codes"), by the names that its records use."""


def _refused(case: Case) -> Iterator[tuple[Event, str]]:
    """Paths that a record refuses; the longest path of each record is the one that is meant."""
    for event, near in lines.refused(case.last_events()):
        if not _STEPS_ON_FILES.issuperset(read(event.text).named("step", "step")):
            continue  # the manager could not get as far as the program: not the program is refused
        paths = [p for p in near if not re.search(rf"{re.escape(p)}:\d+", event.text)]
        program = case.service.program
        meant = [p for p in paths if not (program and p == program.path)] or paths
        if not near and program and not event.by_manager:
            # The record names no path: of those that the service is known to use, one that keeps its account out.
            known = [*program.paths, *program.log_files, *program.environment_files]
            meant = [p for p in known if rights.barrier(case, p)][:1]
        if meant:
            yield event, meant[-1] if event.by_manager else max(meant, key=len)
