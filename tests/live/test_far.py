"""Hosts over the network, for real: sshd, daemons and firewalls on throwaway hosts in network namespaces; the whole program from the
chair of the technician."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.live.conftest import REQUIRED, needs_a_host
from tests.live.far_faults import FAULTS, NEEDS, FarFault, set_up
from tests.live.harbor import Harbor, lacking

pytestmark = [pytest.mark.live, pytest.mark.xdist_group("harbor")]


def _needs_a_harbor() -> None:
    needs_a_host()
    if reason := lacking():
        if REQUIRED:
            pytest.fail(f"live tests are required here, but: {reason}")
        pytest.skip(f"no harbor: {reason}")


@pytest.fixture(scope="module")
def harbor() -> Iterator[Harbor]:
    """Two hosts: a kiosk on one, the timetable that it needs on the other."""
    _needs_a_harbor()
    with Harbor("quay", "office", keep=("redis-server",)) as built:
        for name in ("office", "quay"):
            built.hosts[name].run(set_up(name))
        yield built


def _document(harbor: Harbor, *words: str, status: tuple[int, ...] = (0, 1)) -> Any:
    done = harbor.call(*words, "--json")
    assert done.returncode in status, (done.stdout, done.stderr)
    return json.loads(done.stdout)


def _why(harbor: Harbor, declared: str = "") -> list[tuple[str, str, str]]:
    found = _document(harbor, "why", "kiosk", "--from", str(harbor.hosts_file(NEEDS + declared)))
    return [(one["cause"], one["host"], one["service"]) for one in found["causes"]]


def _make(harbor: Harbor, fault: FarFault) -> None:
    if fault.on:
        harbor.hosts[fault.on].run(fault.make, check=False)
    else:
        harbor.cut("office")
    harbor.hosts["quay"].run(
        "systemctl reset-failed kiosk; systemctl restart kiosk; sleep 4; " + fault.then, check=False
    )


def _undo(harbor: Harbor, fault: FarFault) -> None:
    if fault.on:
        harbor.hosts[fault.on].run(fault.undo, check=False)
    else:
        harbor.cut("office", False)
    again = "systemctl reset-failed kiosk; systemctl restart kiosk; sleep 0.5; systemctl is-active -q kiosk"
    # What it needs may take its time until it answers, on a machine that has much to do.
    harbor.hosts["quay"].run(f"for _ in $(seq 20); do {again} && exit 0; sleep 1; done; exit 1")


def test_a_chain_that_is_well_has_no_cause(harbor: Harbor) -> None:
    assert _why(harbor) == []


@pytest.mark.parametrize("name", FAULTS)
def test_the_cause_is_found_on_the_host_where_it_is(harbor: Harbor, name: str) -> None:
    fault = FAULTS[name]
    _make(harbor, fault)
    try:
        found = _why(harbor, fault.declared)
        right = [(cause, fault.host, fault.service) for cause in (fault.cause, *fault.may_be)]
        assert found and found[0] in right, found
        if fault.mended:
            _mend_and_undo(harbor, fault)
    finally:
        _undo(harbor, fault)


def _marks(harbor: Harbor) -> str:
    """The marks on the other host; it may be that no mend has come to it yet."""
    return harbor.hosts["office"].run("ls /var/lib/hollow-chain/mends 2>/dev/null", check=False).stdout


def _mend_and_undo(harbor: Harbor, fault: FarFault) -> None:
    """The plan is carried out on the hosts that it is for, holds, leaves no mark, and is undone over all of them."""
    hosts = str(harbor.hosts_file(NEEDS + fault.declared))
    done = harbor.call("mend", "kiosk", "--apply", "--yes", "--watch", "1", "--from", hosts, *fault.options)
    assert done.returncode == 0, done.stdout + done.stderr
    assert harbor.hosts["quay"].run("systemctl is-active kiosk").stdout.strip() == "active"
    assert _marks(harbor) == ""
    done = harbor.call("mend", "--undo", "--yes", "--from", hosts)
    assert done.returncode == 0, done.stdout + done.stderr
    assert harbor.hosts["quay"].run("systemctl is-active kiosk", check=False).stdout.strip() != "active"
    assert _marks(harbor) == ""


ACCOUNTS = {"root": "root", "support": "root, by way of sudo as support", "deck": "deck, who is not root"}


def test_who_asks_is_said_and_what_he_may_not_read(harbor: Harbor) -> None:
    for user, asked_as in ACCOUNTS.items():
        found = _document(harbor, "hosts", "check", str(harbor.hosts_file(NEEDS, user=user)))
        assert {one["asked_as"] for one in found["hosts"]} == {asked_as}
        unread = [text for one in found["hosts"] for text in one["unread"]]
        assert bool(unread) == (user == "deck"), unread


def test_a_host_that_takes_no_root_is_mended_by_nobody(harbor: Harbor) -> None:
    hosts = str(harbor.hosts_file(NEEDS, user="deck"))
    _make(harbor, FAULTS["stopped"])
    try:
        done = harbor.call("mend", "kiosk", "--apply", "--yes", "--from", hosts)
        assert done.returncode == 2 and "root's rights on office" in done.stderr, done.stdout + done.stderr
    finally:
        _undo(harbor, FAULTS["stopped"])


VOLATILE = {
    "read_at",
    "cpu_seconds",
    "written_by",
    "process",
    "free",
    "inodes_free",
    "altered_at",
    "changed_at",
    "held_by",
    "processes",
}
"""What differs between two readings of one host a second apart: moments, counters, and the processes of the reading itself."""


def _plain(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: _plain(one) for key, one in value.items() if key not in VOLATILE}
    if isinstance(value, list):
        return sorted((_plain(one) for one in value), key=lambda one: json.dumps(one, sort_keys=True))
    return value


OF_THE_SESSION = ("session-", "user@", "user-", "run-user", "sshd@", "ssh@")
"""Units that a login over the network makes while it lasts."""


@pytest.mark.parametrize("user", ["root", "support"])
def test_a_reading_over_ssh_equals_that_on_the_host(harbor: Harbor, user: str) -> None:
    """Of three pairs of readings one is alike: between two of a busy host something may have begun or ended."""
    told: dict[str, Any] = {}
    for _ in range(3):
        told = _differing(harbor, user)
        if not told:
            return
    raise AssertionError(json.dumps(told, indent=1)[:3000])


def _differing(harbor: Harbor, user: str) -> dict[str, Any]:
    """What differs between a reading of a host over the network and one on it, made one after the other."""
    out = harbor.home / "far.json"
    done = harbor.call("capture", "--from", f"ssh://{user}@{harbor.address('office')}", "--out", str(out))
    assert done.returncode == 0, done.stderr
    host = harbor.hosts["office"]
    host.run("sleep 1")
    near = json.loads(host.program("capture --out -").stdout)["hosts"][0]
    far = json.loads(out.read_bytes())["hosts"][0]
    names = {one["name"] for part in (near, far) for one in part["services"] if one["name"].startswith(OF_THE_SESSION)}
    for part in (near, far):
        part["services"] = [one for one in part["services"] if one["name"] not in names]
        for service in part["services"]:
            service["links"] = [link for link in service.get("links", ()) if link["to"] not in names]
        part["files"] = [one for one in part["files"] if "/user" not in one["path"]]
        part["events"] = [one for one in part.get("events", ()) if one.get("service") not in names]
        part.pop("changes", None)
        part["accounts"] = [one for one in part["accounts"] if not one["name"].isdigit()]  # of these sessions
        part["filesystems"] = [one for one in part["filesystems"] if not one["mounted_on"].startswith("/run/user")]
    differing = sorted(key for key in near if _plain(near[key]) != _plain(far.get(key)) and key not in VOLATILE)
    return {key: _differs(near[key], far.get(key)) for key in differing}


def _differs(near: Any, far: Any) -> Any:
    if isinstance(near, list) and isinstance(far, list):
        one, other = ([json.dumps(_plain(x), sort_keys=True) for x in part] for part in (near, far))
        return {"near": [x for x in one if x not in other][:3], "far": [x for x in other if x not in one][:3]}
    return {"near": near, "far": far}


def test_nothing_is_left_on_a_host_that_was_read(harbor: Harbor, tmp_path: Path) -> None:
    host = harbor.hosts["quay"]
    begun = tmp_path / "begun"
    begun.touch()
    time.sleep(1.1)
    assert harbor.call("roster", "--from", "ssh://root@quay").returncode in (0, 1)
    # What the host has written since, on its own layer of the disk: nothing but that somebody logged in.
    look = subprocess.run(
        ["find", host.written, "-newer", begun, "-type", "f"], capture_output=True, text=True, check=True
    )
    own = [
        path
        for path in look.stdout.split()
        if not path.endswith(("wtmp", "btmp", "lastlog")) and "/var/log/" not in path
    ]
    assert own == []
    assert host.run("pgrep -cf systemd-stdio-bridg[e]", check=False).stdout.strip() == "0"


def test_a_snapshot_goes_through_a_pipe(harbor: Harbor) -> None:
    written = subprocess.run(
        harbor.command("capture", "--from", "ssh://office", "--out", "-", "--compress"),
        env=harbor.env(),
        capture_output=True,
        check=True,
    )
    done = harbor.call("why", "timetable", "--from", "-", stdin=written.stdout)
    assert done.returncode == 0 and "timetable.service on office" in done.stdout, done.stderr


def test_a_reading_is_kept_in_a_folder(harbor: Harbor, tmp_path: Path) -> None:
    folder = tmp_path / "kept"
    done = harbor.call("capture", "--from", str(harbor.hosts_file(NEEDS)), "--out", str(folder), "--compress")
    assert done.returncode == 0, done.stderr
    assert sorted(path.name for path in folder.iterdir()) == ["office.json.gz", "quay.json.gz"]
    assert {path.stat().st_mode & 0o777 for path in folder.iterdir()} == {0o600}
    again = harbor.call("why", "kiosk", "--from", str(folder))
    assert again.returncode == 0, again.stderr


# What goes wrong on the way.


def test_readings_of_hosts_are_kept_surveyed_and_compared(harbor: Harbor, tmp_path: Path) -> None:
    harbor.hosts_file("[hosts.mole]\nat = 'ssh://root@10.77.0.99'\n")
    hosts, store = str(harbor.home / "hosts.toml"), str(tmp_path / "readings")
    kept = harbor.call("capture", "--from", hosts, "--keep", store)
    assert kept.returncode == 3 and "1 not read" in kept.stdout, kept.stderr
    harbor.hosts["office"].run("systemctl disable -q timetable")
    try:
        harbor.call("capture", "--from", hosts, "--keep", store)
        found = json.loads(harbor.call("drift", "office", "--from", store, "--json").stdout)["differences"]
        assert (found[0]["service"], found[0]["about"]) == ("timetable.service", "startup type"), found
    finally:
        harbor.hosts["office"].run("systemctl enable -q timetable")
    told = json.loads(harbor.call("survey", "--from", store, "--json").stdout)
    assert {one["host"]: one["stands"] for one in told["hosts"]}["mole"] == "not read"
    assert json.loads(harbor.call("survey", "--from", hosts, "--json").stdout)["not_read"] == 1


def test_a_key_that_is_not_known_is_refused_with_the_line_to_type(harbor: Harbor) -> None:
    harbor.know("office")
    try:
        done = harbor.call("roster", "--from", f"ssh://root@{harbor.address('office')}")
        assert done.returncode == 3
        assert f"ssh root@{harbor.address('office')}" in done.stderr and "is not known here" in done.stderr
    finally:
        harbor.know()


def test_a_key_that_changed_is_refused_and_spoils_no_other_host(harbor: Harbor) -> None:
    host = harbor.hosts["office"]
    new = "ssh-keygen -q -t ed25519 -N '' -f /etc/ssh/ssh_host_ed25519_key <<< y >/dev/null; systemctl restart ssh; sleep 0.3"
    host.run(new)
    try:
        done = harbor.call("why", "kiosk", "--from", str(harbor.hosts_file(NEEDS)))
        assert "office could not be read: it proves itself with another key" in " ".join(done.stderr.split()), (
            done.stderr
        )
        assert "kiosk.service on quay" in done.stdout
    finally:
        harbor.know()


def test_a_user_whose_key_nobody_takes(harbor: Harbor) -> None:
    done = harbor.call("roster", "--from", f"ssh://nobody@{harbor.address('office')}")
    assert done.returncode == 3 and "takes none of the keys" in done.stderr, done.stderr


def test_no_ssh_server(harbor: Harbor) -> None:
    done = harbor.call("roster", "--from", f"ssh://root@{harbor.address('office')}:2222")
    assert done.returncode == 3 and "nothing listens at port 2222" in done.stderr, done.stderr


def test_nobody_at_the_address(harbor: Harbor) -> None:
    begun = time.monotonic()
    done = harbor.call("roster", "--from", "ssh://root@10.77.0.99", "--within", "20s")
    assert done.returncode == 3 and time.monotonic() - begun < 60, done.stderr


def test_a_host_that_hangs_is_given_up_in_time_and_spoils_no_other(harbor: Harbor) -> None:
    office = harbor.hosts["office"]
    # Somebody takes calls there, and never says a word.
    mute = "import socket,time; desk = socket.socket(); desk.bind(('0.0.0.0', 22)); desk.listen(); time.sleep(600)"
    office.run(f'systemctl stop ssh; systemd-run -q --unit=mute /usr/bin/python3 -c "{mute}"; sleep 0.7')
    try:
        begun = time.monotonic()
        done = harbor.call("why", "kiosk", "--from", str(harbor.hosts_file(NEEDS)), "--within", "50s")
        assert time.monotonic() - begun < 120
        assert "office could not be read" in done.stderr and "kiosk.service on quay" in done.stdout, done.stderr
    finally:
        gone = "for i in $(seq 50); do [ $(systemctl show -P LoadState mute) = not-found ] && break; sleep 0.1; done"
        office.run(
            f"systemctl stop mute; systemctl reset-failed mute; {gone}; systemctl start ssh; sleep 0.3", check=False
        )


def test_a_connection_that_is_cut_in_the_middle_is_said(harbor: Harbor) -> None:
    office = harbor.hosts["office"]
    reading = subprocess.Popen(
        harbor.command("why", "kiosk", "--from", str(harbor.hosts_file(NEEDS))), env=harbor.env(), stdout=subprocess.PIPE,
        stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    for _ in range(200):
        if office.run("pgrep -f systemd-stdio-bridge", check=False).stdout:
            break
        time.sleep(0.02)
    office.run("pkill -9 -f 'sshd: root'", check=False)
    out, err = reading.communicate(timeout=60)
    assert "office could not be read" in err or reading.returncode in (0, 1), err
    assert "fault of the program" not in err and "Traceback" not in err
    assert "kiosk.service on quay" in out, err


def _interrupted_while_it_waits(harbor: Harbor) -> tuple[str, str]:
    """What a call over two hosts prints, and says beside it, that gets a Ctrl-C as soon as the first of them is read."""
    reading = subprocess.Popen(
        harbor.command("why", "kiosk", "--from", str(harbor.hosts_file(NEEDS))), env=harbor.env(), stdout=subprocess.PIPE,
        stderr=subprocess.PIPE, text=True, start_new_session=True,
    )  # fmt: skip
    said = ""
    assert reading.stderr is not None
    while "1 host read" not in said and (line := reading.stderr.readline()):
        said += line
    with contextlib.suppress(ProcessLookupError):
        os.killpg(reading.pid, signal.SIGINT)
    out, err = reading.communicate(timeout=60)
    return out, said + err


def test_ctrl_c_gives_what_is_there_by_then(harbor: Harbor) -> None:
    office = harbor.hosts["office"]
    # Dropped, not cut: of an address where nobody is the kernel says so after three seconds, and there is no waiting.
    office.run(
        "nft add table inet hush; nft 'add chain inet hush in { type filter hook input priority 0; }'; nft add rule inet hush in tcp dport 22 drop"
    )
    try:
        # On a machine that is very busy the other one may have been given up by itself before; where that was the moment before,
        # what is interrupted is the rest of the call.
        for _ in range(4):
            out, told = _interrupted_while_it_waits(harbor)
            if "interrupted;" not in told:
                break
        assert "kiosk.service on quay" in out, told
        assert "not waited for" in told or "no answer within" in told
    finally:
        office.run("nft delete table inet hush")


def test_a_call_that_is_dropped_on_the_way_is_found_where_nobody_declared_a_firewall(harbor: Harbor) -> None:
    fault, hosts = FAULTS["firewall in between"], str(harbor.hosts_file(NEEDS))
    found = _document(harbor, "ports", "timetable", "--probe", "--from", hosts)["between"][0]
    assert {probe["came_to"] for probe in found["ports"][0]["probes"]} == {"answered"} and found["well"]
    _make(harbor, fault)
    try:
        found = _document(harbor, "why", "kiosk", "--probe", "--from", hosts)["causes"][0]
        assert (found["cause"], found["host"], found["service"]) == ("path-blocked", "office", "timetable.service")
        assert any("a call from quay" in one["fact"] for one in found["evidence"])
        found = _document(harbor, "ports", "timetable", "--probe", "--from", hosts)["between"][0]
        assert {probe["came_to"] for probe in found["ports"][0]["probes"]} == {"no answer"} and not found["well"]
    finally:
        _undo(harbor, fault)


# Mends that are cut off.


def test_a_second_mend_waits_for_the_first(harbor: Harbor) -> None:
    office = harbor.hosts["office"]
    mark = '{"format": "hollow-chain/mark", "version": 1, "mend": "20260304-050607", "chair": "another, user 0", "at": "2026-03-04T05:06:07Z"}'
    office.run(f"mkdir -p /var/lib/hollow-chain/mends; echo '{mark}' > /var/lib/hollow-chain/mends/under-way.mark")
    _make(harbor, FAULTS["stopped"])
    try:
        done = harbor.call("mend", "kiosk", "--apply", "--yes", "--from", str(harbor.hosts_file(NEEDS)))
        assert done.returncode == 2 and "20260304-050607 from another, user 0 is under way on office" in done.stderr, (
            done.stderr
        )
        assert office.run("systemctl is-active timetable", check=False).stdout.strip() == "inactive"
    finally:
        office.run("rm /var/lib/hollow-chain/mends/under-way.mark")
        _undo(harbor, FAULTS["stopped"])


def test_a_mend_whose_connection_is_cut_is_resumed(harbor: Harbor) -> None:
    office, hosts = harbor.hosts["office"], str(harbor.hosts_file(NEEDS))
    _make(harbor, FAULTS["masked"])
    try:
        begun = subprocess.Popen(
            harbor.command("mend", "kiosk", "--apply", "--yes", "--watch", "1", "--from", hosts), env=harbor.env(), stdout=subprocess.PIPE,
            stderr=subprocess.PIPE, text=True,
        )  # fmt: skip
        for _ in range(600):
            if office.run("test -e /var/lib/hollow-chain/mends/under-way.mark", check=False).returncode == 0:
                break
            time.sleep(0.1)
        begun.kill()
        begun.wait()
        done = harbor.call("mend", "kiosk", "--apply", "--yes", "--from", hosts)
        assert done.returncode == 2 and "was interrupted" in done.stderr, done.stderr
        done = harbor.call("mend", "--resume", "--watch", "1", "--from", hosts)
        assert done.returncode == 0, done.stdout + done.stderr
        assert harbor.hosts["quay"].run("systemctl is-active kiosk").stdout.strip() == "active"
        done = harbor.call("mend", "--undo", "--yes", "--from", hosts)
        assert done.returncode == 0, done.stdout + done.stderr
        assert office.run("systemctl is-enabled timetable", check=False).stdout.strip() == "masked"
    finally:
        _undo(harbor, FAULTS["masked"])


def test_a_mend_goes_to_no_other_machine_of_that_name(harbor: Harbor) -> None:
    """Between mend and undo another machine takes the address of the first."""
    office, hosts = harbor.hosts["office"], str(harbor.hosts_file(NEEDS))
    _make(harbor, FAULTS["stopped"])
    was = office.run("cat /etc/machine-id").stdout.strip()
    try:
        done = harbor.call("mend", "kiosk", "--apply", "--yes", "--watch", "1", "--from", hosts)
        assert done.returncode == 0, done.stdout + done.stderr
        office.run("echo 00112233445566778899aabbccddeeff > /etc/machine-id")
        done = harbor.call("mend", "--undo", "--yes", "--from", hosts)
        assert done.returncode == 2 and "another machine" in done.stderr, done.stdout + done.stderr
        assert office.run("systemctl is-active timetable").stdout.strip() == "active"
        office.run(f"echo {was} > /etc/machine-id")
        assert harbor.call("mend", "--undo", "--yes", "--from", hosts).returncode == 0
    finally:
        office.run(f"echo {was} > /etc/machine-id")
        _undo(harbor, FAULTS["stopped"])


def test_a_slow_link_is_waited_for_and_given_up_where_that_takes_too_long(harbor: Harbor) -> None:
    fault = FAULTS["masked"]
    _make(harbor, fault)
    try:
        with harbor.slow_link("office", 0.15) as way:
            hosts = harbor.hosts_file(f'[hosts.office]\nat = "{way}"\n{NEEDS}', but=("office",))
            done = harbor.call("why", "kiosk", "--from", str(hosts), "--json", "--within", "4min")
            found = json.loads(done.stdout)["causes"][0]
            right = (fault.cause, fault.host, fault.service)
            assert (found["cause"], found["host"], found["service"]) == right, done.stderr
        # The host that is near has many times what it takes, as the machine may be busy; the far one never has enough.
        with harbor.slow_link("office", 1.0):
            done = harbor.call("why", "kiosk", "--from", str(hosts), "--within", "50s")
            said = " ".join(done.stderr.split())
            assert "office could not be read: not read within 50 s" in said or "no answer within" in said, done.stderr
            assert "kiosk.service on quay" in done.stdout
    finally:
        _undo(harbor, fault)
