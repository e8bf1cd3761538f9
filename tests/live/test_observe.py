"""Starts that are watched on a throwaway host: what silent programs do not say, what good starts look like, and that the manager is always
let go."""

from __future__ import annotations

import json
import subprocess
import time
from collections.abc import Iterator
from typing import Any

import pytest

from tests.live.conftest import PROGRAM, needs_a_host
from tests.live.realhost import RealHost

pytestmark = pytest.mark.live


@pytest.fixture(scope="module")
def host() -> Iterator[RealHost]:
    needs_a_host()
    with RealHost("lantern") as lantern:
        lantern.run("mkdir -p /opt/own /srv/chart; echo 1 > /srv/chart/a")
        yield lantern


def service(host: RealHost, name: str, body: str, more: str = "", before: str = "true") -> None:
    """A program in Python that says nothing, as a service."""
    text = f"import os, sys, socket, fcntl, time\ntry:\n    {body}\nexcept BaseException:\n    os._exit(1)\ntime.sleep(9999)\n"
    host.run(
        f"{before}\ncat > /opt/own/{name}.py <<'END'\n{text}END\n"
        f"printf %b '[Service]\\nExecStart=/usr/bin/python3 /opt/own/{name}.py\\n{more}' > /etc/systemd/system/{name}.service\n"
        "systemctl daemon-reload"
    )


def observe(host: RealHost, words: str) -> tuple[int, Any]:
    done = host.program(f"observe {words} --yes --json")
    assert done.stdout.startswith("{"), (done.returncode, done.stderr)
    return done.returncode, json.loads(done.stdout)


def let_go(host: RealHost) -> None:
    """Nobody traces the manager, which is alive and has nothing queued."""
    until = time.monotonic() + 20
    while "TracerPid:\t0" not in host.run("cat /proc/1/status").stdout:
        assert time.monotonic() < until, "the manager is still traced"
        time.sleep(0.1)
    assert host.run("timeout 10 systemctl list-jobs --no-legend", check=False).stdout == ""
    assert host.run("pgrep -x strace", check=False).stdout == ""
    host.run("timeout 10 systemctl daemon-reload")


SILENT: dict[str, tuple[str, str, str, str, str]] = {
    "a file that is not there": ("open('/srv/chart/none.db').read()", "", "true", "path-missing", "/srv/chart/none.db"),
    "a name with a space": ("open('/srv/chart/the old one').read()", "", "true", "path-missing", "/srv/chart/the old one"),
    "a relative path": ("os.chdir('/srv/chart'); open('b').read()", "", "true", "path-missing", "/srv/chart/b"),
    "a file that is closed": (
        "open('/srv/chart/closed').read()", "User=daemon\\n", "install -m 600 /dev/null /srv/chart/closed", "access-denied", "/srv/chart/closed",
    ),
    "a folder that it may not write to": (
        "open('/srv/chart/new', 'w').write('x')", "User=daemon\\n", "true", "access-denied", "/srv/chart",
    ),
    "a port that is held": (
        "s = socket.socket(); s.bind(('127.0.0.1', 7801))", "",
        "systemd-run --quiet --unit holder-7801 python3 -m http.server --bind 127.0.0.1 7801\n"
        "for i in $(seq 50); do ss -lntH 'sport = :7801' | grep -q . && break; sleep 0.1; done",
        "port-held", "7801",
    ),
    "an address of nobody": ("s = socket.socket(); s.bind(('203.0.113.7', 7802))", "", "true", "address-missing", "203.0.113.7"),
    "a port below 1024": ("s = socket.socket(); s.bind(('127.0.0.1', 87))", "User=daemon\\n", "true", "port-forbidden", "87"),
    "a lock that is held": (
        "f = open('/run/deck.lock', 'a'); fcntl.flock(f, fcntl.LOCK_EX | fcntl.LOCK_NB)", "",
        "systemd-run --quiet --unit holder-lock flock /run/deck.lock sleep 999\n"
        "for i in $(seq 50); do grep -q FLOCK /proc/locks && break; sleep 0.1; done; sleep 0.3",
        "lock-held", "/run/deck.lock",
    ),
    "a call that is filtered": (
        "os.mkdir('/srv/chart/sub')", "SystemCallFilter=~mkdir mkdirat\\n", "true", "call-forbidden", "mkdir",
    ),
    "a disk that is full": (
        "f = open('/srv/full/x', 'wb'); f.write(b'x' * 400000); f.flush()", "",
        "mkdir -p /srv/full; mountpoint -q /srv/full || mount -t tmpfs -o size=64k tmpfs /srv/full", "disk-full", "/srv/full",
    ),
    "a program of another's": ("os.execv('/srv/chart/tool', ['tool'])", "", "true", "path-missing|program-missing", "/srv/chart/tool"),
    "an interpreter of a helper": (
        "os.execv('/opt/own/help', ['help'])", "", "printf '#!/opt/none/perl\\n' > /opt/own/help; chmod 755 /opt/own/help",
        "program-missing", "/opt/none/perl",
    ),
    "a helper that is no program": (
        "os.execv('/opt/own/junk', ['junk'])", "", "echo hello > /opt/own/junk; chmod 755 /opt/own/junk", "wrong-program-format", "/opt/own/junk",
    ),
    "a right of root's": ("os.setgid(33)", "User=daemon\\n", "true", "access-denied", "CAP_SETGID"),
    "memory that may not be locked": (
        "import ctypes; assert ctypes.CDLL(None).mlockall(3) == 0", "User=daemon\\nLimitMEMLOCK=64K\\n", "true", "limit-reached", "LimitMEMLOCK",
    ),
    "a lock that was left": (
        "os.open('/run/own.lock', os.O_CREAT | os.O_EXCL)", "", "echo 999999 > /run/own.lock", "stale-lock", "/run/own.lock",
    ),
    "too few descriptors": ("[open('/dev/null') for _ in range(200)]", "LimitNOFILE=64\\n", "true", "limit-reached", "LimitNOFILE"),
    "a kind of socket": ("socket.socket(socket.AF_INET)", "RestrictAddressFamilies=AF_UNIX\\n", "true", "call-forbidden", "RestrictAddressFamilies"),
    "a file of a command that it runs": (
        "import subprocess; subprocess.run(['cat', '/srv/gone'], check=True)", "", "true", "path-missing", "/srv/gone",
    ),
    "what the definition makes read-only": (
        "open('/srv/chart/log', 'w')", "ReadOnlyPaths=/srv/chart\\n", "true", "access-denied", "/srv/chart",
    ),
}  # fmt: skip


_ASKS = """[Unit]
Requires=tide.service
After=tide.service
[Service]
ExecStart=/usr/bin/python3 -c 'import socket, time; s = socket.create_connection(("127.0.0.1", 4471)); time.sleep(99)'
"""
NEEDED = {
    "silent, then it is missed": ("Type=exec\\n", "open('/srv/chart/none.db').read()", "path-missing", "/srv/chart/none.db"),
    "silent, and waited for": ("Type=notify\\n", "open('/srv/chart/none.db').read()", "path-missing", "/srv/chart/none.db"),
    "held up by a lock": (
        "Type=oneshot\\nTimeoutStartSec=infinity\\n", "f = open('/run/tide.lock', 'a'); fcntl.flock(f, fcntl.LOCK_EX)",
        "lock-held", "/run/tide.lock",
    ),
}  # fmt: skip


@pytest.mark.parametrize("what", NEEDED)
def test_a_service_that_it_needs_is_watched_along(host: RealHost, what: str) -> None:
    more, body, cause, thing = NEEDED[what]
    service(host, "tide", body, more)
    host.run(
        f"cat > /etc/systemd/system/pilot.service <<'END'\n{_ASKS}END\n"
        "systemctl daemon-reload; systemctl is-active -q tide-holder || systemd-run --quiet --unit tide-holder flock /run/tide.lock sleep 999\n"
        "for i in $(seq 50); do grep -q FLOCK /proc/locks && break; sleep 0.1; done; sleep 0.3"
    )
    try:
        status, found = observe(host, "pilot --for 8")
        first = found["causes"][0]
        assert (first["cause"], first["service"]) == (cause, "tide.service") and thing in json.dumps(first), found
        assert any(piece["source"] == "observed" for piece in first["evidence"]) and first["confidence"] >= 0.7
        along = found["observed"]["along"]
        assert status == 1 and [one["service"] for one in along] == ["tide.service"] and along[0]["traced"]
    finally:
        host.run("systemctl stop pilot tide; systemctl reset-failed pilot tide", check=False)
    let_go(host)


def test_a_start_that_was_called_off_before_this_one_is_no_failure(host: RealHost) -> None:
    service(host, "ebb", "time.sleep(30)", "Type=oneshot\\n")
    try:
        host.run("systemctl start --no-block ebb; sleep 1; systemctl restart --no-block ebb; sleep 1")
        found = json.loads(host.program("why ebb --json").stdout)
        assert (found["state"], found["causes"]) == ("starting", []), found
    finally:
        host.run("systemctl stop ebb", check=False)


@pytest.mark.parametrize("what", SILENT)
def test_a_silent_end_is_told_by_the_call_that_failed(host: RealHost, what: str) -> None:
    body, more, before, wanted, thing = SILENT[what]
    name = f"mute{list(SILENT).index(what)}"
    service(host, name, body, more, before)
    status, found = observe(host, name)
    first = found["causes"][0]
    told = json.dumps(first, ensure_ascii=False)
    assert first["cause"] in wanted.split("|") and thing in told, (first, found["observed"]["calls"][:3])
    assert first["confidence"] >= 0.7
    assert any(piece["source"] == "observed" for piece in first["evidence"]), first["evidence"]
    assert status == 1 and found["observed"]["outcome"] == "failed" and found["observed"]["traced"]
    let_go(host)


HANGS: dict[str, tuple[str, str, str, str]] = {
    "a lock of another's": (
        "f = open('/run/wait.lock', 'a'); fcntl.flock(f, fcntl.LOCK_EX)",
        "systemd-run --quiet --unit holder-wait flock /run/wait.lock sleep 999\n"
        "for i in $(seq 50); do grep -q FLOCK /proc/locks && break; sleep 0.1; done; sleep 0.3",
        "flock", "/run/wait.lock",
    ),
    "a pipe that nobody writes to": ("open('/run/wait.pipe').read()", "[ -p /run/wait.pipe ] || mkfifo /run/wait.pipe", "openat", "/run/wait.pipe"),
    "a server that takes nobody": (
        "s = socket.socket(); s.connect(('127.0.0.1', 7900))",
        "cat > /opt/own/full.py <<'END'\n"
        "import socket, time\ns = socket.socket(); s.bind(('127.0.0.1', 7900)); s.listen(0)\nwaiting = [socket.socket() for _ in range(4)]\n"
        "for one in waiting:\n    one.setblocking(False); one.connect_ex(('127.0.0.1', 7900))\ntime.sleep(999)\nEND\n"
        "systemd-run --quiet --unit holder-7900 python3 /opt/own/full.py; sleep 1",
        "connect", "127.0.0.1:7900",
    ),
    "a name that does not resolve": (
        "socket.getaddrinfo('quay.example', 80)",
        "echo 'nameserver 127.0.0.9' > /run/resolv; mount --bind /run/resolv $(readlink -f /etc/resolv.conf)\n"
        "systemd-run --quiet --unit holder-53 python3 -c "
        "\"import socket, time; s = socket.socket(2, 2); s.bind(('127.0.0.9', 53)); time.sleep(999)\"; sleep 0.5",
        "poll", "127.0.0.9:53",
    ),
}  # fmt: skip


@pytest.mark.parametrize("what", HANGS)
def test_a_start_that_hangs_is_told_by_the_call_that_it_hangs_in(host: RealHost, what: str) -> None:
    body, before, call, thing = HANGS[what]
    name = f"stuck{list(HANGS).index(what)}"
    service(host, name, body, "Type=notify\\nTimeoutStartSec=4s\\n", before)
    status, found = observe(host, name)
    waits = found["observed"]["waits"]
    assert status == 1 and (call, thing) in [(one["name"], one.get("thing")) for one in waits], waits
    assert found["causes"], found["summary"]
    let_go(host)


ENDLESS = {
    "a lock of another's": "lock-held",
    "a pipe that nobody writes to": "start-timeout",
    "a server that takes nobody": "start-timeout",
}


@pytest.mark.parametrize("what", ENDLESS)
def test_a_first_start_without_a_limit_that_hangs_is_told_by_the_call(host: RealHost, what: str) -> None:
    body, before, _, thing = HANGS[what]
    name = f"endless{list(HANGS).index(what)}"
    service(host, name, body, "Type=notify\\nTimeoutStartSec=infinity\\n", before)
    try:
        status, found = observe(host, f"{name} --for 6")
        assert status == 1 and found["causes"][0]["cause"] == ENDLESS[what], found["causes"][:1]
        assert thing in json.dumps(found["causes"][0])
    finally:
        host.run(f"systemctl stop {name}", check=False)
    let_go(host)


def tree(host: RealHost, unit: str) -> list[str]:
    group = host.run(f"systemctl show -P ControlGroup {unit}").stdout.strip()
    told = host.run(
        f"for p in $(cat /sys/fs/cgroup{group}/cgroup.procs); do ps -o comm=,user=,nlwp= -p $p; done", check=False
    )
    return sorted(told.stdout.split("\n"))


@pytest.mark.parametrize("unit", ["nginx", "redis-server", "memcached"])
def test_a_good_start_has_no_cause_and_leaves_the_same_processes(host: RealHost, unit: str) -> None:
    host.run(f"systemctl restart {unit}; sleep 2")
    before = tree(host, unit)
    host.run(f"systemctl stop {unit}")
    status, found = observe(host, unit)
    assert status == 0 and found["causes"] == [] and found["observed"]["outcome"] == "up"
    assert found["observed"]["parts"][-1]["what"] == "until it was up"
    assert host.run(f"systemctl is-active {unit}").stdout.strip() == "active"
    until = time.monotonic() + 15
    while tree(host, unit) != before:
        assert time.monotonic() < until, (tree(host, unit), before)
        time.sleep(0.5)
    let_go(host)


def begin(host: RealHost, words: str) -> subprocess.Popen[bytes]:
    """A call of the program on the host that goes on beside us."""
    command = f"exec {PROGRAM} {words}"
    return subprocess.Popen(
        ["nsenter", "-t", str(host.init), "-a", "bash", "-c", command],
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
    )


@pytest.fixture
def slow(host: RealHost) -> str:
    """A service whose start takes long."""
    service(host, "slow", "pass", "Type=notify\\nTimeoutStartSec=60s\\nRestart=no\\n")
    host.run("systemctl stop slow; systemctl reset-failed slow", check=False)
    return "slow"


def wait_for_tracer(host: RealHost) -> str:
    for _ in range(200):
        if "TracerPid:\t0" not in host.run("cat /proc/1/status").stdout:
            return host.run("pgrep -x strace").stdout.split()[0]
        time.sleep(0.05)
    raise AssertionError("nothing traces the manager")


ACCIDENTS = {
    "Ctrl-C": "pkill -INT -f '[o]bserve slow'",
    "kill -9 of ours": "pkill -KILL -f '[o]bserve slow'",
    "the tracer dies": "pkill -KILL -x strace",
    "the service is killed": "systemctl kill -s KILL slow",
}


@pytest.mark.parametrize("what", ACCIDENTS)
def test_the_manager_is_let_go_whatever_happens(host: RealHost, slow: str, what: str) -> None:
    call = begin(host, f"observe {slow} --yes --for 20")
    try:
        wait_for_tracer(host)
        time.sleep(0.7)
        host.run(ACCIDENTS[what])
        if what in ("Ctrl-C", "kill -9 of ours"):
            call.wait(20)
        if what == "Ctrl-C":
            assert call.returncode == 130, call.returncode
            assert b"interrupted: nothing watches slow.service any more; its start goes on" in call.stderr.read()
            assert host.run("ls /run/hollow-chain").stdout.split() == ["observe.lock"]
        until = time.monotonic() + 15
        while "TracerPid:\t0" not in host.run("cat /proc/1/status").stdout:
            assert time.monotonic() < until
            time.sleep(0.1)
        assert "slow" in host.run("systemctl list-units --all slow.service").stdout
    finally:
        host.run(f"systemctl stop {slow}", check=False)
        call.kill()
        call.communicate()
    let_go(host)


def test_a_hang_of_ours_does_not_hold_the_manager(host: RealHost, slow: str) -> None:
    call = begin(host, f"observe {slow} --yes --for 2")
    try:
        wait_for_tracer(host)
        host.run("pkill -STOP -f '[o]bserve slow'")
        assert host.run(
            "timeout 5 systemctl is-system-running", check=False
        ).stdout.strip()  # it answers while it is traced
        until = time.monotonic() + 20
        while "TracerPid:\t0" not in host.run("cat /proc/1/status").stdout:
            assert time.monotonic() < until, "the tracer has no clock of its own"
            time.sleep(0.2)
    finally:
        host.run("pkill -KILL -f '[o]bserve slow'; systemctl stop slow", check=False)
        call.kill()
        call.communicate()
    let_go(host)


def test_never_two_at_once_and_the_second_says_so(host: RealHost, slow: str) -> None:
    call = begin(host, f"observe {slow} --yes --for 40")
    try:
        wait_for_tracer(host)
        host.run("systemctl stop memcached")
        status, found = observe(host, "memcached")
        assert status == 0 and not found["observed"]["traced"]
        assert "another start is being observed" in found["observed"]["why_not_traced"]
    finally:
        host.run(f"systemctl stop {slow}", check=False)
        call.kill()
        call.communicate()
    let_go(host)


def test_it_waits_for_the_next_try_of_what_is_restarted_anyway(host: RealHost) -> None:
    service(host, "again", "open('/srv/chart/never').read()", "Restart=always\\nRestartSec=3s\\n")
    host.run("systemctl start again; sleep 0.5", check=False)
    before = host.run("systemctl show -P NRestarts again").stdout
    done = host.program("observe again --attach --for 15 --json")
    found = json.loads(done.stdout)
    assert found["observed"]["calls"][0]["thing"] == "/srv/chart/never", found["observed"]
    assert found["causes"][0]["cause"] == "path-missing"
    assert int(host.run("systemctl show -P NRestarts again").stdout) > int(before)
    host.run("systemctl stop again", check=False)
    let_go(host)


def test_one_that_stays_up_has_no_next_try(host: RealHost) -> None:
    service(host, "calm", "time.sleep(99)")
    host.run("systemctl start calm; sleep 0.5")
    done = host.program("observe calm --attach --for 1")
    assert done.returncode == 0 and "no try of it came" in done.stdout and "waits in" not in done.stdout, done.stdout
    host.run("systemctl stop calm")
    let_go(host)


def test_what_is_restarted_again_and_again_is_begun_anew_at_whatever_moment(host: RealHost) -> None:
    """Twice, and as often as its start limit allows before: no bar, no run whose begin nobody saw, and the same answer."""
    service(
        host,
        "flapping",
        "time.sleep(0.3); open('/srv/chart/gone.db')",
        "Restart=on-failure\\nRestartSec=100ms\\nStartLimitBurst=4\\n",
    )
    for _ in range(3):
        host.run("systemctl start flapping; sleep 0.7", check=False)
        status, answer = observe(host, "flapping")
        assert (status, answer["observed"]["outcome"]) == (1, "failed"), answer
        assert (answer["causes"][0]["cause"], "/srv/chart/gone.db" in answer["causes"][0]["says"]) == (
            "path-missing",
            True,
        ), answer
    host.run("systemctl stop flapping")
    let_go(host)


def test_where_it_cannot_be_traced_the_rest_is_watched_and_that_is_said(host: RealHost) -> None:
    service(host, "plain", "open('/srv/chart/none').read()")
    host.run("mount --bind /dev/null $(command -v strace)")
    try:
        status, found = observe(host, "plain")
    finally:
        host.run("umount $(command -v strace)")
    assert status == 1 and not found["observed"]["traced"]
    assert any("calls of its start" in text for text in found["unread"])
    let_go(host)


def test_what_is_asked_before(host: RealHost) -> None:
    host.run("systemctl start memcached")
    service(host, "lasting", "pass", "Type=notify\\nTimeoutStartSec=60s\\nRestart=no\\n")
    host.run("systemctl start --no-block lasting; sleep 0.5")
    service(host, "plain", "open('/srv/chart/none').read()")
    for words, said in (
        ("memcached --yes", "runs; --restart"),
        ("no-such-thing --yes", "no service"),
        ("plain", "add --yes"),
        ("lasting --yes", "is being started already"),
        ("memcached --attach --restart", "exclude one another"),
    ):
        done = host.program(f"observe {words}")
        assert done.returncode == 2 and said in done.stderr and done.stderr.count("\n") == 1, (words, done.stderr)
    done = host.run(f"setpriv --reuid=nobody --clear-groups {PROGRAM} observe plain --yes", check=False)
    assert done.returncode in (1, 2, 3) and "Traceback" not in done.stderr
    host.run("systemctl stop lasting", check=False)
    let_go(host)


DEAF: dict[str, tuple[str, str, str, str]] = {
    "a port below 1024": ("s.bind(('127.0.0.1', 88)); s.listen()", "User=daemon\\n", "port-forbidden", "88"),
    "a port that is held": ("s.bind(('127.0.0.1', 80)); s.listen()", "", "port-held", "nginx.service"),
    "an address of nobody": ("s.bind(('203.0.113.9', 7891)); s.listen()", "", "address-missing", "203.0.113.9"),
}


@pytest.mark.parametrize("what", DEAF)
def test_what_is_up_and_deaf_is_told(host: RealHost, what: str) -> None:
    body, more, wanted, thing = DEAF[what]
    name = f"deaf{list(DEAF).index(what)}"
    host.run("systemctl stop apache2 lighttpd; systemctl start nginx; sleep 0.5", check=False)
    kept = f"s = socket.socket()\n    try: {body}\n    except OSError: pass\n    time.sleep(9999)"
    service(host, name, kept, more)
    status, found = observe(host, name)
    first = found["causes"][0]
    assert found["observed"]["outcome"] == "up" and status == 1
    assert first["cause"] == wanted and thing in json.dumps(first) and first["confidence"] >= 0.7, first
    assert any(piece["source"] == "observed" for piece in first["evidence"])
    host.run(f"systemctl stop {name}")


def test_one_socket_for_both_families_of_addresses_is_enough(host: RealHost) -> None:
    both = (
        "a = socket.socket(socket.AF_INET6); a.bind(('::', 7892)); a.listen()\n    b = socket.socket()\n"
        "    try: b.bind(('0.0.0.0', 7892))\n    except OSError: pass\n    time.sleep(9999)"
    )
    service(host, "dual", both)
    status, found = observe(host, "dual")
    assert found["observed"]["outcome"] == "up" and (status, found["causes"]) == (0, [])


def test_a_service_that_is_up_is_told_whom_it_calls_in_vain(host: RealHost) -> None:
    service(
        host, "caller",
        "while True:\n        c = socket.socket()\n        if c.connect_ex(('127.0.0.1', 7899)) == 0: break\n"
        "        c.close(); time.sleep(0.4)",
    )  # fmt: skip
    status, verdict = observe(host, "caller")
    assert (status, verdict["healthy"], verdict["causes"]) == (0, True, [])
    assert [(one["kind"], one["thing"]) for one in verdict["observed"]["calls"]] == [("connect", "127.0.0.1:7899")]
    assert "calls again and again in vain" in host.program("observe caller --restart --yes").stdout


def test_a_stop_that_takes_long_is_no_part_of_the_start(host: RealHost) -> None:
    stays = "import signal; signal.signal(signal.SIGTERM, signal.SIG_IGN)"
    service(host, "stubborn", stays, "TimeoutStopSec=4\\n")
    host.run("systemctl start stubborn; sleep 1")
    status, verdict = observe(host, "stubborn --restart --for 4")
    parts = {part["what"]: part["seconds"] for part in verdict["observed"]["parts"]}
    assert (status, verdict["observed"]["outcome"]) == (0, "up")
    assert 3 <= parts["until the run before was stopped"] <= 20 and parts["until it was up"] < 4


def test_an_account_that_a_silent_program_seeks_is_named(host: RealHost) -> None:
    service(host, "purser", "import pwd; pwd.getpwnam('nobody-of-that-name')")
    status, verdict = observe(host, "purser")
    assert (status, verdict["causes"][0]["cause"]) == (1, "account-missing")
    assert "nobody-of-that-name" in verdict["causes"][0]["says"]


def test_what_a_start_asks_for_until_its_limit_is_named(host: RealHost) -> None:
    service(
        host,
        "patient",
        "pass",
        'TimeoutStartSec=4\\nExecStartPre=/bin/sh -c "until [ -e /run/patient.flag ]; do sleep 0.2; done"\\n',
    )
    status, verdict = observe(host, "patient")
    assert (status, verdict["causes"][0]["cause"]) == (1, "path-missing")
    assert "/run/patient.flag" in verdict["causes"][0]["says"]


def test_no_secret_of_its_arguments_is_kept(host: RealHost) -> None:
    service(host, "hush", "open('/srv/chart/none', 'r').read()")
    host.run(
        "sed -i 's|hush.py|hush.py --password=GangwayKey77|' /etc/systemd/system/hush.service; systemctl daemon-reload"
    )
    done = host.program("observe hush --yes --json")
    assert "GangwayKey77" not in done.stdout + done.stderr
    assert host.run("ls /run/hollow-chain").stdout.split() in ([], ["observe.lock"])


def test_what_it_writes_to_a_log_of_its_own_is_told_as_it_comes(host: RealHost) -> None:
    host.run(
        "mkdir -p /var/log/chart; echo 'an old line' > /var/log/chart/chart.log\n"
        "printf '#!/bin/sh\\necho the new line >> /var/log/chart/chart.log; sleep 0.5; exit 4\\n' > /opt/own/chart.sh; chmod 755 /opt/own/chart.sh\n"
        "printf '[Service]\\nExecStart=/opt/own/chart.sh --log /var/log/chart/chart.log\\n' > /etc/systemd/system/chart.service\n"
        "systemctl daemon-reload; systemctl start chart; sleep 1.2",
        check=False,
    )
    done = host.program("observe chart --yes")
    assert done.stderr.count("the new line  [/var/log/chart/chart.log]") == 1, done.stderr
    assert "an old line" not in done.stderr
