"""What was changed lately on a systemd host: by the times of files, the logs of packages, and the records of what root was asked to do.

File times are those of the change of the entry itself (inode(7), "Last status change timestamp"), which nobody sets at will; a package
keeps the other one as it was built.
"""

from __future__ import annotations

import stat
from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator, Mapping
from datetime import UTC, datetime, timedelta

from hollow_chain.facts.change import LONGEST_AGO, Change, ChangeKind
from hollow_chain.facts.habits import names_of
from hollow_chain.facts.host import Host
from hollow_chain.facts.service import Service, is_deserted
from hollow_chain.families.messages import FAILED, STARTED, STOPPED
from hollow_chain.families.times import AT_BOOT_SECONDS
from hollow_chain.reach.handles import Walker
from hollow_chain.reach.interfaces import Each, NotThere, Records
from hollow_chain.sources import package_logs
from hollow_chain.sources.packages import files_of
from hollow_chain.sources.reading import HostReading
from hollow_chain.sources.systemd.journal import Journal, ManagerRecord
from hollow_chain.wording.asked_of_root import asked_of_root

_MOST_FILES, _DEPTH, _MOST_EACH = 300, 3, 20
"""Files of settings of one service that are looked at, folders below the first, and changes of one service that are kept."""
_MOST_SERVICES = 1000
"""Services whose files are looked at."""
_MOST_RECORDS = 300
"""Records of starts and stops, and of what root was asked to do, that are read."""
_OF_PACKAGE = timedelta(minutes=5)
"""How long after the step of a package its files come, and its services are enabled: a large one takes minutes to unpack."""
_CLOCKS = timedelta(seconds=2)
"""By how much a log that tells whole seconds is behind the times of files."""
_OF_HOST = (
    "/etc/hosts", "/etc/resolv.conf", "/etc/nsswitch.conf", "/etc/fstab", "/etc/sysctl.conf", "/etc/sysctl.d", "/etc/group",
    "/etc/passwd", "/etc/security/limits.conf", "/etc/security/limits.d", "/etc/systemd/system.conf", "/etc/systemd/system.conf.d",
    "/etc/nftables.conf", "/etc/sudoers", "/etc/sudoers.d", "/etc/ssl/openssl.cnf", "/etc/ld.so.conf.d", "/etc/localtime",
    "/etc/selinux/config", "/etc/apparmor.d", "/etc/environment", "/etc/hostname", "/etc/network/interfaces",
)  # fmt: skip
"""Settings that hold for all services of a host (hosts(5), resolv.conf(5), fstab(5), sysctl.d(5), limits.conf(5),
systemd-system.conf(5) ...)."""
_KEEPERS = (
    "useradd",
    "usermod",
    "userdel",
    "groupadd",
    "groupmod",
    "groupdel",
    "passwd",
    "chpasswd",
    "chage",
    "gpasswd",
)
"""Programs that change accounts and leave a record of it (shadow-utils)."""


def add(reading: HostReading) -> None:
    """What was changed lately: of the services that are not well or are asked about; of all of them where that is wanted."""
    host, walker = reading.host, reading.walker
    now = host.read_at or reading.reached.now()
    since = now - LONGEST_AGO
    chosen = [service for service in host.services if _is_looked_at(service, reading)][:_MOST_SERVICES]
    if not chosen and not reading.asked.with_changes:
        return
    reading.reached.files.expect([log.path for log in package_logs.LOGS])
    packages = package_logs.read(walker, since, now)
    each = reading.reached.each
    reading.reached.files.expect([*_OF_HOST, *(path for service in chosen for path in _files_of(service))])
    changes = [one for told in each(lambda s: _of_service(s, walker, since, now), chosen) for one in told]
    changes += [
        one for told in each(lambda path: list(_at(path, "system", walker, since, now)), _OF_HOST) for one in told
    ]
    changes += _enabled(chosen, since)
    lists = files_of({one.what for one in packages if one.did != "removed"}, walker)
    changes = _without_packaged(changes, packages, lists)
    _name_services(packages, chosen, lists)
    changes += packages
    try:
        with reading.reached.journal() as records:
            changes += _recorded(host, chosen, records, since, reading.asked.with_changes, each)
    except (NotThere, OSError):
        pass  # that the journal could not be read is said by who reads the words of services from it
    if host.boot_at is not None and host.boot_at >= since:
        changes.append(Change(at=host.boot_at, kind="boot", what=host.name, did="booted", source="system manager"))
    host.changes = sorted(changes, key=lambda one: one.at)


def _is_looked_at(service: Service, reading: HostReading) -> bool:
    if service.template or service.kind in ("device", "slice", "scope", "target"):
        return False
    if reading.asked.with_changes or service.name in reading.closely:
        return service.definition is not None
    restarts = service.last.restarts if service.last is not None else 0
    return service.state in ("failed", "starting") or restarts > 0 or is_deserted(service)


def _files_of(service: Service) -> dict[str, ChangeKind]:
    """The places of its files, and of what kind each is."""
    definition, program = service.definition, service.program
    kinds: dict[str, ChangeKind] = {}
    if definition is not None:
        # What generators make is made anew at each boot and each reload.
        parts = [definition.made_from or definition.file, *definition.drop_ins]
        kinds |= dict.fromkeys((part for part in parts if part and not part.startswith("/run/")), "definition")
    if program is not None and not program.root:
        kinds[program.path] = "program"
        settings = [*program.paths, *program.environment_files, *(program.credential_files or ())]
        kinds |= {path: "settings" for path in settings if path not in kinds and not _is_written_by_itself(path)}
        for name in names_of(service):
            for place in (f"/etc/{name}", f"/etc/{name}.conf", f"/etc/default/{name}", f"/etc/sysconfig/{name}"):
                kinds.setdefault(place, "settings")
        kinds |= {folder: "data" for folder in program.own_folders if folder not in kinds}
    return kinds


def _of_service(service: Service, walker: Walker, since: datetime, now: datetime) -> list[Change]:
    """The changes of its files, the newest of them."""
    told = [one for path, kind in _files_of(service).items() for one in _at(path, kind, walker, since, now)]
    found = list({one.what: one for one in reversed(told)}.values())  # a file may be named, and lie in a folder that is
    for one in found:
        one.services = [service.name]
    return sorted(found, key=lambda one: one.at)[-_MOST_EACH:]


_OWN_PLACES = (
    "/run/",
    "/var/run/",
    "/var/log/",
    "/var/lib/",
    "/var/cache/",
    "/var/spool/",
    "/var/tmp/",
    "/tmp/",
    "/proc/",
    "/dev/",
    "/sys/",
)


def _is_written_by_itself(path: str) -> bool:
    """Whether a service writes there as it runs, so that a change tells nothing."""
    return path.startswith(_OWN_PLACES)


def _at(
    path: str, kind: ChangeKind, walker: Walker, since: datetime, now: datetime, depth: int = 0
) -> Iterator[Change]:
    """The change of a file; of a folder of settings, those of what lies in it."""
    try:
        found = walker.find(path, follow_last=kind != "definition")
    except OSError:
        return
    about = found.about
    if about is None or walker.is_made_up(about):
        return
    is_folder = stat.S_ISDIR(about.st_mode)
    if not (is_folder or stat.S_ISREG(about.st_mode) or stat.S_ISLNK(about.st_mode)):
        return
    written, altered = _moment(about.st_mtime), _moment(about.st_ctime)
    same = abs((altered - written).total_seconds()) < 2.0
    # That things come and go in a folder of data is its use; that its owner or mode was changed is not.
    if since <= altered <= now + timedelta(minutes=1) and not (is_folder and kind == "data" and same):
        masked = stat.S_ISLNK(about.st_mode) and kind == "definition" and _leads_to_nothing(found.path, walker)
        did = "masked" if masked else "written" if same else "replaced or given other rights"
        told = Change(at=altered, kind=kind, what=path, did=did, source="file times", trusted=found.alone)
        if not is_folder or kind == "data" or (same and path.startswith("/etc/")):
            yield told
    if is_folder and kind in ("settings", "system") and depth < _DEPTH and path.startswith("/etc/"):
        names = walker.names(path, _MOST_FILES)
        walker.expect(f"{path}/{name}" for name in names)
        for name in names:
            yield from _at(f"{path}/{name}", kind, walker, since, now, depth + 1)


def _leads_to_nothing(path: str, walker: Walker) -> bool:
    try:
        about = walker.find(path).about
    except OSError:
        return False
    return about is not None and stat.S_ISCHR(about.st_mode)


def _moment(stamp: float) -> datetime:
    return datetime.fromtimestamp(min(max(stamp, 0.0), 1e11), UTC)


def _enabled(services: Iterable[Service], since: datetime) -> Iterator[Change]:
    for service in services:
        at = service.definition.enabled_at if service.definition is not None else None
        if at is not None and at >= since:
            yield Change(
                at=at,
                kind="startup",
                what=service.name,
                did="set to start at boot",
                services=[service.name],
                source="file times",
            )


Lists = Mapping[str, frozenset[str]]
"""The files that each package brought."""


def _without_packaged(changes: list[Change], packages: list[Change], lists: Lists) -> list[Change]:
    """Without what came with a package: that one is told itself."""
    kept = []
    for one in changes:
        first = bisect_left(packages, one.at - _OF_PACKAGE, key=_moment_of)
        steps = packages[first : bisect_right(packages, one.at + _CLOCKS, key=_moment_of)]
        came_along = one.kind == "startup" or one.what.startswith(("/etc/passwd", "/etc/group"))
        if not steps or not (
            came_along
            or one.what.startswith(("/usr/", "/lib/"))
            or any(one.what in lists.get(step.what, ()) for step in steps)
        ):
            kept.append(one)
    return kept


def _moment_of(change: Change) -> datetime:
    return change.at


def _name_services(packages: list[Change], services: Iterable[Service], lists: Lists) -> None:
    """Tell each change of a package the services that it brought, or whose program it brought; where no list tells, those of its name."""
    by_file: dict[str, list[str]] = {}
    by_name: dict[str, list[str]] = {}
    for service in services:
        own = (service.definition.file if service.definition else "", service.program.path if service.program else "")
        for path in {*own} - {""}:
            by_file.setdefault(path, []).append(service.name)
        for name in names_of(service):
            by_name.setdefault(name, []).append(service.name)
    for one in packages:
        files = lists.get(one.what)
        found = (
            by_name.get(one.what, [])
            if files is None
            else [s for path in by_file.keys() & files for s in by_file[path]]
        )
        one.services = sorted(set(found))


def _recorded(
    host: Host, services: list[Service], records: Records, since: datetime, of_all: bool, each: Each
) -> list[Change]:
    """What root was asked to do, what was done to accounts, and what was started and stopped since the boot was over."""
    names = {service.name for service in services}
    of_root, of_keepers = each(lambda writers: _entries(records, writers), (("sudo", "pkexec", "doas"), _KEEPERS))
    asked = [one for entry in of_root if (one := asked_of_root(*entry))]
    asked = [one for one in asked if one.at >= since]
    for one in asked:
        one.services = [service.name for service in services if _speaks_of(one.what, service)]
    accounts = {service.account.user: service.name for service in services if service.account and service.account.user}
    kept = [
        Change(at=at, kind="account", what=text[:300], source=f"journal ({writer})", services=_users_of(text, accounts))
        for at, text, writer in of_keepers
        if at >= since
    ]
    states = _states(host, Journal(records), names, since) if of_all or len(names) < _MOST_EACH else []
    for state in states:
        state.by = next((one.by for one in asked if _is_the_order(one, state)), "")
    return [*asked, *kept, *states]


def _entries(records: Records, writers: tuple[str, ...]) -> list[tuple[datetime, str, str]]:
    """Records that programs of these names wrote with the rights of root."""
    fits = [{"_COMM": list(writers), "_UID": ["0"]}, {"SYSLOG_IDENTIFIER": list(writers), "_UID": ["0"]}]
    found = records.entries(fits, ("MESSAGE", "_COMM", "SYSLOG_IDENTIFIER"), _MOST_RECORDS)
    return [(one.at, one.fields["MESSAGE"], one.fields["SYSLOG_IDENTIFIER"] or one.fields["_COMM"]) for one in found]


def _speaks_of(command: str, service: Service) -> bool:
    """Whether a command line names a service, or a file that is its own."""
    stem = service.name.rpartition(".")[0] if service.kind == "service" else service.name
    words = {word.strip("'\"") for word in command.split()}
    if words & {service.name, stem}:
        return True
    own = [service.definition.file, *service.definition.drop_ins] if service.definition else []
    own += [*service.program.paths, service.program.path] if service.program else []
    folders = [f"/etc/{name}/" for name in names_of(service)]
    return any(word in own or word.startswith(tuple(folders)) for word in words if word.startswith("/"))


def _users_of(text: str, accounts: dict[str, str]) -> list[str]:
    words = {word.strip("'\",;:()") for word in text.replace("=", " ").split()}
    return sorted(service for user, service in accounts.items() if user in words)


_VERBS = {
    "started": ("start", "restart", "reload-or-restart", "try-restart"),
    "stopped": ("stop", "restart", "isolate", "kill"),
}
_SOON = timedelta(seconds=100)
"""How long after its order a start or stop is done: as long as the limit that holds where nobody sets one."""


def _is_the_order(order: Change, state: Change) -> bool:
    words = order.what.split()
    return (
        timedelta(seconds=-1) <= state.at - order.at <= _SOON
        and state.services[0] in order.services
        and any(verb in words for verb in _VERBS.get(state.did, ()))
    )


_DID = {STARTED: "started", STOPPED: "stopped", FAILED: "failed"}


def _states(host: Host, journal: Journal, names: set[str], since: datetime) -> list[Change]:
    """Starts, stops and failures; those of the boot itself belong to it."""
    fields: dict[str, tuple[str, ...]] = {"MESSAGE_ID": tuple(_DID)}
    if len(names) < _MOST_EACH:
        fields["UNIT"] = tuple(sorted(names))
    told = [one for one in journal.told(fields, _MOST_RECORDS) if one.unit in names and one.at >= since]
    return [
        Change(
            at=one.at, kind="state", what=one.unit, did=_DID[one.code], services=[one.unit], source="journal (systemd)"
        )
        for one in _without_boot(told, host)
    ]


def _without_boot(told: list[ManagerRecord], host: Host) -> Iterator[ManagerRecord]:
    """Without the first start of each unit in the first minutes of this boot: that one belongs to the boot."""
    begun: set[str] = set()
    for one in told:
        after = (one.at - host.boot_at).total_seconds() if host.boot_at is not None else AT_BOOT_SECONDS
        if one.code == STARTED and 0 <= after < AT_BOOT_SECONDS and one.unit not in begun:
            begun.add(one.unit)
        else:
            yield one
