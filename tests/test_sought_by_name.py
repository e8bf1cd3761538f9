"""Lines that tell of commands, programs and files that were sought by a name, word by word."""

from __future__ import annotations

from typing import cast

import pytest

from hollow_chain.facts.habits import beside, folders_of_programs
from hollow_chain.facts.host import Event, File
from hollow_chain.facts.service import Program, Service
from hollow_chain.sources.looking import look_at_words
from hollow_chain.sources.looks import Looker
from hollow_chain.wording import sought
from hollow_chain.wording.things import endpoints_of, relative_in
from tests.made_host import NOW


def _said(text: str) -> Event:
    return Event(at=NOW, text=text, service="a.service", source="journal (a)")


@pytest.mark.parametrize(
    ("text", "is_shells", "command"),
    [
        ("env: 'keel': No such file or directory", True, "keel"),
        ("env: 'keel': No such file or directory", False, ""),
        ("nice: \u2018keel\u2019: No such file or directory", True, "keel"),
        ("/opt/a/s: 2: keel: not found", False, "keel"),
        ("/opt/a/s: line 2: keel: command not found", False, "keel"),
        ('exec: "keel": executable file not found in $PATH', False, "keel"),
        ("Error: spawn keel ENOENT", False, "keel"),
        ("a: user keel: not found", False, ""),
        ("/opt/a/s: line 3: /opt/a/keel: Permission denied", True, ""),
        ("keel: error while loading shared libraries: libkeel.so: No such file or directory", True, ""),
    ],
)
def test_a_command_that_was_not_found(text: str, is_shells: bool, command: str) -> None:
    assert sought.command_missing(_said(text), [], 127 if is_shells else 1) == command


@pytest.mark.parametrize(
    ("text", "status", "path"),
    [
        ("/opt/a/s: 3: /opt/a/keel: Exec format error", 1, "/opt/a/keel"),
        ("/opt/a/s: 3: /opt/a/keel: Permission denied", 126, "/opt/a/keel"),
        ("/opt/a/s: 3: /opt/a/keel: Permission denied", 1, ""),
        ("/opt/a/s: 3: exec: /opt/a/keel: not found", 127, "/opt/a/keel"),
        ("fork/exec /opt/a/keel: permission denied", 1, "/opt/a/keel"),
        ("cannot execute a plan", 1, ""),
    ],
)
def test_a_program_that_could_not_be_run(text: str, status: int, path: str) -> None:
    assert sought.run_in_vain(_said(text), [], status) == path


@pytest.mark.parametrize(
    ("text", "names"),
    [
        ("FileNotFoundError: [Errno 2] No such file or directory: 'berths.csv'", ["berths.csv"]),
        ("Error: ENOENT: no such file or directory, open 'config.json'", ["config.json"]),
        ("open config.yaml: no such file or directory", ["config.yaml"]),
        ("FileNotFoundException: ferry.properties (No such file or directory)", ["ferry.properties"]),
        ("No such file or directory @ rb_sysopen - berths.yml", ["berths.yml"]),
        ("cannot open 'data/berths': No such file or directory", ["data/berths"]),
        ("keel: No such file or directory", []),
        ("key 'server.port' is missing", []),
        ("/srv/a.conf: No such file or directory", []),
    ],
)
def test_a_file_that_is_named_without_a_folder(text: str, names: list[str]) -> None:
    assert relative_in(text) == names


@pytest.mark.parametrize(
    ("text", "endpoint"),
    [
        ('connection to server at "10.0.0.5", port 5432 failed', ("10.0.0.5", 5432)),
        ("HTTPConnectionPool(host='10.0.0.5', port=8080)", ("10.0.0.5", 8080)),
        ("connect to 10.0.0.5 port 8080", ("10.0.0.5", 8080)),
    ],
)
def test_an_endpoint_whose_port_stands_behind_a_quoted_address(text: str, endpoint: tuple[str, int]) -> None:
    assert endpoint in endpoints_of(text)


def test_a_trace_that_leads_through_a_run_of_another_program() -> None:
    trace = [
        '  File "/usr/lib/python3.11/subprocess.py", line 1955, in _execute_child',
        "PermissionError: [Errno 13] Permission denied: '/opt/a/keel'",
    ]
    told = [_said(text) for text in trace]
    assert sought.run_in_vain(told[1], told[:1], 1) == "/opt/a/keel"
    assert sought.run_in_vain(told[1], [], 1) == ""
    loader = '  File "<frozen importlib._bootstrap_external>", line 940, in exec_module'
    assert not sought.is_of_run([_said(loader)])
    assert sought.before(told, told[1]) == told[:1]


def test_where_commands_and_files_are_sought() -> None:
    program = Program(path="/usr/bin/python3", arguments=["/usr/bin/python3", "/opt/a/a.py", "-c", "/etc/a/a.conf"])
    service = Service(name="a.service", program=program)
    assert folders_of_programs(service)[0] == "/usr/local/sbin"
    assert beside(service) == ("/opt/a", "/etc/a")
    program.environment = ["PATH=/opt/a/bin/:/usr/bin:relative"]
    assert folders_of_programs(service) == ("/opt/a/bin", "/usr/bin")


@pytest.mark.parametrize(("mode", "is_read"), [("0755", True), ("0644", True), ("0600", False), ("0640", False)])
def test_a_log_leads_into_no_file_that_is_not_for_everybody(mode: str, is_read: bool) -> None:
    asked: list[bool] = []

    class Shown:
        def look(self, path: str, is_program: bool = False) -> File:
            asked.append(is_program)
            return File(path=path, mode=mode)

    look_at_words(cast(Looker, Shown()), "/srv/a/keel")
    assert any(asked) == is_read


def test_a_path_that_leads_up_is_told_by_where_it_comes_out() -> None:
    (found,) = sought.missing_below([_said("cannot open '../data/keel.conf': No such file or directory")], "/opt/a/bin")
    assert found[1] == "/opt/a/data/keel.conf"
