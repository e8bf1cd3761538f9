"""What a daemon uses when it is well: seen by watching one good start of it, never written down by hand.

The manager of a throwaway host is traced while it restarts the daemon (``strace``); what the daemon's own processes open, and the
sockets they hold afterwards, tell its settings, data, logs and endpoints.
"""

from __future__ import annotations

import re
import time
from collections.abc import Iterator
from pathlib import Path

import msgspec
from tests.live.realhost import RealHost

from bench.factory.daemons import Daemon


class Endpoint(msgspec.Struct, frozen=True):
    """A TCP endpoint that it holds."""

    address: str
    port: int


class Probe(msgspec.Struct):
    """What one daemon uses."""

    unit: str
    user: str = "root"
    group: str = ""
    program: str = ""
    arguments: list[str] = []
    line: str = ""
    """Its command line as the definition has it."""
    style: str = ""
    pid_file: str = ""
    settings: list[str] = []
    """Files below /etc that it reads, those named on its command line first."""
    keys: list[str] = []
    data: list[str] = []
    """Folders below /var (not logs) that it writes into, topmost first."""
    logs: list[str] = []
    """Log files that it writes."""
    libraries: list[str] = []
    endpoints: list[Endpoint] = []
    before: bool = False
    """Whether a step of its definition goes before the main program."""
    restarts: bool = False

    @property
    def name(self) -> str:
        """Its unit without the suffix."""
        return self.unit.removesuffix(".service")


_COMMON = re.compile(
    r"/etc/(init\.d|rc|ld\.so|passwd|group|shadow|nsswitch|resolv|host|localtime|timezone|services|protocols|gai|netconfig|machine-id|"
    r"ssl/(openssl|certs)|locale|pam\.d|security|login\.defs|os-release|environment|default/locale|mime|magic|inputrc|ethers|"
    r"gnutls|gss|krb5|libnl|debian_version|terminfo|alternatives|perl|python|ruby|lua|php/[\d.]+/mods|sasl|systemd|selinux|rpc)"
)
_CALL = re.compile(r"^(\d+) +(?:<\.\.\. )?(\w+)[ (]")
_CHILD = re.compile(r"^(\d+) .*(?:clone3?|v?fork)\b.*= (\d+)$")
_OPENED = re.compile(r'^(\d+) +openat\([^,]+, "([^"]+)", ([A-Z_|]+).*= (\d+)')
_TRACE = "/var/tmp/factory.trace"


def probe(host: RealHost, daemon: Daemon) -> Probe | None:
    """Watch a good start of *daemon* on *host*; None where it does not start, or does not stay."""
    shown = _shown(host, daemon.unit)
    found = Probe(
        unit=daemon.unit,
        user=shown.get("User") or "root",
        group=shown.get("Group", ""),
        style=shown.get("Type", ""),
        pid_file=shown.get("PIDFile", ""),
        before=bool(shown.get("ExecStartPre")),
        restarts=shown.get("Restart", "no") != "no",
    )
    words = re.search(r"argv\[\]=(.*?) ;", shown.get("ExecStart", ""))
    line = words[1].split() if words else []
    found.program, found.arguments = (line[0], line[1:]) if line else ("", [])
    raw = host.run(
        f"systemctl cat {daemon.unit} | sed -e ':a' -e '/\\\\$/{{N;s/\\\\\\n//;ba}}' | grep '^ExecStart=.' | tail -1",
        check=False,
    ).stdout
    found.line = raw.strip().partition("=")[2].lstrip("-+!@:")
    host.run(
        f"strace -f -qq -s 400 -e trace=openat,execve,clone,clone3,fork,vfork -o {_TRACE} -p 1 & echo $! > /var/tmp/tracer\n"
        f"sleep 0.4; timeout 60 systemctl restart {daemon.unit}; sleep {daemon.settle + 1}; kill -INT $(cat /var/tmp/tracer); sleep 0.3",
        check=False,
    )
    if not stays(host, daemon.unit):
        return None
    _add_files(found, host.run(f"cat {_TRACE}", check=False).stdout.splitlines())
    found.endpoints = endpoints(host, daemon.unit)
    found.libraries = _libraries(host, daemon.unit)
    return found


def stays(host: RealHost, unit: str) -> bool:
    """Whether the unit is up and was not restarted within two seconds."""
    before = _shown(host, unit)
    time.sleep(2)
    after = _shown(host, unit)
    keys = ("ActiveState", "SubState", "MainPID", "NRestarts", "InvocationID")
    return after.get("ActiveState") == "active" and [before.get(k) for k in keys] == [after.get(k) for k in keys]


def _shown(host: RealHost, unit: str) -> dict[str, str]:
    out = host.run(f"systemctl show {unit}", check=False).stdout
    return dict(line.split("=", 1) for line in out.splitlines() if "=" in line)


def _processes(host: RealHost, unit: str) -> set[int]:
    group = _shown(host, unit).get("ControlGroup", "")
    out = (
        host.run(f"find /sys/fs/cgroup{group} -name cgroup.procs -exec cat {{}} +", check=False).stdout if group else ""
    )
    return {int(word) for word in out.split()}


def endpoints(host: RealHost, unit: str) -> list[Endpoint]:
    """TCP endpoints that the processes of the unit hold."""
    own = _processes(host, unit)
    found = []
    for line in host.run("ss -Hltnp", check=False).stdout.splitlines():
        words = line.split()
        holders = {int(number) for number in re.findall(r"pid=(\d+)", line)}
        if holders & own:
            address, _, port = words[3].rpartition(":")
            found.append(Endpoint(address.strip("[]").partition("%")[0], int(port)))
    return sorted(set(found), key=lambda e: (e.port, e.address))


def _libraries(host: RealHost, unit: str) -> list[str]:
    main = _shown(host, unit).get("MainPID", "0")
    out = host.run(f"grep -o '/usr/lib/[^ ]*\\.so[^ ]*' /proc/{main}/maps | sort -u", check=False).stdout.split()
    shared = re.compile(r"/(ld-|libc\.|libc-|libm|libpthread|libdl|libsystemd|libpam|libselinux|libcap|liblz|libzstd|libcrypt|libgcrypt|"
                        r"libgpg|libmount|libblk|libaudit|libkmod|libseccomp|libacl|libip|libpcre2|libapparmor|libnss)")  # fmt: skip
    return [path for path in out if not shared.search(path)]


def _add_files(found: Probe, trace: list[str]) -> None:
    read, written = [], []
    for path, flags in _opened_by_service(trace, found.program):
        if "O_DIRECTORY" not in flags:
            (written if re.search("O_WRONLY|O_RDWR|O_CREAT", flags) else read).append(path)
    named = [path for word in found.arguments for path in re.findall(r"/etc/[^\s,;=]+", word)]
    settings = [p for p in dict.fromkeys([*named, *read]) if p.startswith("/etc/") and not _COMMON.match(p)]
    found.keys = [p for p in settings if re.search(r"(?i)key|\.pem|cert|secret|\.crt", p)]
    found.settings = [p for p in settings if p not in found.keys]
    found.logs = [p for p in dict.fromkeys(written) if p.startswith("/var/log/")]
    others = [
        p
        for p in dict.fromkeys(written)
        if p.startswith("/var/") and not p.startswith(("/var/log/", "/var/run", "/var/tmp"))
    ]
    found.data = list(dict.fromkeys(str(Path(p).parent) for p in others))


def _opened_by_service(trace: list[str], program: str) -> Iterator[tuple[str, str]]:
    """Files that a traced service opened, with the flags. A process is the service's from its first execve on, as are its children."""
    own: set[int] = set()
    for line in trace:
        call = _CALL.match(line)
        if not call:
            continue
        process = int(call[1])
        if call[2] == "execve" and process != 1 and "/lib/systemd/" not in line:
            own.add(process)
        child = _CHILD.match(line)
        if child and process in own:
            own.add(int(child[2]))
        opened = _OPENED.match(line)
        if opened and process in own:
            yield opened[2], opened[3]
