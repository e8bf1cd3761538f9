"""Hosts of both families in one chain, for real: sshd and systemd on two of them, and on the third a server of another make that tells of
its services over RPC."""

from __future__ import annotations

import base64
import contextlib
import fcntl
import json
import os
import pty
import shutil
import signal
import subprocess
import sys
import termios
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.live.conftest import REQUIRED, needs_a_host
from tests.live.harbor import Harbor, lacking
from tests.live.rpc_hosts import NAMES, NEEDS, PASSWORD, TICKETS, set_up
from tests.power_cut import PASSED

HERE = Path(__file__).parents[2]
pytestmark = [pytest.mark.live, pytest.mark.xdist_group("gates")]


@pytest.fixture(scope="module")
def harbor() -> Iterator[Harbor]:
    """Three hosts; the spooler of the third runs."""
    needs_a_host()
    programs = ("smbd", "net", "eventlogadm", "kdb5_util", "kadmin.local", "kinit")
    absent = [name for name in programs if shutil.which(name, path="/usr/sbin:/usr/bin") is None]
    reason = lacking() or (f"{absent[0]} is not installed" if absent else "")
    if reason:
        if REQUIRED:
            pytest.fail(f"live tests are required here, but: {reason}")
        pytest.skip(f"no harbor: {reason}")
    with Harbor(*NAMES, keep=("smbd",)) as built:
        for name in reversed(NAMES):
            built.hosts[name].run(set_up(name))
        spooler(built, "start")
        for name, service in (("pier", "printer"), ("quay", "kiosk")):
            built.hosts[name].run(f"systemctl reset-failed {service}; systemctl restart {service}; sleep 0.5")
        yield built


def spooler(harbor: Harbor, order: str) -> str:
    """Have the server's own client start, stop or look."""
    words = f"net rpc service {order} Spooler -S 127.0.0.1 -U root%{PASSWORD}"
    return harbor.hosts["gate"].run(words, check=False).stdout


def secret(harbor: Harbor, text: str = PASSWORD, mode: int = 0o600) -> str:
    """A file with a password, at the chair."""
    path = harbor.home / "password"
    path.unlink(missing_ok=True)
    path.write_text(f"{text}\n")
    path.chmod(mode)
    return str(path)


def hosts_file(harbor: Harbor, user: str = "root", password: str = PASSWORD, more: str = "") -> str:
    """A file of the three hosts."""
    at = harbor.address("gate")
    secret(harbor, password)
    gate = f'[hosts.gate]\nat = "rpc://{user}@{at}"\npassword_file = "password"\n'
    return str(harbor.hosts_file(gate + more + NEEDS, but=("gate",)))


def document(harbor: Harbor, *words: str) -> Any:
    """What a call says in JSON."""
    done = harbor.call(*words, "--json")
    assert done.returncode in (0, 1), (done.stdout, done.stderr)
    return json.loads(done.stdout)


def causes(harbor: Harbor, hosts: str) -> list[tuple[str, str, str]]:
    """What is told of the kiosk."""
    found = document(harbor, "why", "kiosk", "--from", hosts)
    return [(one["cause"], one["host"], one["service"]) for one in found["causes"]]


def stopped(harbor: Harbor) -> None:
    """Have the spooler stop, and all above it fail."""
    assert "stopped" in spooler(harbor, "stop") or "is stopped" in spooler(harbor, "status")
    for name, service in (("pier", "printer"), ("quay", "kiosk")):
        harbor.hosts[name].run(f"systemctl stop {service}; systemctl start {service}; sleep 0.6", check=False)


def well(harbor: Harbor) -> None:
    """All as it was."""
    spooler(harbor, "start")
    for name, service in (("pier", "printer"), ("quay", "kiosk")):
        harbor.hosts[name].run(f"systemctl reset-failed {service}; systemctl restart {service}; sleep 0.5", check=False)


def test_a_chain_over_both_families_that_is_well_has_no_cause(harbor: Harbor) -> None:
    assert causes(harbor, hosts_file(harbor)) == []


def test_a_service_behind_another_server_is_found_started_and_stopped_again(harbor: Harbor) -> None:
    hosts = hosts_file(harbor)
    stopped(harbor)
    try:
        cause, *where = causes(harbor, hosts)[0]
        assert where == ["gate", "Spooler"] and cause in ("stopped", "manual-not-started")
        done = harbor.call("mend", "kiosk", "--apply", "--yes", "--now-only", "--watch", "1", "--from", hosts)
        assert done.returncode == 0, done.stdout + done.stderr
        assert "is running" in spooler(harbor, "status")
        assert harbor.hosts["quay"].run("systemctl is-active kiosk").stdout.strip() == "active"
        done = harbor.call("mend", "--undo", "--yes", "--from", hosts)
        assert done.returncode == 0, done.stdout + done.stderr
        assert "is stopped" in spooler(harbor, "status")
        for path in harbor.home.rglob("*"):
            if path.is_file() and path.name != "password":
                assert PASSWORD.encode() not in path.read_bytes(), path
    finally:
        well(harbor)


def test_what_the_server_tells_is_read(harbor: Harbor) -> None:
    gate = harbor.hosts["gate"]
    record = "LEN: 0\\nRS1: 1699505740\\nRCN: 0\\nTMG: $(date +%s)\\nTMW: $(date +%s)\\nEID: 7000\\nETP: ERROR\\nECT: 0\\nRS2: 0\\nCRN: 0\\n"
    record += "USL: 0\\nSRC: Service Control Manager\\nSRN: GATE\\nSTR: Print Spooler\\nSTR: %%%%2\\nDAT:\\n\\n"
    gate.run(f'printf "{record}" | eventlogadm -o write System', check=False)
    spooler(harbor, "stop")
    try:
        done = harbor.call(
            "about",
            "Spooler",
            "--json",
            "--from",
            f"rpc://root@{harbor.address('gate')}",
            HOLLOW_CHAIN_PASSWORD_FILE=secret(harbor),
        )
        found = json.loads(done.stdout)
        assert found["service"]["display_name"] == "Print Spooler" and found["service"]["startup"] == "manual"
        assert found["service"]["state"] == "stopped"
        done = harbor.call(
            "capture",
            "--out",
            "-",
            "--from",
            f"rpc://root@{harbor.address('gate')}",
            HOLLOW_CHAIN_PASSWORD_FILE=secret(harbor),
        )
        assert PASSWORD not in done.stdout + done.stderr
        host = json.loads(done.stdout)["hosts"][0]
        assert host["name"] == "GATE" and len(host["machine"]) == 32 and host["manager"] == "control-manager"
        assert {one["name"] for one in host["services"]} >= {"Spooler", "NETLOGON", "RemoteRegistry", "WINS"}
    finally:
        well(harbor)


def test_orders_values_records_and_files_go_there_and_back(harbor: Harbor) -> None:
    """The interfaces themselves, from the chair."""
    script = Path(__file__).parent / "programs/ask_rpc.py"
    done = subprocess.run(
        ["ip", "netns", "exec", harbor.chair, sys.executable, script, harbor.address("gate"), secret(harbor)],
        capture_output=True, text=True, env=harbor.env(), check=False, timeout=120,
    )  # fmt: skip
    well(harbor)
    assert done.returncode == 0, done.stderr
    found = json.loads(done.stdout)
    assert found["stopped"] == 1 and found["started"] == 4 and found["again"] == 4
    assert found["put"] == [1, "ferry\0".encode("utf-16-le").hex()]
    assert found["gone"] == {}
    assert found["missing"] == 2 and found["unknown"] == 1060
    assert found["expected"][0] == "Print Spooler" and all(found["expected"]) and found["unexpected"] == [2]
    assert "Ferry" in found["names"]
    assert found["text"] == "berth 7\n" and found["end"] == "7\n"
    assert found["absent"] == "FileNotFoundError"
    assert found["drives"] == {"C": "disk", "Q": ""}


def _own_terminal() -> None:
    fcntl.ioctl(0, termios.TIOCSCTTY, 0)


REFUSED = {
    "another password": ({"password": "harbor-8"}, "no such account, or another password"),
    "no such account": ({"user": "nobody-here"}, "may not log on"),
}


@pytest.mark.parametrize("name", REFUSED)
def test_whoever_is_refused_is_told_why_and_spoils_no_other_host(harbor: Harbor, name: str) -> None:
    given, words = REFUSED[name]
    done = harbor.call("why", "kiosk", "--from", hosts_file(harbor, **given))
    said = " ".join(done.stderr.split())
    assert "gate could not be read" in said and words in said, said
    assert "kiosk.service on quay" in done.stdout and "Traceback" not in said


def test_a_user_without_rights_there_sees_what_he_may_and_mends_nothing(harbor: Harbor) -> None:
    hosts = hosts_file(harbor, user="deck")
    found = {one["host"]: one for one in document(harbor, "hosts", "check", hosts)["hosts"]}
    assert found["gate"]["asked_as"] == "deck, who is no administrator there"
    stopped(harbor)
    try:
        done = harbor.call("mend", "kiosk", "--apply", "--yes", "--from", hosts)
        assert done.returncode == 2 and "an administrator's rights on gate" in done.stderr, done.stdout + done.stderr
        assert "is stopped" in spooler(harbor, "status")
    finally:
        well(harbor)


def test_a_file_of_a_password_that_others_may_read_is_not_read(harbor: Harbor) -> None:
    hosts = hosts_file(harbor)
    (harbor.home / "password").chmod(0o644)
    done = harbor.call("roster", "--from", hosts)
    assert "may be read or changed by others (mode 0644): chmod 600" in " ".join(done.stderr.split()), done.stderr


def test_without_a_password_and_with_nobody_to_ask(harbor: Harbor) -> None:
    done = harbor.call("roster", "--from", f"rpc://root@{harbor.address('gate')}")
    assert done.returncode == 3 and "there is no password for root: type one at a terminal" in done.stderr


def test_a_password_is_asked_for_once_and_never_shown(harbor: Harbor) -> None:
    ours, theirs = pty.openpty()
    asking = subprocess.Popen(
        harbor.command("roster", "--from", f"rpc://root@{harbor.address('gate')}"), env=harbor.env(), stdin=theirs, stdout=theirs,
        stderr=theirs, start_new_session=True, preexec_fn=_own_terminal,
    )  # fmt: skip
    os.close(theirs)
    said = b""
    while b"Password of root for" not in said:
        said += os.read(ours, 4096)
    os.write(ours, PASSWORD.encode() + b"\n")
    with contextlib.suppress(OSError):
        while some := os.read(ours, 4096):
            said += some
    assert asking.wait(timeout=60) in (0, 1), said
    assert b"Spooler" in said and said.count(b"Password of") == 1 and PASSWORD.encode() not in said


def test_a_ticket_takes_the_place_of_a_password(harbor: Harbor) -> None:
    cache = harbor.home / "tickets"
    cache.write_bytes(base64.b64decode(harbor.hosts["gate"].run(TICKETS).stdout))
    names = harbor.home / "names"
    names.write_text(f"127.0.0.1 localhost\n{harbor.address('gate')} gate\n")
    done = harbor.call("roster", "--from", "rpc://gate", names=names, KRB5CCNAME=f"FILE:{cache}")
    assert done.returncode in (0, 1) and "Spooler" in done.stdout, done.stderr
    done = harbor.call("roster", "--from", f"rpc://{harbor.address('gate')}", KRB5CCNAME=str(cache))
    assert done.returncode == 3 and "has no ticket for cifs/" in done.stderr, done.stderr


def test_nobody_speaks_smb_there(harbor: Harbor) -> None:
    gate = harbor.hosts["gate"]
    gate.run("systemctl stop smbd; sleep 0.3")
    try:
        done = harbor.call("why", "kiosk", "--from", hosts_file(harbor))
        assert "nothing takes connections at port 445 there" in " ".join(done.stderr.split()), done.stderr
        other = (
            "import socket; s = socket.socket(); s.setsockopt(1, 2, 1); s.bind(('0.0.0.0', 445)); s.listen()\n"
            "while True: s.accept()[0].sendall(b'HTTP/1.1 400 No\\r\\n\\r\\n' * 20)"
        )
        gate.run(
            f"cat > /tmp/other.py <<END\n{other}\nEND\nsystemd-run -q --unit=other /usr/bin/python3 /tmp/other.py; sleep 0.7"
        )
        done = harbor.call("roster", "--from", hosts_file(harbor), "--within", "40s")
        assert "gate could not be read" in " ".join(done.stderr.split()) and "Traceback" not in done.stderr, done.stderr
    finally:
        gate.run("systemctl stop other; systemctl start smbd; sleep 0.5", check=False)
        well(harbor)


def test_a_call_that_is_dropped_ends_in_time(harbor: Harbor) -> None:
    gate = harbor.hosts["gate"]
    gate.run(
        "nft add table inet wall; nft 'add chain inet wall in { type filter hook input priority 0; }'; nft add rule inet wall in tcp dport 445 drop"
    )
    try:
        begun = time.monotonic()
        done = harbor.call("why", "kiosk", "--from", hosts_file(harbor))
        assert "gate could not be read" in " ".join(done.stderr.split()) and "no answer" in " ".join(
            done.stderr.split()
        )
        assert time.monotonic() - begun < 60 and "kiosk.service on quay" in done.stdout
    finally:
        gate.run("nft delete table inet wall")


EVERY = int(os.environ.get("HOLLOW_CHAIN_MOMENTS", "23"))
"""Each so many moments a mend is cut off; all of them take a quarter of an hour."""


@pytest.mark.parametrize("then", ["--undo", "--resume"])
def test_a_mend_over_hosts_of_both_families_that_is_cut_off_loses_nothing(harbor: Harbor, then: str) -> None:
    hosts, moment = hosts_file(harbor), EVERY // 2 if then == "--undo" else EVERY - 1
    mends = harbor.home / ".local/state/hollow-chain/mends"
    while True:
        stopped(harbor)
        shutil.rmtree(mends, ignore_errors=True)
        words = ["mend", "kiosk", "--apply", "--yes", "--now-only", "--watch", "0", "--from", hosts]
        cut = subprocess.run(
            ["ip", "netns", "exec", harbor.chair, sys.executable, "-m", "tests.power_cut", str(moment), *words], cwd=HERE, env=harbor.env(),
            capture_output=True, text=True, check=False,
        )  # fmt: skip
        if cut.returncode == PASSED:
            break
        assert cut.returncode == -signal.SIGKILL, cut.stdout + cut.stderr
        begun = list(mends.glob("*.jsonl"))
        done = harbor.call("mend", then, *(["--yes"] if then == "--undo" else ["--watch", "0"]), "--from", hosts)
        assert done.returncode == (0 if begun else 2), (moment, done.stdout + done.stderr)
        if then == "--resume" and begun:
            assert harbor.hosts["quay"].run("systemctl is-active kiosk").stdout.strip() == "active", moment
            done = harbor.call("mend", "--undo", "--yes", "--from", hosts)
            assert done.returncode == 0, (moment, done.stdout + done.stderr)
        assert "is stopped" in spooler(harbor, "status"), moment
        assert marks(harbor) == [], moment
        moment += EVERY
    assert moment > EVERY
    well(harbor)


def marks(harbor: Harbor) -> list[str]:
    """The hosts that bear a mark."""
    told = f"net rpc registry enumerate 'HKLM\\SOFTWARE\\hollow-chain' -S 127.0.0.1 -U root%{PASSWORD}"
    found = ["gate"] if "UnderWay" in harbor.hosts["gate"].run(told, check=False).stdout else []
    for name in ("pier", "quay"):
        if harbor.hosts[name].run("ls /var/lib/hollow-chain/mends 2>/dev/null", check=False).stdout:
            found.append(name)
    return found


def test_a_mark_of_another_mend_stops_a_plan(harbor: Harbor) -> None:
    hosts = hosts_file(harbor)
    stopped(harbor)
    try:
        mark = '{"mend": "20260101-1", "chair": "another desk, user clerk", "at": "2026-01-01T08:00:00Z"}'
        harbor.hosts["gate"].run(
            f"net rpc registry createkey 'HKLM\\SOFTWARE\\hollow-chain' -S 127.0.0.1 -U root%{PASSWORD};"
            f" net rpc registry setvalue 'HKLM\\SOFTWARE\\hollow-chain' UnderWay sz '{mark}' -S 127.0.0.1 -U root%{PASSWORD}"
        )
        done = harbor.call("mend", "kiosk", "--apply", "--yes", "--now-only", "--watch", "1", "--from", hosts)
        assert done.returncode != 0 and "from another desk, user clerk is under way on gate" in " ".join(
            done.stderr.split()
        ), done.stderr
        assert "is stopped" in spooler(harbor, "status")
    finally:
        harbor.hosts["gate"].run(
            f"net rpc registry deletevalue 'HKLM\\SOFTWARE\\hollow-chain' UnderWay -S 127.0.0.1 -U root%{PASSWORD}",
            check=False,
        )
        well(harbor)
