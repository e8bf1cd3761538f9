"""License files: missing, misnamed, differing, made out for another machine, altered, not reloaded."""

from __future__ import annotations

import re
from collections.abc import Iterator

from hollow_chain.causes.acts import renew, restart
from hollow_chain.causes.case import FILES, Case
from hollow_chain.causes.finding import AFTER_RESTART, FITS, PROOF, SAID, Finding, Mend
from hollow_chain.causes.license.view import (
    ANY_STATE,
    ENDS,
    NEW_FILE,
    ServerView,
    last_moment,
    log_words,
    matters,
    read,
    title,
    told,
    views,
)
from hollow_chain.causes.nature import Boot, When
from hollow_chain.causes.rule import cause
from hollow_chain.causes.words import clock
from hollow_chain.license.compare import covers, difference, plain_id


@cause("license-file-missing", Boot.STAYS, states=ANY_STATE, when=When.LICENSED)
def license_file_missing(case: Case) -> Iterator[Finding]:
    """The license file that the server is given is not there.

    Looks at: the path that the server's definition names, and what is there.
    Convinced by: a look that found nothing, and a server that is not up.
    Against: a license file beside it under another name (then ``license-file-misnamed``).
    Mend: put the file there.
    """
    for view in views(case):
        file = view.file
        if view.up or file is None or file.exists or file.near_files:
            continue
        yield Finding(
            says=f"The license file of {case.node.name} is not there: {file.path}.",
            evidence=(
                case.seen(f"{file.path} does not exist", FILES, bears=PROOF),
                *log_words(view, "cannot read", "no such file"),
            ),
            mends=(Mend(f"Put the license file at {file.path}, then start {case.node.name}."),),
            explains=ENDS,
        )


@cause("license-file-misnamed", Boot.STAYS, states=ANY_STATE, when=When.LICENSED)
def license_file_misnamed(case: Case) -> Iterator[Finding]:
    """The license file lies there under another name or extension, or was saved in another encoding.

    Looks at: license files beside the path that the server is given; how the file was saved.
    Convinced by: such a file, and nothing under the right name.
    Against: a file of the right name that can be read.
    Mend: rename it, or save it as UTF-8.
    """
    for view in views(case):
        file = view.file
        if view.up or file is None:
            continue
        if not file.exists and file.near_files:
            other = file.near_files[0]
            yield Finding(
                says=f"The license file of {case.node.name} has another name: {other} is there, {file.path} is not.",
                evidence=(
                    case.seen(f"{file.path} does not exist", FILES, bears=FITS),
                    case.seen(f"{other} is a license file", FILES, bears=PROOF),
                ),
                mends=(Mend(f"Rename {other} to {file.path}, then start {case.node.name}."),),
                near=tuple(file.near_files),
                explains=ENDS,
            )
        elif file.exists and re.search(r"(?i)utf-16|encod|byte-order", file.error):
            yield Finding(
                says=f"The license file of {case.node.name} was saved in a form that is not read: {file.error}.",
                evidence=(read(view, file.error, PROOF),),
                mends=(Mend(f"Save {file.path} as UTF-8, then start {case.node.name}."),),
                explains=ENDS,
            )


@cause("license-copies-differ", Boot.STAYS, states=ANY_STATE, when=When.LICENSED)
def license_copies_differ(case: Case) -> Iterator[Finding]:
    """The file lies in several places, and the copies differ.

    Looks at: the digests of the file and of the copies that it names.
    Convinced by: two digests, or a copy that is not there.
    Against: equal digests.
    Mend: put the newest one in all places.
    """
    for view in views(case):
        file = view.file
        if file is None or not file.copies:
            continue
        known = {f.path: f for f in case.host.license_files}
        for path in file.copies:
            copy = known.get(path)
            if copy is None or (copy.exists and copy.digest == file.digest):
                continue
            how = "is not there" if not copy.exists else "differs from it"
            newest = (
                max((file, copy), key=lambda f: (f.changed_at is not None, f.changed_at)).path
                if copy.exists
                else file.path
            )
            yield Finding(
                says=f"The copy {path} of the license file {file.path} {how}.",
                evidence=(
                    read(view, f"digest {file.digest[:16]}, changed {clock(file.changed_at)}", FITS),
                    case.seen(
                        f"{path} {f'has digest {copy.digest[:16]}, changed {clock(copy.changed_at)}' if copy.exists else how}",
                        FILES,
                        bears=PROOF,
                    ),
                ),
                mends=(Mend(f"Put {newest} in both places, then reload {case.node.name}."),),
                note=view.up and not (view.denied and view.wants),
            )
            return


@cause("license-host-mismatch", Boot.STAYS, states=ANY_STATE, when=When.LICENSED)
def license_host_mismatch(case: Case) -> Iterator[Finding]:
    """The file is made out for another host name. That can be edited.

    Looks at: the host name of the file and that of the machine.
    Convinced by: names that differ in more than their domain or in upper and lower case.
    Against: a server that is up with that file.
    Mend: put the machine's name into the file.
    """
    for view in views(case):
        file = view.file
        if view.up or file is None or not file.server_host or _short(file.server_host) == _short(case.host.name):
            continue
        yield Finding(
            says=f"The license file of {case.node.name} is made out for the host {file.server_host}; this is {case.host.name}.",
            evidence=(
                read(view, f"host {file.server_host}", SAID),
                case.seen(f"name of this machine: {case.host.name}", "host", bears=FITS),
                *log_words(view, "made out for"),
            ),
            mends=(
                Mend(
                    f"Put {case.host.name} as the host into {file.path} (it is not signed), then start {case.node.name}."
                ),
            ),
            explains=ENDS,
        )


def _short(name: str) -> str:
    return name.casefold().partition(".")[0]


@cause("license-hostid-mismatch", Boot.STAYS, states=ANY_STATE, when=When.LICENSED)
def license_hostid_mismatch(case: Case) -> Iterator[Finding]:
    """None of the file's host IDs is of this machine. That needs a new file.

    Looks at: the host IDs of the file, the hardware addresses of all adapters of the machine.
    Convinced by: no ID among them; one that nearly is.
    Against: any of the IDs being of any adapter.
    Mend: a new file from the publisher, made out for an address of this machine.
    """
    for view in views(case):
        file = view.file
        here = {plain_id(a.hardware_address): a for a in case.host.adapters if plain_id(a.hardware_address).strip("0")}
        ids = [plain_id(one) for one in file.host_ids] if file is not None else []
        if view.up or file is None or not ids or not here or any(one in here for one in ids):
            continue
        near = next((f"{file.host_ids[n]} is {a.hardware_address} ({a.name}) with {how}" for n, one in enumerate(ids)
                     for real, a in here.items() if (how := difference(one, real))), "")  # fmt: skip
        listed = ", ".join(f"{a.hardware_address} ({a.name})" for a in list(here.values())[:4])
        yield Finding(
            says=f"None of the host IDs in the license file of {case.node.name} is of {case.host.name}{f': {near}' if near else ''}.",
            evidence=(
                read(view, f"host IDs {', '.join(file.host_ids[:4])}", SAID),
                case.seen(f"hardware addresses of this machine: {listed}", "adapters", bears=FITS),
                *log_words(view, "host id"),
            ),
            mends=(Mend(NEW_FILE.format(f" for {next(iter(here.values())).hardware_address}"), "with the new file"),),
            explains=ENDS,
        )


@cause("license-altered", Boot.STAYS, states=ANY_STATE, when=When.LICENSED)
def license_altered(case: Case) -> Iterator[Finding]:
    """What stands in the file is not what the publisher signed.

    Looks at: the signatures of the wanted entitlements over what stands there now.
    Convinced by: a signature that does not hold.
    Against: a signature that holds: then host name, ports or paths were edited, as they may be.
    Mend: put the publisher's own file back, or ask for a new one.
    """
    for view in views(case):
        file = view.file
        if file is None or not matters(view):
            continue
        broken = [e for e in view.wanted() if e.signature_holds is False]
        if not broken and file.signature_holds is not False:
            continue
        what = title(broken[0]) if broken else "the file"
        yield Finding(
            says=f"The signature of {what} in the license file of {case.node.name} does not hold: the entitlement or a host ID was changed.",
            evidence=(
                read(view, f"signature of {what}: does not fit what stands there", PROOF),
                *log_words(view, "not what the publisher signed"),
            ),
            mends=(
                Mend(
                    f"Put the publisher's own file back at {file.path}, or ask for a new one; then reload {case.node.name}."
                ),
            ),
            holder=what,
            explains=("license-entitlement-missing", "license-expired", "license-seats-taken", *ENDS),
        )


@cause("license-not-reloaded", Boot.OVER, states=("running",), when=When.LICENSED)
def license_not_reloaded(case: Case) -> Iterator[Finding]:
    """The file is newer than what the server serves.

    Looks at: the digest of the file and of what the server serves, and when each is from.
    Convinced by: digests that differ.
    Against: equal digests.
    Mend: a reload where entitlements changed, a restart where the host, a port or a daemon changed.
    """
    for view in views(case):
        file, server = view.file, view.server
        if (
            file is None
            or not file.exists
            or not server.served_digest
            or not file.digest
            or server.served_digest == file.digest
        ):
            continue
        later = file.port is not None and server.port is not None and file.port != server.port
        served = {d.name for d in server.daemons}
        later = later or (bool(served) and {d.name for d in file.daemons} != served)
        what = (
            f"Restart {case.node.name}"
            if later
            else f"Reload {case.node.name} ('hollow-chain license reload', or SIGHUP)"
        )
        needed = bool(view.wants) and view.denied
        yield Finding(
            says=f"{case.node.name} serves an older license file than {file.path}: "
            + ("a restart is due, since host, port or a daemon changed." if later else "a reload is enough."),
            evidence=(
                told(view, f"served since {clock(server.served_at)}: digest {server.served_digest[:16]}", FITS),
                read(view, f"changed {clock(file.changed_at)}: digest {file.digest[:16]}", SAID),
            ),
            mends=(
                Mend(
                    f"{what}.", AFTER_RESTART if later else "at once", ((restart if later else renew)(case.node.name),)
                ),
            ),
            note=not (needed or case.asked),
            explains=("license-entitlement-missing", "license-seats-taken", "license-expired")
            if _file_would_do(view)
            else (),
        )


def _file_would_do(view: ServerView) -> bool:
    """Whether the file, as it is now, has all that is wanted."""
    now = view.case.host.read_at
    return bool(view.wants) and all(
        any(
            covers(e.version, want.version)
            and (e.seats is None or e.seats >= want.seats)
            and e.signature_holds is not False
            and not (now is not None and e.ends_at is not None and last_moment(e.ends_at) < now)
            for e in view.of_file(want)
        )
        for want in view.wants
    )
