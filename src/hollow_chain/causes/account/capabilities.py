"""Calls that are refused to who lacks a right of root's, where a start was watched (capabilities(7))."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes.case import Case
from hollow_chain.causes.finding import AFTER_RELOAD, FITS, SAID, Finding, Mend
from hollow_chain.causes.rights import ALL_RIGHTS_ACCOUNTS
from hollow_chain.facts.host import Event
from hollow_chain.lazy import pattern
from hollow_chain.wording.system_errors import error_at_end

_RIGHTS = {
    "CAP_SETGID": ("setgid", "setregid", "setresgid", "setgroups", "setfsgid"),
    "CAP_SETUID": ("setuid", "setreuid", "setresuid", "setfsuid"),
    "CAP_CHOWN": ("chown", "fchown", "lchown", "fchownat"),
    "CAP_SYS_CHROOT": ("chroot",),
    "CAP_IPC_LOCK": ("mlock", "mlock2", "mlockall"),
    "CAP_SYS_NICE": ("sched_setscheduler", "sched_setattr", "setpriority", "ioprio_set", "sched_setaffinity"),
    "CAP_SYS_TIME": ("settimeofday", "clock_settime", "adjtimex", "clock_adjtime"),
    "CAP_SYS_RESOURCE": ("setrlimit", "prlimit64"),
    "CAP_SYS_ADMIN": ("mount", "umount2", "pivot_root", "unshare", "setns", "sethostname", "setdomainname", "swapon", "quotactl"),
    "CAP_SYS_MODULE": ("init_module", "finit_module"),
    "CAP_SYS_PTRACE": ("ptrace",),
    "CAP_SYS_BOOT": ("reboot",),
    "CAP_SYS_RAWIO": ("iopl", "ioperm"),
    "CAP_SYS_PACCT": ("acct",),
    "CAP_BPF": ("bpf",),
    "CAP_PERFMON": ("perf_event_open",),
    "CAP_NET_ADMIN": ("setsockopt",),
    "CAP_NET_RAW": ("socket",),
    "CAP_MKNOD": ("mknod", "mknodat"),
}  # fmt: skip
_NEEDED = {call: right for right, calls in _RIGHTS.items() for call in calls}


def refused_rights(case: Case, user: str) -> Iterator[Finding]:
    """It made a call that needs a right which neither its account nor its definition gives it."""
    for event in case.own_events():
        if is_of_rights(case, event, user):
            yield _lacks(case, event, user, _right_of(event))
            return


def is_of_rights(case: Case, event: Event, user: str) -> bool:
    """Whether a record is of such a call: then owner and mode of the path that it names are not what refused it."""
    right = _right_of(event)
    return bool(right) and not _has(case, user, right)


def _right_of(event: Event) -> str:
    return _NEEDED.get(_refused_call(event), "")


def _refused_call(event: Event) -> str:
    """The call that was not permitted, where that is no matter of a path."""
    call = event.call
    if call is None:
        words = _WORD.findall(event.text[:_LONGEST].lower()) if error_at_end(event.text) == "EPERM" else ()
        return next((word for word in words if word in _SPOKEN_OF), "")
    if call.error != "EPERM" or (call.thing.startswith("/") and call.name not in _ON_PATHS):
        return ""
    return call.name


_SPOKEN_OF = ("chroot", "setuid", "setgid", "setgroups", "mlockall", "mknod", "mount", "sched_setscheduler")
"""Calls whose name, in a line that ends in this error, means nothing else."""
_WORD = pattern(r"[a-z_]{3,30}")
_LONGEST = 500
"""Characters of a line that are gone through for the name of a call."""
_ON_PATHS = ("chown", "fchown", "lchown", "fchownat", "chroot", "mount", "umount2", "mknod", "mknodat")
"""Calls on a path that need a right of root's whatever owner and mode of the path say."""


def _has(case: Case, user: str, right: str) -> bool:
    confinement = case.service.confinement
    if confinement is not None and right in confinement.granted:
        return True
    kept = confinement.capabilities if confinement is not None else None
    return user in ALL_RIGHTS_ACCOUNTS and (kept is None or right in kept)


def _lacks(case: Case, event: Event, user: str, right: str) -> Finding:
    name, call = case.service.name, _refused_call(event)
    taken = user in ALL_RIGHTS_ACCOUNTS
    who = f"its definition takes {right} from it" if taken else f"the account {user} has no {right}"
    setting = "CapabilityBoundingSet" if taken else "AmbientCapabilities"
    return Finding(
        says=f"{name} (account {user}) may not {call}: {who}.",
        evidence=(
            case.quoted(event, SAID),
            case.seen(f"{call} needs {right} (capabilities(7)), and {who}", "definition", bears=FITS),
        ),
        mends=(
            Mend(f"Leave {name} the single right {right} ({setting}=), if it is meant to do that.", AFTER_RELOAD),
            Mend(
                "Or have it not do that: its configuration, or the account that it is started as.",
                AFTER_RELOAD,
                instead=True,
            ),
        ),
        explains=("exits-with-error", "exits-at-once", "crash-loop"),
    )
