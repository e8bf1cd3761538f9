"""May this service, under its account and in its confinement, reach that path? By what was seen of the path."""

from __future__ import annotations

import re
from collections.abc import Iterator

import msgspec

from hollow_chain.causes import acts, listed_rights
from hollow_chain.causes.acts import Act
from hollow_chain.causes.case import Case
from hollow_chain.causes.places import given, inside, is_closed, is_of_the_system
from hollow_chain.facts.host import File

ALL_RIGHTS_ACCOUNTS = ("root", "0", "")
_READ, _WRITE, _SEARCH = 4, 2, 1
"""The bits of a mode for one of its three classes (inode(7))."""
_BYPASS = ("CAP_DAC_OVERRIDE", "1")
"""Takes no notice of modes and lists (capabilities(7)); by name, or by number as older snapshots have it."""


_OF_KERNEL = ("/dev/", "/proc/", "/sys/")
"""What stays open where all else is made read-only (systemd.exec(5), "ProtectSystem=")."""


class Barrier(msgspec.Struct, frozen=True):
    """What keeps a service from a path."""

    path: str
    """The path itself, a folder on the way to it, or what the definition closes."""
    why: str
    by_definition: bool = False
    by_mount: bool = False
    """Whether the file system is mounted so."""
    by_flag: bool = False
    """Whether a flag of the file is set so, which keeps out everybody."""
    only_writing: bool = False
    """Whether it may read there, so that this keeps it out only if it was about to write, which nobody says."""
    file: File | None = None


def account_of(case: Case) -> str:
    """The account that the service runs under, as it is said."""
    account = case.service.account
    return account.user if account and account.user else case.family.word("root", "LocalSystem")


def barrier(case: Case, path: str, writes: bool | None = None, runs: bool = False) -> Barrier | None:
    """The first thing that keeps the service from *path*; None where nothing that was seen does.

    *writes* tells whether it wants to write there; None: not known, so that either may be missing. *runs*: whether it wants to execute it.
    """
    return (
        _closed(case, path, writes, runs)
        or _kept_out(case, path, writes, runs)
        or (_not_run(case, path) if runs else None)
    )


def barrier_for_owner(case: Case, path: str) -> Barrier | None:
    """The first folder on the way to *path* that keeps its own owner out: programs that begin as root and go on as an account of their
    own write as that one. Groups of that account are not known, so that only what is closed to its group and all others counts."""
    file = case.file(path)
    if file is None or file.owner in ALL_RIGHTS_ACCOUNTS:
        return None
    parts = path.split("/")
    for depth in range(2, len(parts)):
        above = case.file("/".join(parts[:depth]))
        known = above is not None and above.exists and re.fullmatch(r"[0-7]{3,5}", above.mode)
        if above is None or not known or above.owner == file.owner or above.acl:
            continue
        if not int(above.mode, 8) & 0o011:
            why = f"{above.path} belongs to {above.owner}:{above.group}, mode {above.mode}, and {path} to {file.owner}"
            return Barrier(above.path, why, file=above)
    return None


def closed_to_all_but_root(case: Case, path: str) -> Barrier | None:
    """The first folder on the way to *path* that nobody but root may enter: for a program that was refused it although it begins as
    root, and so must have gone on as an account of its own."""
    parts = path.split("/")
    for depth in range(2, len(parts)):
        above = case.file("/".join(parts[:depth]))
        known = above is not None and above.exists and not above.acl and re.fullmatch(r"[0-7]{3,5}", above.mode)
        if above is not None and known and above.owner in ALL_RIGHTS_ACCOUNTS and not int(above.mode, 8) & 0o011:
            return Barrier(
                above.path, f"{above.path} belongs to {above.owner}:{above.group}, mode {above.mode}", file=above
            )
    file = case.file(path)
    if file is None or not file.exists or file.acl or file.owner not in ALL_RIGHTS_ACCOUNTS:
        return None
    if not re.fullmatch(r"[0-7]{3,5}", file.mode) or int(file.mode, 8) & 0o066:
        return None
    why = f"{path} belongs to {file.owner}:{file.group}, mode {file.mode}, and it had gone on as another account"
    return Barrier(path, why, file=file)


def _fixed(case: Case, path: str) -> File | None:
    """What a flag keeps from being changed: the thing itself, or the folder in which it is to be made."""
    file, known = case.file(path), case.index.fixed
    above = known.get(path.rpartition("/")[0])
    to_be_made = above is not None and above.fixed == "immutable" and not (file is not None and file.exists)
    return known.get(path) or (above if to_be_made else None)


def _closed(case: Case, path: str, writes: bool | None, runs: bool = False) -> Barrier | None:
    """By the definition (systemd.exec(5), "Sandboxing"), or by a file system that takes no writes."""
    confinement = case.service.confinement
    if confinement is not None:
        for place in confinement.hidden:
            if inside(path, place):
                return Barrier(place, f"its definition hides {place} from it", by_definition=True)
        if writes and not any(inside(path, place) for place in confinement.writable):
            closed = [
                place
                for place in confinement.read_only
                if inside(path, place) and not (place == "/" and path.startswith(_OF_KERNEL))
            ]
            if closed:
                place = max(closed, key=len)
                return Barrier(place, f"its definition makes {place} read-only for it", by_definition=True)
        if runs and not any(inside(path, place) for place in confinement.run or ()):
            barred = [place for place in confinement.not_run or () if inside(path, place)]
            if barred:
                return Barrier(barred[0], f"its definition lets nothing be executed in {barred[0]}", by_definition=True)
    if writes is not False and case.index.fixed and (fixed := _fixed(case, path)) is not None:
        why = f"{fixed.path} is {fixed.fixed}: a flag of the file keeps everybody from changing it, root included (chattr(1))"
        return Barrier(fixed.path, why, by_flag=True)
    mounted = [f for f in case.host.filesystems if inside(path, f.mounted_on)]
    mount = max(mounted, key=lambda f: len(f.mounted_on), default=None)
    if writes and mount is not None and mount.read_only:
        return Barrier(mount.mounted_on, f"the file system on {mount.mounted_on} is mounted read-only", by_mount=True)
    if runs and mount is not None and mount.no_exec:
        return Barrier(
            mount.mounted_on,
            f"the file system on {mount.mounted_on} is mounted so that nothing on it may be executed",
            by_mount=True,
        )
    return None


def bypasses(case: Case) -> bool:
    """Whether modes do not bind the service: an account with all rights that its definition does not take away."""
    confinement = case.service.confinement
    if confinement is not None and any(right in confinement.granted for right in _BYPASS):
        return True
    if account_of(case) not in ALL_RIGHTS_ACCOUNTS:
        return False
    kept = confinement.capabilities if confinement is not None else None
    return kept is None or any(right in kept for right in _BYPASS)


def _not_run(case: Case, path: str) -> Barrier | None:
    """A file that nobody may execute, root included (execve(2), ``EACCES``)."""
    file = case.file(path)
    if file is None or not file.exists or file.kind != "file" or not re.fullmatch(r"[0-7]{3,5}", file.mode):
        return None
    return (
        None
        if int(file.mode, 8) & 0o111
        else Barrier(path, f"{path} may be executed by nobody: mode {file.mode}", file=file)
    )


def _kept_out(case: Case, path: str, writes: bool | None, runs: bool = False) -> Barrier | None:
    """The first thing on the way to *path*, itself last, whose mode or list keeps the account out."""
    for file, _ in _lacking(case, path, writes, runs):
        what = f"{file.path} belongs to {file.owner}"
        what += f":{file.group}, mode {file.mode}" if file.mode else ""
        return Barrier(file.path, what + (f", list {', '.join(file.acl)}" if file.acl else ""), file=file)
    return None


def _lacking(case: Case, path: str, writes: bool | None, runs: bool = False) -> Iterator[tuple[File, int]]:
    """Everything on the way to *path*, itself last, that keeps the account out, with what it would need there.

    Where nothing is there, and it is not known that the service was to make it, only the way counts.
    """
    if bypasses(case):
        return
    absent = (last := case.file(path)) is not None and not last.exists
    if absent and not writes:
        path, absent, writes = path.rpartition("/")[0], False, False
    if case.family.rights_by_list:
        yield from _lacking_by_list(case, path, absent, writes)
        return
    parts = path.split("/")
    end = len(parts) - absent
    for depth in range(2, end + 1):
        file = case.file("/".join(parts[:depth]))
        if file is None or not file.exists or not re.fullmatch(r"[0-7]{3,5}", file.mode):
            continue
        needed = _SEARCH if depth < end or runs else _needed_at_end(file, absent, writes)
        if _rights(case, file) & needed != needed:
            yield file, needed


def _lacking_by_list(case: Case, path: str, absent: bool, writes: bool | None) -> Iterator[tuple[File, int]]:
    """The same where lists decide: the thing itself, or the folder that it is yet to be made in. Folders on the way ask for nothing: each
    account may pass them (the documentation of privileges, ``SeChangeNotifyPrivilege``)."""
    file = case.file(path.replace("/", "\\").rpartition("\\")[0] if absent else path)
    if file is None or not file.exists:
        return
    # What it wants is known only where the words say so: to be read is the least.
    needed = _WRITE if writes or absent else _READ
    has = listed_rights.rights(case, account_of(case), file)
    if has is not None and has & needed != needed:
        yield file, needed


def _needed_at_end(file: File, absent: bool, writes: bool | None) -> int:
    if absent:
        return _WRITE | _SEARCH  # the last part is yet to be made
    if file.kind == "folder":
        return _SEARCH | (_WRITE if writes is not False else 0)
    return {True: _WRITE, False: _READ, None: _READ | _WRITE}[writes]


def _rights(case: Case, file: File) -> int:
    """What the account may do with *file*, by owner, group, others and its list (acl(5), "Access check algorithm")."""
    bits = int(file.mode, 8)
    user = account_of(case)
    account = case.account(user)
    groups = set(account.groups if account else ())
    if case.service.account is not None:
        groups |= {case.service.account.group, *case.service.account.groups}
    listed = [entry.split(":") for entry in file.acl if entry.count(":") == 2]
    mask = next((_bits(rights) for kind, _, rights in listed if kind == "mask"), 7)
    if file.owner == user:
        return bits >> 6 & 7
    named = next((_bits(rights) for kind, name, rights in listed if kind == "user" and name == user), None)
    if named is not None:
        return named & mask
    own_group = next((_bits(rights) for kind, name, rights in listed if kind == "group" and not name), bits >> 3 & 7)
    of_groups = [own_group] if file.group in groups else []
    of_groups += [_bits(rights) for kind, name, rights in listed if kind == "group" and name in groups and name]
    if of_groups:
        together = 0
        for rights in of_groups:
            together |= rights
        return together & mask
    return bits & 7


def owners_of(case: Case) -> tuple[str, str]:
    """The user and the group that what is made for the service belongs to."""
    account, user = case.service.account, account_of(case)
    known = case.account(user)
    group = (account.group if account else "") or (known.groups[0] if known and known.groups else "")
    return user, group or user


def place_of(case: Case, file: File) -> int:
    """By how many bits the account's own rights stand above those of others in the mode of *file*: 6, 3 or 0."""
    user, group = owners_of(case)
    if user in ALL_RIGHTS_ACCOUNTS or file.owner == user:
        return 6
    account = case.account(user)
    groups = {
        group,
        *(account.groups if account else ()),
        *(case.service.account.groups if case.service.account else ()),
    }
    return 3 if file.group in groups else 0


def openings(case: Case, path: str, writes: bool | None = None, by_hand: bool = False) -> tuple[Act, ...]:
    """The smallest changes of owner, group and mode that let the account in to *path*: a right for others is never among them,
    nor is a right that it does not need. None where no such change is known to be enough, or where it would be one in a place that
    the definition does not give to the service; *by_hand* tells what a person could do even there."""
    if case.account(account_of(case)) is None or case.family.rights_by_list:
        return ()
    last = case.file(path)
    if writes is None and last is not None and last.kind == "file" and not inside(path, "/var"):
        writes = False  # what it does with the file is not known: the smaller right first
    found: list[Act] = []
    for file, needed in _lacking(case, path, writes):
        opened = _opened(case, file, needed) if by_hand or given(case, file.path) else []
        if not opened:
            return ()
        found += [_with_all_in_it(case, act) for act in opened]
    return tuple(found)


_OF_DATA = ("/var/lib", "/var/cache", "/var/spool")
"""Where services keep what is theirs alone; elsewhere root's own files may lie among theirs for a reason (hier(7))."""


def _with_all_in_it(case: Case, act: Act) -> Act:
    """Where a folder of data is to be given to the account, and all that is known to lie in it is root's as well, all of it is: one
    file after the other would be refused otherwise."""
    file = case.file(act.path)
    if act.verb != "owner" or file is None or file.kind != "folder" or file.owner not in ALL_RIGHTS_ACCOUNTS:
        return act
    if not any(inside(act.path, place) and act.path != place for place in _OF_DATA):
        return act
    within = [one for one in case.host.files if one.exists and one.path != act.path and inside(one.path, act.path)]
    if not within or any(one.owner not in ALL_RIGHTS_ACCOUNTS for one in within):
        return act
    user, group = owners_of(case)
    return acts.owners(act.path, user, group)


def _opened(case: Case, file: File, needed: int) -> list[Act]:
    """What lets the account do *needed* with one file or folder."""
    bits, place = int(file.mode, 8), place_of(case, file)
    runs_as_owner = file.kind == "file" and bool(bits & 0o6000)
    # A program that root or others may run is not for the service to write, wherever it lies.
    is_program = file.kind == "file" and bool(bits & 0o111) and bool(needed & _WRITE)
    if file.acl or file.link_to or is_of_the_system(file.path) or file.kind not in ("file", "folder"):
        return []
    if runs_as_owner or is_program:
        return []
    user, group = owners_of(case)
    if place:
        return [acts.mode(file.path, bits | needed << place)]
    if file.owner not in ALL_RIGHTS_ACCOUNTS:
        return []  # somebody else's: what he would lose is not for a machine to decide
    if needed & _WRITE:
        wider = bits | needed << 6
        owned = acts.owner(file.path, user, file.group)
    elif file.group in ALL_RIGHTS_ACCOUNTS or not bits & 0o070:
        wider = (bits & ~0o070) | needed << 3
        owned = acts.owner(file.path, file.owner, group)
    else:
        return []
    return [owned] if wider == bits else [owned, acts.mode(file.path, wider)]


def _bits(rights: str) -> int:
    return sum(bit for letter, bit in (("r", _READ), ("w", _WRITE), ("x", _SEARCH)) if letter in rights)


def in_words(case: Case, path: str, place: str, writes: bool | None, user: str) -> tuple[str, tuple[Act, ...]]:
    """What opens *path*, which *place* closes, to the account: as a sentence, with what a machine may do of it.

    Where the definition does not give the service that place, a person has to see first whether it has any business there: whoever
    writes a log can have it name whatever he likes.
    """
    led = file.link_to if (file := case.file(place)) is not None else ""
    if led:
        return f"{place} leads to {led}, by a link: see first who made it, and whether that is meant.", ()
    done = openings(case, path, writes)
    if done or (given(case, path) and given(case, place)):
        return (
            f"Give the account {user} the smallest right that is enough on {place}; its right owner is a good guess.",
            done,
        )
    doubt = (
        f"{place} is not among the places that the definition of {case.service.name} gives it: see first whether it is meant to "
        "use that at all"
    )
    exact = [f"{act.path} to {act.value} ({act.verb})" for act in openings(case, path, writes, by_hand=True)]
    if not exact or is_closed(place):
        return f"{doubt}, and correct what sends it there.", ()
    return f"{doubt}; if it is, and by hand only: set {', and '.join(exact)}.", ()
