"""Looking at files, accounts, logs and settings of this machine; in a temporary folder."""

from __future__ import annotations

import fcntl
import os
import subprocess
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from hollow_chain.causes import meanings
from hollow_chain.facts.host import Event
from hollow_chain.facts.runs import LastRun
from hollow_chain.facts.service import Condition, Program, Service
from hollow_chain.reach.here import here
from hollow_chain.sources import endpoint_settings, looks, settings
from hollow_chain.sources.accounts import accounts
from hollow_chain.sources.evidence_files import EvidenceReader
from hollow_chain.sources.files import write_atomically
from hollow_chain.sources.logs import own_records
from hollow_chain.sources.sockets import listeners
from hollow_chain.sources.systemd.conditions import holds
from hollow_chain.trouble import Trouble
from hollow_chain.wording import lines
from hollow_chain.wording.complaints import config_errors
from hollow_chain.wording.last_words import telling

NOW = datetime.now(UTC)


def test_a_look_tells_what_is_there_and_how_far_a_path_leads(tmp_path: Path) -> None:
    program = tmp_path / "tool"
    program.write_text("#!/usr/bin/none -x\n")
    program.chmod(0o750)
    looker = looks.Looker(here())
    found = looker.look(str(program), is_program=True)
    assert found is not None
    assert (found.kind, found.mode, found.executable, found.format) == ("file", "0750", True, "script")
    assert (found.interpreter, found.interpreter_exists) == ("/usr/bin/none", False)
    absent = looker.look(str(tmp_path / "a" / "b" / "c"))
    assert absent is not None
    assert not absent.exists
    assert looker.seen[str(tmp_path)].exists
    assert not looker.seen[str(tmp_path / "a")].exists
    assert looker.look("relative/path") is None
    assert looker.look("/x\0y") is None


def test_absent_files_of_one_instance_list_those_of_the_others(tmp_path: Path) -> None:
    for name in ("north", "south"):
        (tmp_path / f"berth-{name}.conf").write_text("")
    found = looks.Looker(here()).look(str(tmp_path / "berth-east.conf"), instance="east")
    assert found is not None
    assert found.siblings == [str(tmp_path / f"berth-{name}.conf") for name in ("north", "south")]


@pytest.mark.parametrize(
    ("head", "what"),
    [
        (b"", "empty"),
        (b"\x7fELF\x02\x01" + bytes(12) + b"\x3e\x00", "elf x86_64"),
        (b"\x7fELF\x02\x01" + bytes(12) + b"\xb7\x00", "elf aarch64"),
        (b"\x7fELF\x01\x02" + bytes(12) + b"\x00\x08", "elf mips"),
        (b"MZ\x90\x00", "pe"),
        (b"#! /bin/sh -e\n", "script"),
        (b"echo hello\n", "unknown"),
        (b"\x7fELF", "unknown"),
    ],
)
def test_first_bytes_tell_the_format(head: bytes, what: str) -> None:
    assert looks.program_format(head)[0] == what


def test_a_lock_is_held_or_left_over(tmp_path: Path) -> None:
    left = tmp_path / "left.pid"
    left.write_text("999999999\n")
    own = tmp_path / "own.pid"
    own.write_text(str(os.getpid()))
    held = tmp_path / "held.lock"
    held.write_text("")
    looker = looks.Looker(here())
    with held.open("w") as file:
        fcntl.flock(file, fcntl.LOCK_EX)
        for path in (left, own, held):
            seen = looker.look(str(path))
            assert seen is not None
            looker.add_lock(seen)
    assert (looker.seen[str(left)].names_process, looker.seen[str(left)].process_runs) == (999999999, False)
    assert looker.seen[str(own)].process_runs is True
    if Path("/proc/locks").read_text().strip():
        assert looker.seen[str(held)].held_by == os.getpid()


def test_conditions_are_tried_by_looking(tmp_path: Path) -> None:
    (tmp_path / "full").write_text("x")
    (tmp_path / "empty").write_text("")
    looker = looks.Looker(here())
    expected = {
        ("ConditionPathExists", "full"): True, ("ConditionPathExists", "none"): False, ("AssertPathIsDirectory", ""): True,
        ("ConditionPathIsDirectory", "full"): False, ("ConditionFileNotEmpty", "empty"): False,
        ("ConditionFileIsExecutable", "full"): False, ("ConditionHost", "full"): None,
    }  # fmt: skip
    for (kind, name), met in expected.items():
        file = looker.look(str(tmp_path / name).rstrip("/"))
        assert file is not None
        assert holds(Condition(kind=kind).kind, file) is met


def test_accounts_are_there_or_not() -> None:
    found = {
        (a.kind, a.name): a.exists
        for a in accounts(["root", "no-such-mate", "12345"], ["root", "no-such-crew"], here())
    }
    assert found == {
        ("user", "root"): True, ("user", "no-such-mate"): False, ("user", "12345"): True,
        ("group", "root"): True, ("group", "no-such-crew"): False,
    }  # fmt: skip


def test_endpoints_of_arguments_and_configurations() -> None:
    found = endpoint_settings.claims_of_arguments(
        ["/x", "--port", "8080", "--listen=127.0.0.1:9090", "-p", "11211", "--support", "7", "--db", "5432"]
    )
    assert [(c.address, c.port) for c in found] == [("", 8080), ("127.0.0.1", 9090), ("", 11211)]
    text = "# port 1\nlisten 10.0.0.1:8081;\nport = 5432\n  bind *:6000\nhttp.port: 9200\n-p 4000\nworkers 4096\n"
    claims = endpoint_settings.claims_of_text(text, "/etc/x")
    assert {c.port for c in claims} == {8081, 5432, 6000, 9200, 4000}
    assert claims[0].port in (8081, 6000)
    assert settings.log_paths_of_text("error_log /var/log/x/error.log warn;\nlogfile = '/y/z'\n") == [
        "/var/log/x/error.log",
        "/y/z",
    ]
    assert [settings.line_of("one\n two \n", number) for number in (0, 2, 3)] == ["", "two", ""]
    own = "pid-file = /run/x/x.pid\nlock_path /var/lock/x;\nunixsocket '/run/x.sock'\ninclude /etc/x/y\n"
    assert settings.own_paths_of_text(own) == ["/run/x/x.pid", "/var/lock/x", "/run/x.sock"]


def test_own_log_files_are_read_from_their_end_since_the_last_start_and_masked(tmp_path: Path) -> None:
    started = NOW - timedelta(seconds=30)
    old = (started - timedelta(days=1)).astimezone().strftime("%Y-%m-%d %H:%M:%S")
    new = (started + timedelta(seconds=1)).astimezone().strftime("%Y-%m-%d %H:%M:%S")
    log = tmp_path / "own.log"
    log.write_text(f"{old} ERROR old trouble\n" * 2000 + f"{new} ERROR cannot bind 0.0.0.0:80 password=kraken\n")
    service = Service(name="a.service", program=Program(path="/a"), last=LastRun(started_at=started))
    with EvidenceReader(here()) as reader:
        found = own_records(service, [str(log)], reader)
    assert [event.text.split(" ", 2)[2] for event in found] == ["ERROR cannot bind 0.0.0.0:80 password=[masked]"]
    assert found[0].level == "error"
    with EvidenceReader(here()) as reader:
        os.utime(log, (1, 1))
        assert own_records(service, [str(log)], reader) == []
        service.last = None
        assert own_records(service, [str(log)], reader) == []


def said(*texts: str) -> list[Event]:
    return [Event(at=NOW, text=text, service="a", source="journal (a)") for text in texts]


def test_lines_are_read_by_form() -> None:
    in_use = [(a, p) for _, a, p in lines.endpoint_in_use(said("bind: 0.0.0.0:80 failed (98: Address already in use)"))]
    assert in_use == [("0.0.0.0", 80)]
    below = lines.endpoint_in_use(
        said('could not bind "127.0.0.1": Address already in use', "is another running on port 5432?")
    )
    assert [(p) for _, _, p in below] == [5432]
    missing = [path for _, path in lines.missing_paths(said("open '/etc/x/y.conf': No such file or directory"))]
    assert missing == ["/etc/x/y.conf"]
    split = [path for _, path in lines.missing_paths(said("reading /etc/x/z.conf", "No such file or directory"))]
    assert split == ["/etc/x/z.conf"]
    for text, place in {
        "syntax error in /etc/a.conf:12": ("/etc/a.conf", 12),
        "/etc/a.conf, line 7: unknown option": ("/etc/a.conf", 7),
        "Syntax error on line 3 of /etc/a.conf:": ("/etc/a.conf", 3),
        "[ALERT] config : parsing [/etc/a.cfg:36] : unknown keyword 'x'": ("/etc/a.cfg", 36),
    }.items():
        (found,) = config_errors(said(text))
        assert (found.path, found.line) == place
    assert config_errors(said("ready to accept connections on /run/x.sock")) == []
    assert lines.saying(said("write /x: no space left on device"), "full")
    assert lines.saying(said("dial tcp 10.0.0.1:5432: connect: connection refused"), "unreached")
    assert [
        lib for _, lib in lines.missing_libraries(said("error while loading shared libraries: libx.so.1: cannot open"))
    ] == ["libx.so.1"]
    assert meanings.read("open failed: Permission denied")[0].what == "EACCES (13)"
    assert [user for _, user in lines.unknown_user(said("unknown user 'mate'"))] == ["mate"]


def test_the_telling_lines_are_the_programs_own_errors() -> None:
    events = [
        Event(at=NOW, text="Started a.", source="journal (systemd)", by_manager=True),
        Event(at=NOW, text="hello", source="journal (a)"),
        Event(at=NOW, text="it broke", source="journal (a)", level="error"),
        Event(at=NOW, text="Failed to start a.", source="journal (systemd)", by_manager=True, level="error"),
    ]
    assert [event.text for event in telling(events)] == ["it broke"]


def test_sockets_name_their_process() -> None:
    code = "import socket,sys,time; s=socket.socket(); s.bind(('127.0.0.1',0)); s.listen(); print(s.getsockname()[1],flush=True); time.sleep(60)"
    with subprocess.Popen(["python3", "-c", code], stdout=subprocess.PIPE, text=True) as other:
        assert other.stdout is not None
        port = int(other.stdout.readline())
        found, _ = listeners(here(), lambda process: "")
        other.kill()
    (mine,) = [listener for listener in found if listener.port == port and listener.protocol == "tcp"]
    assert (mine.address, mine.process) == ("127.0.0.1", other.pid)
    assert "python" in mine.program


def test_a_file_is_written_whole_or_not_at_all(tmp_path: Path) -> None:
    path = tmp_path / "x.json"
    write_atomically(path, b"one")
    write_atomically(path, b"two")
    assert path.read_bytes() == b"two"
    assert path.stat().st_mode & 0o777 == 0o600
    with pytest.raises(Trouble, match="cannot write"):
        write_atomically(tmp_path / "none" / "x.json", b"three")
    assert [p.name for p in tmp_path.iterdir()] == ["x.json"]


def test_a_link_stays_a_link_and_a_device_a_device(tmp_path: Path) -> None:
    (tmp_path / "real.json").write_text("old")
    (tmp_path / "link.json").symlink_to("real.json")
    write_atomically(tmp_path / "link.json", b"new")
    assert (tmp_path / "link.json").is_symlink()
    assert (tmp_path / "real.json").read_bytes() == b"new"
    os.mkfifo(tmp_path / "pipe")
    reader = os.open(tmp_path / "pipe", os.O_RDONLY | os.O_NONBLOCK)
    write_atomically(tmp_path / "pipe", b"piped")
    assert os.read(reader, 10) == b"piped"
    os.close(reader)
    assert (tmp_path / "pipe").is_fifo()
