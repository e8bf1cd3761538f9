"""What package managers write down of what they did: the forms of their logs, and the changes that follow.

Sources: dpkg(1), ``--log``; the logs of RPM transactions that dnf and yum keep (``dnf.rpm.log``, ``yum.log``); the history of libzypp
(``/var/log/zypp/history``, fields between bars); ``pacman.log``.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from datetime import UTC, datetime, timedelta
from typing import NamedTuple

from hollow_chain.facts.change import Change
from hollow_chain.lazy import pattern
from hollow_chain.reach.handles import Walker

_TAIL_BYTES = 256 << 10
"""Bytes of the end of such a log that are read: some two thousand steps of packages."""
_MOST = 300
"""Changes of packages that are kept, the newest."""


class PackageLog(NamedTuple):
    """One kind of log: where it lies, and what a line of it says."""

    path: str
    says: Callable[[str], tuple[str, str, str, str] | None]
    """Of what stands behind the moment: what was done, the package, the version before, the version after."""


_DPKG = pattern(r"(install|upgrade|remove|purge) ([^\s:]{1,200})(?::\S{1,40})? (\S{1,200}) (\S{1,200})")
_RPM = pattern(
    r"(?:[A-Z]{3,10} )?(Installed|Upgrade|Updated|Downgrade|Downgraded|Erase|Erased|Obsoleted?|Reinstalled?): (\S{1,300})"
)
_ZYPP = pattern(r"(install|remove ?)\|([^|\s]{1,200})\|([^|\s]{1,200})\|")
_PACMAN = pattern(r"\[ALPM\] (installed|upgraded|downgraded|removed|reinstalled) (\S{1,200}) \(([^)]{1,200})\)")
_DID = {
    "install": "installed", "upgrade": "upgraded", "update": "upgraded", "remove": "removed", "purge": "removed",
    "erase": "removed", "downgrade": "downgraded", "obsolete": "replaced", "reinstall": "installed again",
}  # fmt: skip
_EPOCH = pattern(r"\d{1,9}:")
_ARCHITECTURE = pattern(r"\.(?:noarch|[a-z]\w{2,12})\Z")


def _did(word: str) -> str:
    word = word.lower().strip()
    return _DID.get(word) or _DID.get(word.removesuffix("ed")) or _DID.get(word.removesuffix("d")) or word


def _of_dpkg(rest: str) -> tuple[str, str, str, str] | None:
    found = _DPKG.match(rest)
    if found is None:
        return None
    before, after = ("" if version == "<none>" else version for version in found.groups()[2:])
    # What was there before in the state "removed" is named with its old version, and yet installed anew.
    return _did(found[1]), found[2], before, after


def _of_rpm(rest: str) -> tuple[str, str, str, str] | None:
    found = _RPM.match(rest)
    if found is None:
        return None
    name, version = _parts_of_rpm(found[2])
    gone = _did(found[1]) in ("removed", "replaced")
    return _did(found[1]), name, version if gone else "", "" if gone else version


def _parts_of_rpm(label: str) -> tuple[str, str]:
    """The name and the version of a package by its label, ``name-epoch:version-release.architecture`` (rpm(8)); the epoch is left out."""
    head, *rest = label.rsplit("-", 2)
    if len(rest) != 2:
        return label, ""
    version, release = _EPOCH.sub("", rest[0], count=1), _ARCHITECTURE.sub("", rest[1])
    epoch = _EPOCH.match(head)
    return head[epoch.end() :] if epoch else head, f"{version}-{release}"


def _of_zypp(rest: str) -> tuple[str, str, str, str] | None:
    found = _ZYPP.match(rest)
    if found is None:
        return None
    gone = found[1].startswith("remove")
    return _did(found[1]), found[2], found[3] if gone else "", "" if gone else found[3]


def _of_pacman(rest: str) -> tuple[str, str, str, str] | None:
    found = _PACMAN.match(rest)
    if found is None:
        return None
    before, arrow, after = found[3].partition(" -> ")
    gone = found[1] == "removed"
    return found[1], found[2], before if arrow or gone else "", after if arrow else "" if gone else before


LOGS = (
    PackageLog("/var/log/dpkg.log.1", _of_dpkg),
    PackageLog("/var/log/dpkg.log", _of_dpkg),
    PackageLog("/var/log/dnf.rpm.log", _of_rpm),
    PackageLog("/var/log/yum.log", _of_rpm),
    PackageLog("/var/log/zypp/history", _of_zypp),
    PackageLog("/var/log/pacman.log", _of_pacman),
)
_STAMP = pattern(r"\[?(\d{4}-\d\d-\d\d)[ T](\d\d:\d\d(?::\d\d)?)(?:[.,]\d{1,9})?(Z|[+-]\d\d:?\d\d)?\]?[ |]")
_STAMP_WITHOUT_YEAR = pattern(r"([A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d) ")


def changes_in(lines: Iterable[str], log: PackageLog, now: datetime) -> Iterator[Change]:
    """The changes that the lines of *log* tell. A moment without a zone is of this host, one without a year the last such before *now*."""
    for line in lines:
        at, rest = _moment(line[:400], now)
        told = log.says(rest) if at is not None else None
        if at is not None and told is not None:
            did, name, before, after = told
            yield Change(
                at=at, kind="package", what=name, did=did, before=before, after=after, source=f"log file {log.path}"
            )


def _moment(line: str, now: datetime) -> tuple[datetime | None, str]:
    found = _STAMP.match(line)
    try:
        if found is not None:
            # Logs have thousands of lines, and strptime takes ten times as long.
            at = datetime.fromisoformat(f"{found[1]} {found[2]}{found[3] or ''}")
            return at.astimezone(UTC), line[found.end() :]
        found = _STAMP_WITHOUT_YEAR.match(line)
        if found is not None:
            here = datetime.strptime(f"{now.astimezone().year} {found[1]}", "%Y %b %d %H:%M:%S").astimezone(UTC)
            return here if here <= now + timedelta(days=1) else here.replace(year=here.year - 1), line[found.end() :]
    except (ValueError, OverflowError, OSError):
        pass
    return None, ""


def read(walker: Walker, since: datetime, now: datetime) -> list[Change]:
    """What was done to the packages of a host since then, oldest first; the last step of each package in a row of steps."""
    found: list[Change] = []
    for log in LOGS:
        found += [one for one in changes_in(root_tail(log.path, walker), log, now) if since <= one.at <= now]
    return _last_of_rows(sorted(found, key=lambda one: one.at))[-_MOST:]


_OF_ONE_ROW = timedelta(minutes=5)
"""Between the steps of a package in one run of its manager."""


def _last_of_rows(changes: list[Change]) -> list[Change]:
    """Without what only prepares another step of the same package: a removal before a purge, an old version going for a new one."""
    last: dict[tuple[str, str], Change] = {}
    kept: list[Change] = []
    for one in changes:
        before = last.get((one.what, one.did))
        if before is not None and one.at - before.at <= _OF_ONE_ROW:
            continue
        last[one.what, one.did] = one
        kept.append(one)
    return kept


def root_tail(path: str, walker: Walker) -> list[str]:
    """The last lines of a log of root's; of one that others may write, none."""
    try:
        content = walker.read(path, _TAIL_BYTES, from_end=True)
    except OSError:
        return []
    if content.about.st_uid != 0 or not content.alone:
        return []
    lines = content.data.decode("utf-8", "replace").splitlines()
    return lines[1:] if content.begins else lines
