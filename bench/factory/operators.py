"""General ways to break a service. Each takes what a daemon uses, and gives shell words that break it, with what is right by construction.

No operator knows a daemon by name. The words run on a throwaway host where the daemon is up; afterwards it is started anew.
"""

from __future__ import annotations

import random
import re
import shlex
from collections.abc import Callable, Iterator
from pathlib import PurePosixPath

import msgspec

from bench.factory.probe import Probe

_LEAVES_UP = ("port", "address", "network", "calls", "second copy", "data", "log closed", "disk")
"""Operators, by part of their names, that may leave a daemon up and without an endpoint: others have to bring it down to count."""
NO_CALL_SHOWS = (
    "masked", "stopped", "needs", "loop", "clash", "mount that", "device", "condition", "definition misspelled", "wrong type", "restarted", "short",
    "killed", "runs out", "watchdog", "a step", "waits", "called off", "put right",
    "settings misspelled", "settings cut", "value out", "unknown option",
)  # fmt: skip
"""Operators, by part of their names, that no call of a program shows: of most of them the manager itself tells, of the last ones the
program alone."""


class Break(msgspec.Struct, frozen=True):
    """One way to break one daemon."""

    operator: str
    script: str
    wanted: tuple[str, ...]
    """The causes of which any is right, by what was done."""
    place: str
    detail: tuple[str, ...] = ()
    """Words of which one has to stand in the claim or its evidence."""

    @property
    def leaves_up(self) -> bool:
        """Whether a daemon that is up without an endpoint counts as broken by it."""
        return any(part in self.operator for part in _LEAVES_UP)

    starts: bool = True
    """Whether the daemon is to be started anew afterwards."""
    stop: bool = False
    """Whether it has to be stopped before, because it would be in the way; else that is left to chance: a restart does both."""


Operator = Callable[[Probe, random.Random], Iterator[Break]]
OPERATORS: dict[str, Operator] = {}
UNITS = "/etc/systemd/system"
_q = shlex.quote


def operator(name: str) -> Callable[[Operator], Operator]:
    """Register a way to break a service."""

    def add(function: Operator) -> Operator:
        OPERATORS[name] = function
        return function

    return add


def breaks(probe: Probe, name: str, seed: int) -> list[Break]:
    """What one operator can do to one daemon."""
    draw = random.Random(f"{seed} {probe.unit} {name}")
    return [msgspec.structs.replace(one, operator=name) for one in OPERATORS[name](probe, draw)]


def a_way(
    p: Probe, script: str, wanted: str, *detail: str, place: str = "", starts: bool = True, stop: bool = False
) -> Break:
    """A way to break *p*, and the causes of which any is right, parted by bars."""
    return Break("", script + "\n", tuple(wanted.split("|")), place or p.unit, detail, starts, stop)


def drop_in(p: Probe, text: str, name: str = "zz-factory") -> str:
    """Shell words that add to the definition of a daemon, and have the manager read it."""
    folder = f"{UNITS}/{p.unit}.d"
    return f"mkdir -p {folder}; printf %b {_q(text)} > {folder}/{name}.conf; systemctl daemon-reload"


def unit(name: str, text: str) -> str:
    """Shell words that write a definition."""
    return f"printf %b {_q(text)} > {UNITS}/{name}\n"


def service(text: str) -> str:
    """Settings of a program, as a part of a definition."""
    return f"[Service]\\n{text}\\n"


# --- startup and dependencies


@operator("masked")
def _masked(p: Probe, _: random.Random) -> Iterator[Break]:
    yield a_way(
        p,
        f"cp -n $(systemctl show -P FragmentPath {p.unit}) /var/tmp/; rm -f {UNITS}/{p.unit}; systemctl mask --runtime {p.unit}",
        "disabled",
    )


@operator("stopped by hand")
def _stopped(p: Probe, _: random.Random) -> Iterator[Break]:
    yield a_way(p, f"systemctl stop {p.unit}", "stopped|manual-not-started", starts=False)


@operator("needs one that is not there")
def _absent_need(p: Probe, _: random.Random) -> Iterator[Break]:
    yield a_way(
        p,
        drop_in(p, "[Unit]\\nRequires=quay-light.service\\nAfter=quay-light.service\\n"),
        "not-registered",
        place="quay-light.service",
    )


@operator("needs one that is masked")
def _masked_need(p: Probe, _: random.Random) -> Iterator[Break]:
    text = unit("quay-light.service", service("ExecStart=/bin/sleep infinity")).replace(
        UNITS, "/usr/lib/systemd/system"
    )
    more = drop_in(p, "[Unit]\\nRequires=quay-light.service\\nAfter=quay-light.service\\n")
    yield a_way(p, text + "systemctl mask quay-light.service\n" + more, "disabled", place="quay-light.service")


@operator("needs one that fails")
def _failing_need(p: Probe, _: random.Random) -> Iterator[Break]:
    text = unit("quay-light.service", service("Type=oneshot\\nExecStart=/opt/quay/light --on"))
    more = drop_in(p, "[Unit]\\nRequires=quay-light.service\\nAfter=quay-light.service\\n")
    yield a_way(p, text + more, "program-missing", "/opt/quay/light", place="quay-light.service")


@operator("a loop of needs")
def _loop(p: Probe, _: random.Random) -> Iterator[Break]:
    text = unit(
        "quay-light.service",
        f"[Unit]\\nRequires={p.unit}\\nAfter={p.unit}\\n[Service]\\nExecStart=/bin/sleep infinity\\n",
    )
    more = drop_in(p, "[Unit]\\nRequires=quay-light.service\\nAfter=quay-light.service\\n")
    yield a_way(p, text + more, "dependency-cycle", place="*")


@operator("a clash")
def _clash(p: Probe, _: random.Random) -> Iterator[Break]:
    text = unit("quay-light.service", f"[Unit]\\nConflicts={p.unit}\\n[Service]\\nExecStart=/bin/sleep infinity\\n")
    yield a_way(p, text + f"systemctl daemon-reload; systemctl start {p.unit}; sleep 1; systemctl start quay-light", "stopped-by-conflict",
               "quay-light", starts=False)  # fmt: skip


@operator("mount that fails")
def _mount(p: Probe, _: random.Random) -> Iterator[Break]:
    text = unit("srv-cargo.mount", "[Mount]\\nWhat=/var/tmp/no-such-disk.img\\nWhere=/srv/cargo\\nType=ext4\\n")
    yield a_way(
        p, text + drop_in(p, "[Unit]\\nRequiresMountsFor=/srv/cargo\\n"), "mount-failed", place="srv-cargo.mount"
    )


@operator("device that is not there")
def _device(p: Probe, _: random.Random) -> Iterator[Break]:
    more = drop_in(p, "[Unit]\\nRequires=dev-sounder0.device\\nAfter=dev-sounder0.device\\nJobTimeoutSec=3\\n")
    yield a_way(p, more, "device-missing", place="*")


@operator("condition")
def _condition(p: Probe, _: random.Random) -> Iterator[Break]:
    yield a_way(
        p, drop_in(p, "[Unit]\\nConditionPathExists=/srv/harbor/open\\n"), "condition-unmet", "/srv/harbor/open"
    )
    yield a_way(
        p, drop_in(p, "[Unit]\\nAssertPathIsDirectory=/srv/harbor/open\\n"), "condition-unmet", "/srv/harbor/open"
    )
    yield a_way(
        p,
        drop_in(p, service("ExecCondition=+/bin/sh -c \\'exit 1\\'").replace("\\'", '"')),
        "condition-unmet",
        "ExecCondition",
    )


# --- definition


@operator("definition misspelled")
def _bad_definition(p: Probe, _: random.Random) -> Iterator[Break]:
    yield a_way(p, drop_in(p, service("ExecStart=\\nExecStart=harbor/bin/light -x")), "bad-definition|program-missing")
    yield a_way(p, drop_in(p, service("ExecStart=\\n")), "bad-definition")


@operator("wrong type")
def _wrong_type(p: Probe, _: random.Random) -> Iterator[Break]:
    if p.style in ("simple", "exec", ""):
        yield a_way(p, drop_in(p, service("Type=notify\\nTimeoutStartSec=4s\\nRestart=no")), "never-reports", "notify")
        yield a_way(
            p, drop_in(p, service("Type=forking\\nTimeoutStartSec=4s\\nRestart=no")), "never-reports", "forking"
        )
    if p.style == "forking":
        yield a_way(
            p, drop_in(p, service("Type=simple\\nRestart=no\\nPIDFile=")), "exits-at-once|never-reports|unexplained"
        )
        if p.pid_file:
            text = service("PIDFile=/run/quay/none.pid\\nTimeoutStartSec=4s\\nRestart=no")
            yield a_way(p, drop_in(p, text), "never-reports", "/run/quay/none.pid")
    if p.style == "notify":
        yield a_way(
            p, drop_in(p, service("NotifyAccess=none\\nTimeoutStartSec=4s\\nRestart=no")), "never-reports", "otif"
        )


@operator("restarted too often")
def _too_often(p: Probe, _: random.Random) -> Iterator[Break]:
    often = f"for i in $(seq 9); do systemctl restart {p.unit}; systemctl stop {p.unit}; done"
    yield a_way(
        p, drop_in(p, "[Unit]\\nStartLimitIntervalSec=600\\nStartLimitBurst=4\\n") + "\n" + often, "start-rate-limited"
    )


@operator("start limit too short")
def _short_limit(p: Probe, _: random.Random) -> Iterator[Break]:
    if p.style in ("notify", "forking"):
        yield a_way(p, drop_in(p, service("TimeoutStartSec=2ms\\nRestart=no")), "limit-unit-slip|start-timeout")
        slow = service("ExecStartPre=+/bin/sleep 3\\nTimeoutStartSec=2s\\nRestart=no")
        yield a_way(p, drop_in(p, slow), "start-timeout")


@operator("killed")
def _killed(p: Probe, draw: random.Random) -> Iterator[Break]:
    signal = draw.choice(("SEGV", "ABRT", "KILL"))
    script = (
        drop_in(p, service("Restart=no"))
        + f"; systemctl restart {p.unit}; sleep 1; systemctl kill --kill-who=main -s {signal} {p.unit}; sleep 1"
    )
    if p.program:
        yield a_way(p, script, "killed", signal, starts=False)


@operator("runs out its time")
def _runtime(p: Probe, _: random.Random) -> Iterator[Break]:
    yield a_way(p, drop_in(p, service("RuntimeMaxSec=1s\\nRestart=no")) + f"; systemctl restart {p.unit}; sleep 3", "killed", "RuntimeMaxSec",
               "run-time limit", starts=False)  # fmt: skip


@operator("never pats the watchdog")
def _watchdog(p: Probe, _: random.Random) -> Iterator[Break]:
    if p.style in ("simple", "exec", ""):
        yield a_way(p, drop_in(p, service("WatchdogSec=1s\\nRestart=no")) + f"; systemctl restart {p.unit}; sleep 3", "killed", "watchdog", "Watchdog",
                   starts=False)  # fmt: skip


@operator("a step before fails")
def _step(p: Probe, draw: random.Random) -> Iterator[Break]:
    status = draw.randrange(3, 60)
    yield a_way(
        p,
        drop_in(p, service(f'ExecStartPre=/bin/sh -c "exit {status}"\\nRestart=no')),
        "exits-with-error",
        "ExecStartPre",
        str(status),
    )
    yield a_way(p, drop_in(p, service("ExecStartPre=/opt/quay/check --all")), "program-missing", "/opt/quay/check")


# --- program


@operator("program gone")
def _gone(p: Probe, _: random.Random) -> Iterator[Break]:
    yield a_way(p, f"mv $(readlink -f {p.program}) /var/tmp/moved-program", "program-missing", p.program)


@operator("program not executable")
def _not_executable(p: Probe, _: random.Random) -> Iterator[Break]:
    yield a_way(p, f"chmod a-x $(readlink -f {p.program})", "program-not-executable", p.program)


@operator("program damaged")
def _damaged(p: Probe, _: random.Random) -> Iterator[Break]:
    yield a_way(p, f"f=$(readlink -f {p.program}); cp $f /var/tmp/kept; : > $f", "wrong-program-format", p.program)
    foreign = "printf '\\177ELF\\002\\001\\001\\0\\0\\0\\0\\0\\0\\0\\0\\0\\003\\0\\267\\0' > /var/tmp/head; dd if=/var/tmp/head of=$f conv=notrunc 2>/dev/null"
    yield a_way(p, f"f=$(readlink -f {p.program}); cp $f /var/tmp/kept; cp /var/tmp/kept $f.new; mv $f.new $f; chmod 755 $f; {foreign}",
               "wrong-program-format", p.program)  # fmt: skip


@operator("interpreter")
def _interpreter(p: Probe, _: random.Random) -> Iterator[Break]:
    script = f"f=$(readlink -f {p.program}); head -c 2 $f | grep -q '#!' || exit 0; "
    yield a_way(p, script + "sed -i '1s|.*|#!/usr/bin/pyhton3|' $f", "program-missing|wrong-program-format", "pyhton3")
    yield a_way(p, script + "sed -i '1s|$|\\r|' $f", "program-missing|wrong-program-format")
    yield a_way(p, script + "sed -i '1d' $f", "wrong-program-format")


@operator("library gone")
def _library(p: Probe, draw: random.Random) -> Iterator[Break]:
    if p.libraries:
        path = draw.choice(p.libraries)
        name = PurePosixPath(path).name.partition(".so")[0]
        yield a_way(
            p,
            f"for f in {path} $(readlink -f {path}); do mv $f /var/tmp/ 2>/dev/null; done; true",
            "path-missing|program-missing",
            name,
        )


@operator("nothing may be executed there")
def _no_exec(p: Probe, _: random.Random) -> Iterator[Break]:
    yield a_way(
        p,
        drop_in(p, service(f"NoExecPaths={p.program}")),
        "access-denied|program-not-executable",
        "NoExecPaths",
        p.program,
    )


# --- account


@operator("account not there")
def _no_account(p: Probe, _: random.Random) -> Iterator[Break]:
    yield a_way(p, drop_in(p, service("User=quartermaster")), "account-missing", "quartermaster")
    yield a_way(p, drop_in(p, service("Group=quartermasters")), "account-missing", "quartermasters")
    yield a_way(p, drop_in(p, service("SupplementaryGroups=quartermasters")), "account-missing", "quartermasters")
    if p.user != "root":
        yield a_way(p, f"userdel {p.user}", "account-missing", p.user)


@operator("another account")
def _other_account(p: Probe, _: random.Random) -> Iterator[Break]:
    if (
        p.user == "root"
        and not p.before
        and p.style in ("simple", "exec", "")
        and any(e.port < 1024 for e in p.endpoints)
    ):
        yield a_way(p, drop_in(p, service("User=nobody")), "port-forbidden|access-denied")


# --- files


def _first(paths: list[str], count: int = 1) -> list[str]:
    return paths[:count]


@operator("settings gone")
def _no_settings(p: Probe, _: random.Random) -> Iterator[Break]:
    for path in _first(p.settings):
        yield a_way(p, f"mv {path} /var/tmp/moved-settings", "path-missing", path)
        yield a_way(p, f"mv {path} /var/tmp/moved-settings; ln -s /srv/harbor/none.conf {path}", "path-missing", path)


@operator("settings closed")
def _closed_settings(p: Probe, draw: random.Random) -> Iterator[Break]:
    for path in _first(p.settings) + ([draw.choice(p.settings)] if len(p.settings) > 1 else []):
        yield a_way(p, f"chown root:root {path}; chmod 0600 {path}", "access-denied", path)
        folder = PurePosixPath(path).parent
        if str(folder) != "/etc":
            yield a_way(p, f"chown root:root {folder}; chmod 0700 {folder}", "access-denied", str(folder))
        yield a_way(p, drop_in(p, service(f"InaccessiblePaths={path}")), "access-denied", path)


@operator("settings misspelled")
def _misspelled(p: Probe, draw: random.Random) -> Iterator[Break]:
    for path in _first(p.settings):
        script = f"""python3 - {path} {draw.randrange(1000)} <<'PY'
import random, re, sys
path, seed = sys.argv[1:]
text = open(path, encoding="utf-8", errors="surrogateescape").read().split("\\n")
fit = [i for i, l in enumerate(text) if re.match(r"\\s*[A-Za-z][\\w.-]{{2,}}\\s*[=: {{\\t]", l) and not l.lstrip().startswith(("#", ";", "//"))]
i = random.Random(int(seed)).choice(fit)
text[i] = re.sub(r"([A-Za-z][\\w.-]{{1,}})", lambda m: m[1] + "zz", text[i], count=1)
open(path, "w", encoding="utf-8", errors="surrogateescape").write("\\n".join(text))
PY"""
        yield a_way(p, script, "config-rejected", path, PurePosixPath(path).name, "zz")


@operator("settings cut")
def _cut(p: Probe, draw: random.Random) -> Iterator[Break]:
    for path in _first(p.settings):
        script = f"""python3 - {path} {draw.randrange(1000)} <<'PY'
import random, re, sys
path, seed = sys.argv[1:]
text = open(path, encoding="utf-8", errors="surrogateescape").read().split("\\n")
fit = [i for i, l in enumerate(text) if len(l.split()) > 1 and l.strip() and not l.lstrip().startswith(("#", ";", "//"))]
i = random.Random(int(seed)).choice(fit)
text[i] = text[i][: max(2, len(text[i].rstrip()) // 2)] + '"{{('
open(path, "w", encoding="utf-8", errors="surrogateescape").write("\\n".join(text))
PY"""
        yield a_way(p, script, "config-rejected", path, PurePosixPath(path).name)


@operator("value out of range")
def _range(p: Probe, _: random.Random) -> Iterator[Break]:
    for endpoint in p.endpoints[:1]:
        for path in p.settings[:4]:
            script = f"grep -Eq '^[^#]*\\b{endpoint.port}\\b' {path} && sed -i -E '/^[^#]*\\b{endpoint.port}\\b/s/\\b{endpoint.port}\\b/99999{endpoint.port}/' {path} || exit 0"
            yield a_way(p, script, "config-rejected", path, str(endpoint.port))


@operator("unknown option")
def _option(p: Probe, _: random.Random) -> Iterator[Break]:
    if p.line:
        text = service("ExecStart=\\nExecStart=" + p.line.replace("\\", "\\\\") + " --quay-light=7")
        yield a_way(p, drop_in(p, text), "config-rejected|exits-with-error", "quay-light")


@operator("data closed")
def _closed_data(p: Probe, draw: random.Random) -> Iterator[Break]:
    if p.data:
        path = draw.choice(p.data)
        yield a_way(p, f"chown root:root {path}; chmod 0700 {path}", "access-denied", path)
        yield a_way(p, f"chown -R root:root {path}; chmod -R go-rwx {path}", "access-denied", path)
        yield a_way(p, drop_in(p, service(f"ReadOnlyPaths={path}")), "access-denied", path)


@operator("data gone")
def _no_data(p: Probe, draw: random.Random) -> Iterator[Break]:
    if p.data:
        path = draw.choice(p.data)
        yield a_way(p, f"mv {path} /var/tmp/moved-data", "path-missing|access-denied|workdir-missing", path)
        yield a_way(
            p,
            f"mv {path} /var/tmp/moved-data; ln -s /srv/harbor/none {path}",
            "path-missing|access-denied|workdir-missing",
            path,
        )
        yield a_way(
            p,
            f"mv {path} /var/tmp/moved-data; touch {path}",
            "path-missing|access-denied|workdir-missing|exits-with-error",
            path,
        )


@operator("data hidden")
def _hidden(p: Probe, draw: random.Random) -> Iterator[Break]:
    if p.data:
        path = draw.choice(p.data)
        yield a_way(p, drop_in(p, service(f"TemporaryFileSystem={path}:ro")), "access-denied|path-missing", path)


@operator("log closed")
def _closed_log(p: Probe, _: random.Random) -> Iterator[Break]:
    for path in _first(p.logs):
        folder = PurePosixPath(path).parent
        if str(folder) != "/var/log":
            yield a_way(p, f"chown root:root {folder}; chmod 0700 {folder}", "access-denied", str(folder))
            yield a_way(p, f"mv {folder} /var/tmp/moved-logs", "path-missing|access-denied", str(folder))
        yield a_way(p, f"chown root:root {path}; chmod 0600 {path}", "access-denied", path)
        yield a_way(p, drop_in(p, service(f"ReadOnlyPaths={folder}")), "access-denied", str(folder))


@operator("key")
def _key(p: Probe, draw: random.Random) -> Iterator[Break]:
    if p.keys:
        path = draw.choice(p.keys)
        yield a_way(p, f"rm -f {path}", "path-missing", path)
        yield a_way(p, f"f=$(readlink -f {path}); chown root:root $f; chmod 0600 $f", "access-denied", path)
        yield a_way(p, f"f=$(readlink -f {path}); chmod 0666 $f", "too-open", path)
        yield a_way(p, f"f=$(readlink -f {path}); echo damaged > $f", "config-rejected", path, PurePosixPath(path).name)


@operator("disk full")
def _full(p: Probe, draw: random.Random) -> Iterator[Break]:
    if p.data:
        path = draw.choice(p.data)
        keep = f"cp -a {path} /var/tmp/kept-data"
        fill = f"cp -a /var/tmp/kept-data/. {path}/ 2>/dev/null; dd if=/dev/zero of={path}/ballast bs=4k 2>/dev/null; chown --reference=/var/tmp/kept-data {path}; chmod --reference=/var/tmp/kept-data {path}"
        yield a_way(
            p,
            f"{keep}; mount -t tmpfs -o size=$(( $(du -sk {path} | cut -f1) + 64 ))k tmpfs {path}; {fill}",
            "disk-full",
            path,
            stop=True,
        )
    for log in _first(p.logs):
        folder = str(PurePosixPath(log).parent)
        if folder != "/var/log":
            keep = f"stat -c '%U:%G %a' {folder} > /var/tmp/of-folder"
            fill = f"dd if=/dev/zero of={folder}/ballast bs=4k 2>/dev/null; read o m < /var/tmp/of-folder; chown $o {folder}; chmod $m {folder}"
            yield a_way(
                p,
                f"{keep}; mount -t tmpfs -o size=64k,nr_inodes=2 tmpfs {folder}; {fill}",
                "disk-full",
                folder,
                stop=True,
            )


@operator("stale file in the place of its own")
def _stale(p: Probe, _: random.Random) -> Iterator[Break]:
    if p.pid_file:
        yield a_way(
            p, f"mkdir -p $(dirname {p.pid_file}); echo 999999 > {p.pid_file}", "stale-lock", p.pid_file, stop=True
        )


@operator("second copy")
def _second(p: Probe, _: random.Random) -> Iterator[Break]:
    if p.program and p.style in ("simple", "exec", "", "notify") and not p.before:
        words = " ".join(_q(word) for word in [p.program, *p.arguments] if "$" not in word)
        run = f"setpriv --reuid={p.user} --init-groups" if p.user != "root" else ""
        yield a_way(p, f"(cd /; setsid {run} {words} >/dev/null 2>&1 &); sleep 4", "lock-held|port-held", stop=True)


# --- network


def _squat(address: str, port: int) -> str:
    family = "AF_INET6" if ":" in address else "AF_INET"
    code = (
        f"import socket,time\\ns=socket.socket(socket.{family})\\ns.setsockopt(socket.SOL_SOCKET,socket.SO_REUSEADDR,1)\\n"
        f"s.bind(({address!r},{port}))\\ns.listen()\\ntime.sleep(9999)\\n"
    )
    return f"printf %b {_q(code)} > /var/tmp/squat{port}.py\n(setsid python3 /var/tmp/squat{port}.py >/dev/null 2>&1 &)\nsleep 0.7\n"


def _anyone(address: str) -> str:
    return {"*": "::", "": "0.0.0.0"}.get(address, address)


@operator("port taken by a stranger")
def _port(p: Probe, draw: random.Random) -> Iterator[Break]:
    if p.endpoints:
        one = draw.choice(p.endpoints)
        yield a_way(p, _squat(_anyone(one.address), one.port), "port-held", str(one.port), stop=True)


@operator("port taken by a service")
def _port_service(p: Probe, draw: random.Random) -> Iterator[Break]:
    if p.endpoints:
        one = draw.choice(p.endpoints)
        code = _squat(_anyone(one.address), one.port).splitlines()[0]
        text = unit("quay-light.service", service(f"ExecStart=/usr/bin/python3 /var/tmp/squat{one.port}.py"))
        yield a_way(
            p,
            f"{code}\n{text}systemctl daemon-reload; systemctl start quay-light; sleep 0.7",
            "port-held",
            "quay-light",
            stop=True,
        )


@operator("port taken by a socket unit")
def _port_socket(p: Probe, draw: random.Random) -> Iterator[Break]:
    if p.endpoints:
        one = draw.choice(p.endpoints)
        at = (
            f"[{_anyone(one.address)}]:{one.port}"
            if ":" in _anyone(one.address)
            else f"{_anyone(one.address)}:{one.port}"
        )
        text = unit("quay-light.socket", f"[Socket]\\nListenStream={at}\\n")
        text += unit("quay-light.service", service("ExecStart=/bin/sleep infinity"))
        yield a_way(
            p,
            text + "systemctl daemon-reload; systemctl start quay-light.socket; sleep 0.3",
            "port-held",
            "quay-light",  # the socket, or the service that it has handed the socket to by now
            stop=True,
        )


@operator("port without the right")
def _low_port(p: Probe, _: random.Random) -> Iterator[Break]:
    low = [e for e in p.endpoints if e.port < 1024]
    if low:
        text = service("CapabilityBoundingSet=~CAP_NET_BIND_SERVICE\\nAmbientCapabilities=")
        # Some want to hold the right itself, before any port.
        yield a_way(p, drop_in(p, text), "port-forbidden|access-denied", str(low[0].port), "CAP_")


@operator("address not there")
def _address(p: Probe, _: random.Random) -> Iterator[Break]:
    pattern = r"^[^#;]*\b(listen|bind|address|host|server_bind|inet_interfaces|ip)\b.*\b(127\.0\.0\.1|0\.0\.0\.0)\b"
    for path in p.settings[:4]:
        script = f"grep -Eiq '{pattern}' {path} && sed -i -E '/{pattern.replace('/', chr(92) + '/')}/I s/127\\.0\\.0\\.1|0\\.0\\.0\\.0/10.9.8.7/' {path} || exit 0"
        yield a_way(p, script, "address-missing", "10.9.8.7")
    words = p.line.replace("\\", "\\\\")
    if re.search(r"\b(127\.0\.0\.1|0\.0\.0\.0)\b", words):
        line = re.sub(r"\b(127\.0\.0\.1|0\.0\.0\.0)\b", "10.9.8.7", words)
        yield a_way(p, drop_in(p, service(f"ExecStart=\\nExecStart={line}")), "address-missing", "10.9.8.7")


# --- limits and confinement


@operator("too few descriptors")
def _descriptors(p: Probe, _: random.Random) -> Iterator[Break]:
    yield a_way(
        p,
        drop_in(p, service("LimitNOFILE=5\\nRestart=no")),
        "limit-reached",
        "descriptors",
        "open files",
        "LimitNOFILE",
    )


@operator("too few processes")
def _processes(p: Probe, _: random.Random) -> Iterator[Break]:
    yield a_way(p, drop_in(p, service("TasksMax=1\\nRestart=no")), "limit-reached", "TasksMax", "processes")


@operator("too little address space")
def _address_space(p: Probe, _: random.Random) -> Iterator[Break]:
    yield a_way(
        p, drop_in(p, service("LimitAS=24M\\nRestart=no")), "limit-reached|killed-for-memory", "LimitAS", "memory"
    )


@operator("calls forbidden")
def _calls(p: Probe, _: random.Random) -> Iterator[Break]:
    yield a_way(
        p,
        drop_in(p, service("SystemCallFilter=~@network-io\\nRestart=no")),
        "call-forbidden|killed",
        "SystemCallFilter",
        "SYSTEM CALL",
        "SYS",
    )
    text = service("SystemCallFilter=~socket bind listen\\nSystemCallErrorNumber=EPERM\\nRestart=no")
    yield a_way(p, drop_in(p, text), "call-forbidden|access-denied|port-forbidden|listener-off", "SystemCallFilter")


@operator("kinds of network forbidden")
def _families(p: Probe, _: random.Random) -> Iterator[Break]:
    yield a_way(
        p,
        drop_in(p, service("RestrictAddressFamilies=AF_UNIX\\nRestart=no")),
        "call-forbidden|access-denied|listener-off",
        "RestrictAddressFamilies",
    )


@operator("working folder")
def _folder(p: Probe, _: random.Random) -> Iterator[Break]:
    yield a_way(p, drop_in(p, service("WorkingDirectory=/srv/harbor/desk")), "workdir-missing", "/srv/harbor/desk")
    if p.user != "root":
        yield a_way(
            p,
            "mkdir -p /srv/desk; chmod 0700 /srv/desk\n" + drop_in(p, service("WorkingDirectory=/srv/desk")),
            "access-denied",
            "/srv/desk",
        )


@operator("what the definition names is gone")
def _named(p: Probe, _: random.Random) -> Iterator[Break]:
    yield a_way(
        p, drop_in(p, service("EnvironmentFile=/etc/default/quay-light")), "path-missing", "/etc/default/quay-light"
    )
    yield a_way(p, drop_in(p, service("LoadCredential=pass:/etc/quay/pass")), "path-missing", "/etc/quay/pass")
    yield a_way(p, drop_in(p, service("BindPaths=/srv/harbor/chart:/mnt")), "path-missing", "/srv/harbor/chart")
    yield a_way(
        p, drop_in(p, service("StandardOutput=append:/srv/harbor/log/out.log")), "path-missing", "/srv/harbor/log"
    )
    yield a_way(
        p,
        drop_in(p, service("RootDirectory=/srv/harbor")),
        "path-missing|program-missing|workdir-missing",
        "/srv/harbor",
    )
