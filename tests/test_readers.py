"""The readers of a host of the systemd family, on hosts that are made of plain things: the whole pass, in milliseconds."""

from __future__ import annotations

import errno
import os
from pathlib import Path
from typing import Any

import pytest

from hollow_chain.causes import Facts
from hollow_chain.chain import Graph
from hollow_chain.facts.host import OF_RECORDS, OF_SOCKETS, Host, snapshot
from hollow_chain.families.messages import FAILED, STARTED, STARTING
from hollow_chain.reach.file_locks import FileLocks
from hollow_chain.reach.interfaces import Socket
from hollow_chain.trouble import Trouble
from hollow_chain.verdict import diagnose
from tests.made_host import BOOT, NOW, MadeHost

ELF = b"\x7fELF\x02\x01\x01" + bytes(11) + b"\x3e\x00" + bytes(40)
"""The head of a program for this kind of machine (elf(5), ``e_machine``)."""


@pytest.fixture()
def made(tmp_path: Path) -> MadeHost:
    """A host of which nothing is known yet."""
    return MadeHost(tmp_path)


def first(host: Host, name: str) -> tuple[str, str, str]:
    """The first cause for a service: its name, its place, what it says."""
    facts = Facts(Graph(snapshot([host])))
    cause = diagnose(facts, facts.graph.node(host.name, name)).causes[0]
    return cause.finding.cause, cause.finding.service, cause.finding.says


def test_what_the_host_itself_is(made: MadeHost) -> None:
    made.unit("desk.service", ActiveState="active", SubState="running")
    host = made.read()
    assert (host.name, host.system, host.architecture, host.addresses) == (
        "quay",
        "systemd 252",
        "x86_64",
        ["10.0.0.7"],
    )
    assert host.read_at == NOW and host.boot_at is not None and (NOW - host.boot_at).total_seconds() == 3600
    assert host.limits is not None and host.limits.unprivileged_port == 1024
    assert [(f.mounted_on, f.free) for f in host.filesystems] == [("/", 1 << 29)] and not host.unread


def test_a_host_that_systemd_does_not_run_is_told_in_one_line(made: MadeHost, tmp_path: Path) -> None:
    (tmp_path / "run/systemd/system").rmdir()
    with pytest.raises(Trouble, match="not run by systemd"):
        made.read()


def test_what_could_not_be_read_is_said(made: MadeHost) -> None:
    made.failed("desk.service")
    made.refuses["odd.service"] = "no rights"
    made.listens = OSError(errno.EACCES, "not permitted")
    made.journal_is = "libsystemd is not there"
    host = made.read()
    assert {item.part for item in host.unread} == {"", OF_SOCKETS, OF_RECORDS} and not host.sockets_read
    assert [item.why for item in host.unread if item.what == "odd.service"] == ["no rights"]


def test_sockets_of_others_are_told_by_process_and_unit_and_those_of_the_manager_by_their_unit(made: MadeHost) -> None:
    made.unit("desk.service", ActiveState="active", SubState="running", MainPID=44)
    made.unit(
        "desk.socket",
        "[Socket]\nListenStream=8443\nBindIPv6Only=ipv6-only\n",
        ActiveState="active",
        SubState="listening",
    )
    made.runs_now = {44: ("/usr/bin/desk", "desk.service"), 1: ("/usr/lib/systemd/systemd", "init.scope")}
    made.listens = [Socket(8080, "0.0.0.0", "tcp", 44), Socket(8443, "::", "tcp6", 1), Socket(53, "::", "udp6", 0)]
    host = made.read(with_claims=True)
    assert [(s.port, s.program, s.service) for s in host.listeners] == [
        (8080, "/usr/bin/desk", "desk.service"), (8443, "/usr/lib/systemd/systemd", "desk.socket"), (53, "", "")
    ]  # fmt: skip
    assert [item.what for item in host.unread] == ["the processes behind 1 listening sockets"]
    (claim,) = next(s for s in host.services if s.name == "desk.socket").claims
    assert (claim.port, claim.v6_only) == (8443, True)


def test_of_two_socket_units_that_name_one_port_the_one_that_is_up_has_it(made: MadeHost) -> None:
    for name, state in (("ashore.socket", "inactive"), ("berth.socket", "active"), ("crane.socket", "failed")):
        made.unit(
            name,
            "[Socket]\nListenStream=8443\n",
            ActiveState=state,
            SubState="listening" if state == "active" else "dead",
        )
    made.runs_now = {1: ("/usr/lib/systemd/systemd", "init.scope")}
    made.listens = [Socket(8443, "::", "tcp6", 1)]
    assert [s.service for s in made.read(with_claims=True).listeners] == ["berth.socket"]


def test_only_what_failed_has_its_own_words_read(made: MadeHost) -> None:
    made.failed("desk.service", command=("/usr/bin/desk", "--config", "/etc/desk/desk.conf"))
    made.unit(
        "well.service",
        ActiveState="active",
        SubState="running",
        ExecStart=[["/usr/bin/well", ["/usr/bin/well"], False]],
    )
    made.put("/usr/bin/desk", ELF, 0o755)
    made.put("/etc/desk/desk.conf", "listen = 127.0.0.1:8080\nlog_file = /var/log/desk/own.log\ncolour = blue\n")
    made.put(
        "/var/log/desk/own.log", "2026-03-04 05:59:01 error: /etc/desk/desk.conf:3: unknown key 'colour'\n", age=30
    )
    made.put("/var/log/well/own.log", "error: nothing to see\n", age=30)
    made.says("desk.service", "desk: giving up")
    host = made.read()
    desk = next(s for s in host.services if s.name == "desk.service")
    assert [(c.port, c.address) for c in desk.claims] == [(8080, "127.0.0.1")]
    own = {event.source: event for event in host.events if event.service == "desk.service"}
    assert set(own) == {"journal (desk)", "log file /var/log/desk/own.log", "configuration /etc/desk/desk.conf"}
    assert (own["configuration /etc/desk/desk.conf"].line, own["configuration /etc/desk/desk.conf"].text) == (
        3,
        "colour = blue",
    )
    assert not any("well" in event.source for event in host.events)
    assert first(host, "desk.service")[:2] == ("config-rejected", "desk.service")


def test_a_path_that_the_log_calls_absent_is_looked_at(made: MadeHost) -> None:
    made.put("/usr/bin/desk", b"#!/bin/sh\n", 0o755)
    made.put("/bin/sh", ELF, 0o755)
    made.failed("desk.service", command=("/usr/bin/desk",))
    made.says("desk.service", "cannot open /srv/desk/plan: No such file or directory")
    host = made.read()
    files = {file.path: file for file in host.files}
    assert (
        not files["/srv/desk/plan"].exists
        and files["/usr/bin/desk"].format == "script"
        and files["/usr/bin/desk"].interpreter_exists
    )
    assert first(host, "desk.service")[:2] == ("path-missing", "desk.service")
    made.put("/srv/desk/plan")
    assert first(made.read(), "desk.service")[0] != "path-missing"


def test_who_holds_a_lock_and_which_process_a_line_names(made: MadeHost) -> None:
    made.failed("desk.service")
    made.put("/run/desk.lock", "99\n")
    about = Path(made.files.at("/run/desk.lock")).stat()
    made.held = FileLocks(
        f"1: FLOCK  ADVISORY  WRITE 77 {os.major(about.st_dev):02x}:{os.minor(about.st_dev):02x}:{about.st_ino} 0 EOF"
    )
    made.runs_now = {77: ("/usr/bin/other", "other.service")}
    made.says("desk.service", "cannot lock /run/desk.lock: Resource temporarily unavailable, held by process 77")
    host = made.read()
    lock = next(file for file in host.files if file.path == "/run/desk.lock")
    assert (lock.held_by, lock.names_process, lock.process_runs) == (77, 99, False)
    assert [(p.process, p.service) for p in host.processes] == [(77, "other.service")]
    assert first(host, "desk.service")[0] == "lock-held"


def test_a_device_that_is_busy_is_found_with_whoever_has_it_open(made: MadeHost) -> None:
    made.failed("desk.service")
    made.put("/dev/gauge0")
    made.opened = {78: {"/dev/gauge0"}}
    made.runs_now = {78: ("/usr/bin/other", "other.service")}
    made.says("desk.service", "open /dev/gauge0: Device or resource busy")
    assert next(file for file in made.read().files if file.path == "/dev/gauge0").held_by == 78


def test_accounts_that_units_and_records_name(made: MadeHost) -> None:
    made.failed("desk.service", User="mate", Group="mate")
    made.put("/etc/shadow", "mate:!locked-word:1:0:9:7::20000:\n", 0o600)
    made.says("desk.service", "unknown user 'deckhand'")
    accounts = {(a.kind, a.name): a for a in made.read().accounts}
    mate = accounts["user", "mate"]
    assert mate.exists and mate.locked and mate.expires_at is not None and not accounts["user", "deckhand"].exists
    assert accounts["group", "mate"].exists


def test_conditions_that_the_manager_has_not_tested_are_tried(made: MadeHost) -> None:
    exists = "ConditionPathExists"
    tried = [[exists, False, False, "/etc/desk.on", 0], [exists, False, True, "/etc/desk.off", 0]]
    made.unit("desk.service", Conditions=[*tried, ["ConditionHost", False, False, "quay", 0]])
    made.put("/etc/desk.off")
    desk = next(s for s in made.read().services if s.name == "desk.service")
    assert [c.outcome for c in desk.conditions] == ["unmet", "unmet", "untested"]


def test_units_that_nothing_has_loaded_are_read_from_their_files(made: MadeHost) -> None:
    made.unit("desk.service", ActiveState="active", SubState="running")
    night = "[Unit]\nDescription=Night\n[Service]\nExecStart=/usr/bin/night\n[Install]\nWantedBy=multi-user.target\n"
    made.put("/lib/systemd/system/night.service", night)
    made.put("/lib/systemd/system/night.timer", "[Timer]\nOnCalendar=daily\n")
    made.put("/lib/systemd/system/berth@.service", "[Service]\nExecStart=/usr/bin/berth %i\n")
    Path(made.files.at("/etc/systemd/system/gone.service")).symlink_to("/dev/null")
    services = {service.name: service for service in made.read().services}
    one = services["night.service"]
    assert (one.state, one.startup, one.detail) == ("stopped", "event", "not loaded")
    assert [t.name for t in one.triggers] == ["night.timer"] and services["berth@.service"].template
    gone = services["gone.service"]
    assert gone.startup == "disabled" and gone.definition is not None and gone.definition.load == "masked"


def test_what_was_changed_on_disk_since_it_was_loaded(made: MadeHost) -> None:
    made.failed("desk.service", command=("/usr/bin/old",), NeedDaemonReload=True, MainPID=0)
    made.put(
        "/etc/systemd/system/desk.service",
        "[Service]\nExecStart=/usr/bin/new --token kraken-7f3a\nTimeoutStartSec=2min\n",
        age=100,
    )
    wants = Path(made.files.at("/etc/systemd/system/multi-user.target.wants"))
    wants.mkdir()
    (wants / "desk.service").symlink_to("/etc/systemd/system/desk.service")
    desk = next(s for s in made.read().services if s.name == "desk.service")
    assert (
        desk.definition is not None
        and desk.definition.enabled_at is not None
        and desk.definition.changed_at is not None
    )
    assert (NOW - desk.definition.changed_at).total_seconds() == 100
    assert (
        desk.definition.loaded == {"ExecStart": "/usr/bin/old"} and "kraken" not in desk.definition.on_disk["ExecStart"]
    )
    assert desk.limits is not None and desk.limits.start_typed == "2min"


def test_starts_and_boots_on_record(made: MadeHost) -> None:
    made.failed("desk.service")
    manager = {"_PID": "1", "_UID": "0", "UNIT": "desk.service"}
    for boot, began in ((BOOT, 3600), ("f" * 32, 90_000)):
        made.records.append((began, {"_BOOT_ID": boot}))
        made.records.append((began - 10, manager | {"_BOOT_ID": boot, "MESSAGE_ID": STARTING}))
        made.records.append(
            (began - 14, manager | {"_BOOT_ID": boot, "MESSAGE_ID": STARTED if began > 3600 else FAILED})
        )
    host = made.read()
    desk = next(s for s in host.services if s.name == "desk.service")
    assert [(s.outcome, s.seconds, s.at_boot) for s in desk.starts] == [("up", 4.0, True), ("failed", 4.0, True)]
    assert [boot.failed for boot in host.boots] == [[], ["desk.service"]]


def test_records_of_others_push_nothing_out_of_sight_and_are_not_believed(made: MadeHost) -> None:
    made.failed("desk.service")
    made.says("desk.service", "disk is full", before=59.6)
    for number in range(300):
        made.records.append(
            (
                59 - number / 1000,
                {"MESSAGE": "all is well", "UNIT": "desk.service", "_UID": "502", "_PID": "9", "_BOOT_ID": BOOT},
            )
        )
    assert [event.text for event in made.read().events] == ["disk is full"]


def test_why_a_reboot_is_due(made: MadeHost) -> None:
    made.unit("desk.service", ActiveState="active", SubState="running")
    made.put("/lib/modules/6.1.0-made/x")
    assert made.read().reboot_due == ""
    made.put("/run/reboot-required")
    made.put("/run/reboot-required.pkgs", "keel\nhull\nkeel\n")
    due = made.read().reboot_due
    assert "keel, hull" in due if os.geteuid() == 0 else "update" in due


def test_which_package_brought_what_is_named(made: MadeHost) -> None:
    made.put("/lib/systemd/system/desk.service", "[Service]\nExecStart=/usr/bin/desk\n")
    made.put("/var/lib/dpkg/info/ferry-desk:amd64.list", "/.\n/usr/bin/desk\n/usr/lib/systemd/system/desk.service\n")
    made.failed("desk.service", command=("/usr/bin/desk",), FragmentPath="/lib/systemd/system/desk.service")
    files = {file.path: file for file in made.read(with_packages=True).files}
    assert files["/usr/bin/desk"].package == files["/lib/systemd/system/desk.service"].package == "ferry-desk"
    assert not any(file.package for file in made.read().files)


def test_a_reader_beside_that_breaks_off_is_not_swallowed(made: MadeHost, monkeypatch: pytest.MonkeyPatch) -> None:
    def breaks(*_: Any) -> Any:
        raise RuntimeError("broken")

    monkeypatch.setattr(made, "interfaces", breaks)
    made.unit("desk.service")
    with pytest.raises(RuntimeError, match="broken"):
        made.read()


def test_hundreds_of_units_are_asked_for_in_one_conversation(made: MadeHost) -> None:
    for number in range(300):
        made.unit(f"berth-{number:03}.service", ActiveState="active", SubState="running")
    made.unit("idle.device", ActiveState="active", SubState="plugged")
    made.unit("named.device", ActiveState="active", SubState="plugged")
    made.units["berth-007.service"]["BindsTo"] = ["named.device"]
    host = made.read()
    assert len(host.services) == 301 and not any(s.name == "idle.device" for s in host.services)


def test_a_program_before_the_main_one_that_is_missing_is_known_without_a_word_in_the_journal(made: MadeHost) -> None:
    made.put("/usr/bin/desk", ELF, 0o755)
    step = ["/opt/desk/check", ["/opt/desk/check"], False, 0, 0, 0, 0, 99, 1, 203]
    made.failed("desk.service", command=("/usr/bin/desk",), ExecMainCode=0, ExecMainStatus=0, ExecStartPre=[step])
    host = made.read()
    last = next(s for s in host.services if s.name == "desk.service").last
    assert last is not None and (last.step, last.step_program, last.exit_status) == (
        "ExecStartPre",
        "/opt/desk/check",
        203,
    )
    cause, place, says = first(host, "desk.service")
    assert (cause, place) == ("program-missing", "desk.service") and "/opt/desk/check" in says


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can look into a folder that is closed")
def test_a_program_in_a_folder_that_keeps_its_account_out_is_known_without_a_word_in_the_journal(
    made: MadeHost,
) -> None:
    made.put("/srv/closed/bin/desk", ELF, 0o755)
    Path(made.files.at("/srv/closed")).chmod(0o700)
    made.failed("desk.service", status=203, command=("/srv/closed/bin/desk",), User="mate", Group="mate")
    cause, place, says = first(made.read(), "desk.service")
    assert (cause, place) == ("access-denied", "desk.service") and "/srv/closed belongs to root:root, mode 0700" in says
    Path(made.files.at("/srv/closed")).chmod(0o755)
    assert first(made.read(), "desk.service")[0] != "access-denied"


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can look into a folder that is closed")
def test_an_interpreter_behind_links_that_keeps_the_account_out_is_found(made: MadeHost) -> None:
    made.put("/opt/own/python3.11", ELF, 0o755)
    Path(made.files.at("/opt/own")).chmod(0o700)
    made.put("/srv/desk/bin/desk", "#!/srv/desk/bin/python\n", 0o755)
    Path(made.files.at("/srv/desk/bin/python")).symlink_to("python3")
    Path(made.files.at("/srv/desk/bin/python3")).symlink_to("/opt/own/python3.11")
    made.failed("desk.service", status=203, command=("/srv/desk/bin/desk",), User="mate", Group="mate")
    cause, place, says = first(made.read(), "desk.service")
    assert (cause, place) == ("access-denied", "desk.service") and "/opt/own belongs to root:root" in says
