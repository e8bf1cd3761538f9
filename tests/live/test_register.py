"""Programs and daemons become services on a real host: as the manager itself says, over a boot, and off again without a trace."""

from __future__ import annotations

import shlex
from collections.abc import Iterator
from dataclasses import dataclass

import pytest

from tests.live.conftest import PROGRAM, needs_a_host
from tests.live.realhost import RealHost
from tests.live.test_mend_real import DIGEST

pytestmark = pytest.mark.live


@dataclass(frozen=True)
class Wished:
    """One program that is to become a service."""

    name: str
    call: str
    """What is written behind ``register``."""
    kind: str
    """``Type=`` as the manager has to say it."""
    port: int = 0
    account: str = ""
    """The account that its process has to run under; empty: any but root."""


OWN = [
    Wished("tide-sh", "/opt/own/tide.sh", "exec"),
    Wished("tide-bash", "/opt/own/tide.bash", "exec"),
    Wished("tide-web", "/opt/own/web.py --port 7701 -- 7701", "exec", 7701),
    Wished("tide-low", "/opt/own/web.py --port 83 --account daemon -- 83", "exec", 83, "daemon"),
    Wished("tide-says", "/opt/own/says.py", "notify"),
    Wished("tide-late", "/opt/own/says.py --limit 20s -- 2", "notify"),
    Wished("tide-child", "/usr/bin/python3 --name tide-child --limit 20s -- /opt/own/child.py", "notify"),
    Wished("tide-perl", "/usr/bin/perl --name tide-perl --port 7702 -- /opt/own/serve.pl 7702", "exec", 7702),
    Wished("tide-pair", "/opt/own/daemon.pl --port 7703 -- 7703", "forking", 7703),
    Wished("tide-awk", "/opt/own/count.awk", "exec"),
    Wished("tide-c", "/opt/own/serve --port 7704 -- 7704", "exec", 7704),
    Wished("tide-cd", "/opt/own/serve --port 7705 -- 7705 fork", "forking", 7705),
    Wished("tide-job", "/opt/own/job.sh", "oneshot"),
    Wished("tide-udp", "/opt/own/udp.py --port 7706 --account nobody-else -- 7706", "exec", 7706, "nobody-else"),
]
DAEMONS = [
    Wished("store", "/usr/bin/redis-server --account redis --folder /var/lib/redis --port 7711 -- --port 7711 --dir /var/lib/redis",
           "exec", 7711, "redis"),
    Wished("cache", "/usr/bin/memcached --account memcache --port 7712 -- -p 7712 -l 127.0.0.1", "exec", 7712, "memcache"),
    Wished("broker", "/usr/sbin/mosquitto --account mosquitto --port 7713 -- -p 7713", "notify", 7713, "mosquitto"),
    Wished("pages", "/usr/sbin/nginx --account root --port 7714 --start 'on network up' -- -c /opt/own/nginx.conf", "forking", 7714, "root"),
    Wished("names", "/usr/sbin/dnsmasq --account root --port 7715 -- --port=7715 --no-resolv --pid-file=/run/names.pid --conf-file=/dev/null",
           "forking", 7715, "nobody"),
    Wished("front", "/usr/sbin/lighttpd --account www-data --port 7716 -- -D -f /opt/own/lighttpd.conf", "exec", 7716, "www-data"),
]  # fmt: skip
LAY_OUT = r"""
mkdir -p /opt/own; cd /opt/own
printf '#!/bin/sh\nwhile :; do sleep 60; done\n' > tide.sh
printf '#!/bin/bash\ncoproc cat\nwhile read -r -t 3600 -u ${COPROC[0]} x; do :; done\n' > tide.bash
cat > web.py <<'P'
#!/usr/bin/python3
import http.server, sys
http.server.ThreadingHTTPServer(("", int(sys.argv[1])), http.server.SimpleHTTPRequestHandler).serve_forever()
P
cat > says.py <<'P'
#!/usr/bin/python3
import os, socket, sys, time
time.sleep(float((sys.argv[1:] or ["0"])[0]))
socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM).sendto(b"READY=1", os.environ["NOTIFY_SOCKET"].replace("@", "\0", 1))
time.sleep(1e6)
P
cat > child.py <<'P'
import os, socket, time
if os.fork() == 0:
    time.sleep(0.3)
    socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM).sendto(b"READY=1", os.environ["NOTIFY_SOCKET"].replace("@", "\0", 1))
time.sleep(1e6)
P
cat > serve.pl <<'P'
use IO::Socket::INET;
my $s = IO::Socket::INET->new(LocalPort => $ARGV[0], Listen => 5, ReuseAddr => 1) or die "bind: $!";
while (my $c = $s->accept) { close $c }
P
cat > daemon.pl <<'P'
#!/usr/bin/perl
use IO::Socket::INET; use POSIX;
exit 0 if fork; POSIX::setsid(); exit 0 if fork;
my $s = IO::Socket::INET->new(LocalPort => $ARGV[0], Listen => 5, ReuseAddr => 1) or die "bind: $!";
if (my $helper = fork) { } else { sleep 1e6 }
while (my $c = $s->accept) { close $c }
P
printf '#!/usr/bin/awk -f\nBEGIN { while (1) system("sleep 60") }\n' > count.awk
printf '#!/bin/sh\necho done\n' > job.sh
cat > udp.py <<'P'
#!/usr/bin/env python3
import socket, sys
s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM); s.bind(("", int(sys.argv[1])))
while True: s.recv(9)
P
cat > serve.c <<'P'
#include <arpa/inet.h>
#include <stdlib.h>
#include <unistd.h>
int main(int n, char **v) {
  struct sockaddr_in at = {.sin_family = AF_INET, .sin_port = htons(atoi(v[1]))};
  int s = socket(AF_INET, SOCK_STREAM, 0), yes = 1;
  setsockopt(s, SOL_SOCKET, SO_REUSEADDR, &yes, sizeof yes);
  if (bind(s, (void *)&at, sizeof at) || listen(s, 5)) return 1;
  if (n > 2 && daemon(0, 0)) return 2;
  for (;;) close(accept(s, 0, 0));
}
P
gcc -O1 -o serve serve.c
printf 'events {}\npid /run/pages.pid;\nerror_log stderr;\nhttp { access_log off; server { listen 7714; } }\n' > nginx.conf
printf 'server.document-root = "/opt/own"\nserver.port = 7716\n' > lighttpd.conf
chmod 755 *; useradd -r nobody-else
systemctl daemon-reload
"""


@pytest.fixture(scope="module")
def host() -> Iterator[RealHost]:
    """A host with programs on it that are no services, and daemons without their packaged definitions."""
    needs_a_host()
    with RealHost("slip") as slip:
        slip.run(LAY_OUT)
        # The manager takes a folder of links away with its last link.
        slip.run(
            "ln -sf /lib/systemd/system/cron.service /etc/systemd/system/multi-user.target.wants/quay-lamp.service"
        )
        gone = "redis-server memcached mosquitto nginx dnsmasq lighttpd"
        slip.run(
            f"for n in {gone}; do rm -f /lib/systemd/system/$n.service /etc/systemd/system/*.wants/$n.service; done; systemctl daemon-reload"
        )
        yield slip


def definitions(host: RealHost) -> str:
    """Everything about definitions, kind, owner, mode and content; but for empty folders of links, which the manager itself takes away
    with the last link."""
    lines = host.run(DIGEST).stdout.splitlines(keepends=True)
    paths = [line.split(" ")[0] for line in lines]
    holding = {path.rpartition("/")[0] for path in paths}
    return "".join(
        line for line, path in zip(lines, paths, strict=True) if not path.endswith(".wants") or path in holding
    )


def told(host: RealHost, unit: str, *names: str) -> list[str]:
    """What the manager itself says of a unit."""
    shown = host.run(f"systemctl show {unit} " + " ".join(f"-p {name}" for name in names)).stdout
    by_name = dict(line.partition("=")[::2] for line in shown.splitlines())
    return [by_name[name] for name in names]


def looks_right(host: RealHost, wished: Wished) -> None:
    """The manager's own words, and the system's, say that it is what was wished."""
    unit = f"{wished.name}.service"
    kind, state, enabled = told(host, unit, "Type", "ActiveState", "UnitFileState")
    assert (kind, enabled) == (wished.kind, "enabled"), wished
    if wished.kind == "oneshot":
        assert told(host, unit, "Result", "ExecMainStatus") == ["success", "0"], wished
        return
    assert state == "active", (wished, host.run(f"journalctl -u {unit} --no-pager | tail -5").stdout)
    group = host.run(f"cat /sys/fs/cgroup$(systemctl show -p ControlGroup --value {unit})/cgroup.procs").stdout.split()
    users = set(host.run(f"ps -o user:64= -p {','.join(group)}").stdout.split())
    assert wished.account in users if wished.account else "root" not in users, (wished, users)
    if wished.port:
        holders = host.run(f"ss -lntupH 'sport = :{wished.port}'").stdout
        assert any(f"pid={one}," in holders for one in group), (wished, holders)


def test_programs_and_daemons_become_services_run_over_a_boot_and_come_off(host: RealHost) -> None:
    before = definitions(host)
    for wished in OWN + DAEMONS:
        call = wished.call if " --name " in wished.call else wished.call.replace(" ", f" --name {wished.name} ", 1)
        call = call if "--name" in call else f"{call} --name {wished.name}"
        head, dashes, rest = call.partition(" -- ")
        done = host.program(f"register {head} --another --apply --yes --watch 0.5{dashes}{rest}")
        assert done.returncode == 0, f"{wished}\n{done.stdout[-1500:]}{done.stderr}"
        looks_right(host, wished)
    host.reboot()
    for wished in OWN + DAEMONS:
        looks_right(host, wished)
    for wished in reversed(OWN + DAEMONS):
        done = host.program(f"unregister {wished.name} --apply --yes")
        assert done.returncode == 0, f"{wished}\n{done.stdout[-1500:]}{done.stderr}"
        assert told(host, f"{wished.name}.service", "LoadState") == ["not-found"]
    assert definitions(host) == before


def test_what_is_taken_back_is_as_it_was_to_the_byte(host: RealHost) -> None:
    before = definitions(host)
    assert (
        host.program("register /opt/own/web.py --name gauge --port 7720 --apply --yes --watch 0 -- 7720").returncode
        == 0
    )
    made = definitions(host)
    changed = host.program(
        "register --edit gauge --account daemon --limit 20s --restart 'after 2s' --restart-now --apply --yes"
    )
    assert changed.returncode == 0, (changed.stdout[-800:], changed.stderr)
    assert told(host, "gauge.service", "User", "RestartUSec", "NeedDaemonReload") == ["daemon", "2s", "no"]
    assert host.program("register --undo --yes").returncode == 0
    assert definitions(host) == made
    assert host.program("unregister gauge --apply --yes").returncode == 0
    assert host.program("unregister --undo --yes").returncode == 0
    assert definitions(host) == made
    assert told(host, "gauge.service", "ActiveState") == ["active"]
    assert host.program("register --undo --yes").returncode == 0
    assert definitions(host) == before


def test_a_packaged_definition_is_changed_beside_it(host: RealHost) -> None:
    before = definitions(host)
    done = host.program("register --edit ssh --limit 25s --apply --yes")
    assert done.returncode == 0, (done.stdout[-800:], done.stderr)
    assert told(host, "ssh.service", "TimeoutStartUSec") == ["25s"]
    assert host.run("ls /etc/systemd/system/ssh.service.d").stdout.split() == ["50-hollow-chain.conf"]
    assert host.program("register --undo --yes").returncode == 0
    assert definitions(host) == before
    refused = host.program("unregister ssh --apply --yes")
    assert refused.returncode == 2 and "not one of your own" in refused.stderr


EVENTS = {
    "path": ("'on path /srv/go-now'", "mkdir -p /srv; touch /srv/go-now"),
    "socket": ("'on socket 7731'", "timeout 1 bash -c '</dev/tcp/127.0.0.1/7731' || true"),
    "time": ("'on time every 2s'", "true"),
}


@pytest.mark.parametrize("kind", EVENTS)
def test_an_event_starts_it(host: RealHost, kind: str) -> None:
    before = definitions(host)
    wanted, happens = EVENTS[kind]
    done = host.program(
        f"register /opt/own/tide.sh --name on-{kind} --another --start {wanted} --apply --yes --watch 0"
    )
    assert done.returncode == 0, (done.stdout[-800:], done.stderr)
    host.run(f"{happens}; for i in $(seq 50); do systemctl is-active -q on-{kind} && break; sleep 0.1; done")
    assert told(host, f"on-{kind}.service", "ActiveState") == ["active"]
    off = host.program(f"unregister on-{kind} --apply --yes")
    assert off.returncode == 0, (off.stdout[-800:], off.stderr)
    assert told(host, f"on-{kind}.service", "ActiveState", "LoadState") == ["inactive", "not-found"]
    assert definitions(host) == before


def edit(host: RealHost, what: str) -> None:
    done = host.program(f"register --edit mark {what} --apply --yes")
    assert done.returncode == 0, (done.stdout[-1200:], done.stderr)


def test_what_starts_it_is_changed_and_comes_back(host: RealHost) -> None:
    before = definitions(host)
    call = "register /opt/own/tide.sh --name mark --another --apply --yes --watch 0"
    assert host.program(call).returncode == 0
    texts = [definitions(host)]
    edit(host, "--start 'on path /srv/mark-now'")
    assert told(host, "mark.service", "UnitFileState", "TriggeredBy") == ["disabled", "mark.path"]
    texts.append(definitions(host))
    edit(host, "--start 'on socket 7732' --restart-now")
    assert told(host, "mark.service", "ActiveState", "TriggeredBy") == ["inactive", "mark.socket"]
    assert told(host, "mark.path", "LoadState", "ActiveState") == ["not-found", "inactive"]
    host.run(
        "timeout 1 bash -c '</dev/tcp/127.0.0.1/7732' || true; for i in $(seq 50); do systemctl is-active -q mark && break; sleep 0.1; done"
    )
    assert told(host, "mark.service", "ActiveState") == ["active"]
    texts.append(definitions(host))
    edit(host, "--start 'on device /dev/mark0' --stop-on 'device /dev/mark0 gone'")
    assert told(host, "dev-mark0.device", "Wants", "BoundBy") == ["mark.service", "mark.service"]
    assert told(host, "mark.socket", "LoadState") == ["not-found"]
    for text in reversed(texts):
        assert host.program("register --undo --yes").returncode == 0
        assert definitions(host) == text
    refused = host.program("register --edit ssh --start 'on device /dev/mark0' --apply --yes")
    assert refused.returncode == 2 and "own definition" in refused.stderr and refused.stderr.count("\n") == 1
    assert host.program("unregister mark --apply --yes").returncode == 0
    assert definitions(host) == before


def test_a_device_starts_it(host: RealHost) -> None:
    """The manager's own word for it: no device comes to this host."""
    before = definitions(host)
    call = "register /opt/own/tide.sh --name gate --another --start 'on device /dev/gate0' --stop-on 'device /dev/gate0 gone'"
    done = host.program(f"{call} --apply --yes")
    assert done.returncode == 0, (done.stdout[-800:], done.stderr)
    assert told(host, "dev-gate0.device", "Wants", "BoundBy") == ["gate.service", "gate.service"]
    assert told(host, "gate.service", "ActiveState", "UnitFileState") == ["inactive", "enabled"]
    assert host.program("unregister gate --apply --yes").returncode == 0
    assert definitions(host) == before


def test_it_keeps_only_the_confinement_that_it_lives_with(host: RealHost) -> None:
    host.run("mkdir -p /usr/local/etc/tides; chown daemon /usr/local/etc/tides\n"
        "printf '#!/bin/sh\\ntouch /usr/local/etc/tides/x && exec sleep 9999\\n' "
             "> /opt/own/writes.sh; chmod 755 /opt/own/writes.sh")  # fmt: skip
    done = host.program("register /opt/own/writes.sh --account daemon --confine --apply --yes --watch 0")
    assert done.returncode == 0, (done.stdout[-800:], done.stderr)
    assert "ProtectSystem" in done.stderr and "left out" in done.stderr
    assert told(host, "writes.service", "ProtectSystem", "NoNewPrivileges", "PrivateTmp") == ["no", "yes", "yes"]
    assert host.program("register --undo --yes").returncode == 0


def test_what_does_not_come_up_leaves_nothing_and_says_why(host: RealHost) -> None:
    host.run("printf '#!/bin/sh\\necho no such chart >&2\\nexit 3\\n' > /opt/own/fails.sh; chmod 755 /opt/own/fails.sh")
    before = definitions(host)
    for more in ("", "--up-when started", "--up-when reported --limit 2s"):
        done = host.program(f"register /opt/own/fails.sh {more} --apply --yes --watch 0.5")
        assert done.returncode == 4, (done.stdout[-800:], done.stderr)
        assert "no such chart" in " ".join((done.stdout + done.stderr).split())
        assert "hollow-chain-try" not in done.stdout + done.stderr
        assert definitions(host) == before
    assert told(host, "fails.service", "LoadState", "ActiveState") == ["not-found", "inactive"]


WRONG = {
    "/opt/own/none.sh": "is not there",
    "/opt/own": "folder",
    "no-such-program": "no no-such-program in",
    "/opt/own/plain.txt": "no right to be run",
    "/opt/own/empty.sh": "it is empty",
    "/opt/own/lines.sh": "carriage return",
    "/opt/own/other.sh": "interpreter",
    "/opt/own/pages": "no known format",
    "/opt/own/closed/in.sh --account daemon": "cannot run",
    "/opt/own/tide.sh --account nobody-els": "no account nobody-els",
    "/opt/own/tide.sh --account daemon --folder /root": "cannot enter",
    "/opt/own/tide.sh --folder /opt/own/web.py": "no folder",
    "/opt/own/tide.sh --folder /opt/none": "not there",
    "/opt/own/tide.sh --env-file /etc/none": "env-file",
    "/opt/own/tide.sh --needs nowhere-at-all": "no service 'nowhere-at-all'",
    "/opt/own/tide.sh --needs postgresql@": "template",
    "/opt/own/tide.sh --port 7799": "is held by",
    "/opt/own/tide.sh --name ssh": "taken",
    "/opt/own/tide.sh --name 'a b'": "has a letter",
    "/opt/own/tide.sh --name x.socket": "another kind",
    "/opt/own/tide.sh --start sometimes": "is none of",
    "/opt/own/tide.sh --start delayed": "no delayed group",
    "/opt/own/tide.sh --stop-on 'network down'": "does not tell",
    "/opt/own/tide.sh --restart often": "cannot be read",
    "/opt/own/tide.sh --restart 'after 10s, at most 5 in 20s'": "would not hold",
    "/opt/own/tide.sh --limit soon": "no duration",
    "/opt/own/tide.sh --instance-of no-such@": "no template",
    "/opt/own/tide.sh --up-when ready": "up_when",
    "/opt/own/twin.sh --name again": "runs the same program",
    "/opt/own/tide.sh --needs ring-top --name ring-low": "ring",
}


@pytest.fixture(scope="module")
def crooked(host: RealHost) -> RealHost:
    """The host with what is wrong laid out."""
    host.run(
        "cd /opt/own; cp tide.sh plain.txt; chmod 644 plain.txt; : > empty.sh; printf '#!/bin/sh\\r\\n:\\r\\n' > lines.sh\n"
        "printf '#!/usr/bin/none\\n' > other.sh; echo hello > pages; mkdir -m 700 closed; cp tide.sh closed/in.sh; cp tide.sh twin.sh\n"
        "chmod 755 empty.sh lines.sh other.sh pages closed/in.sh twin.sh\n"
        "printf '[Unit]\\nRequires=ring-low.service\\nAfter=ring-low.service\\n[Service]\\nExecStart=/bin/sleep 99\\n' "
        "> /etc/systemd/system/ring-top.service\n"
        "printf '[Service]\\nExecStart=/opt/own/twin.sh\\n' > /etc/systemd/system/twin.service; systemctl daemon-reload\n"
        "systemd-run --quiet --unit holder python3 -m http.server 7799\n"
        "for i in $(seq 50); do ss -lntH 'sport = :7799' | grep -q . && break; sleep 0.1; done"
    )
    return host


@pytest.mark.parametrize("call", WRONG)
def test_wrong_ones_are_refused_in_one_line_before_anything_is_written(crooked: RealHost, call: str) -> None:
    before = definitions(crooked)
    done = crooked.program(f"register {call} --apply --yes")
    assert done.returncode == 2, (done.returncode, done.stdout[-500:], done.stderr)
    assert WRONG[call] in done.stderr and done.stderr.count("\n") == 1, done.stderr
    assert definitions(crooked) == before
    assert shlex.split(call)


def test_at_every_moment_of_a_power_cut_nothing_is_left_half_made(host: RealHost) -> None:
    host.run("rm -rf /var/lib/hollow-chain")  # nothing older is to be taken back
    before = definitions(host)
    call = "register /opt/own/tide.sh --name cut --up-when started --another --apply --yes --watch 0 --json"
    cuts = 0
    for moment in range(60):
        done = host.program(f"{moment} {call}", entry="tests.power_cut")
        if (status := done.returncode) == 77:
            break
        cuts += 1
        assert status in (137, -9), (moment, status, done.stderr)
        if host.run("ls /var/lib/hollow-chain/mends/*.jsonl", check=False).stdout.split():
            done = host.program("mend --undo --yes")
            assert done.returncode == 0, (moment, done.stdout, done.stderr)
        assert definitions(host) == before, moment
        assert told(host, "cut.service", "ActiveState") == ["inactive"], moment
        host.run("rm -rf /var/lib/hollow-chain")
    assert cuts >= 10
    assert host.program("register --undo --yes").returncode == 0
    assert definitions(host) == before


def test_on_a_terminal_it_asks_for_what_is_open_and_offers_the_likely(host: RealHost) -> None:
    host.run("install -d -o daemon /opt/ramp; cp /opt/own/tide.sh /opt/ramp/ramp-lamp.sh")
    call = f"{PROGRAM} register /opt/ramp/ramp-lamp.sh --another"
    done = host.run(f"printf '\\n\\n\\nmanual\\n\\n' | COLUMNS=100 script -qec '{call}' /dev/null", check=False)
    said = done.stdout.replace("\r", "")
    assert "Name [ramp-lamp]" in said
    assert "Account [daemon]" in said and "/opt/ramp belongs to it" in said
    assert (
        "Working folder [/opt/ramp]" in said
        and "Start [automatic]" in said
        and "Port that it listens on [none]" in said
    )
    assert "User=daemon" in said and "to automatic" not in said


def test_who_may_not_is_told_before_anything_runs(host: RealHost) -> None:
    host.run(
        "printf '#!/bin/sh\\ntouch /tmp/it-ran\\n' > /opt/own/ran.sh; chmod 755 /opt/own/ran.sh; rm -f /tmp/it-ran"
    )
    done = host.run(
        f"setpriv --reuid=nobody --clear-groups {PROGRAM} register /opt/own/ran.sh --apply --yes", check=False
    )
    assert done.returncode == 2 and "root's right" in done.stderr and done.stderr.count("\n") <= 3
    assert host.run("ls /tmp/it-ran", check=False).returncode != 0
