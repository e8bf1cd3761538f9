"""A program with a root folder of its own: what lies there for everybody else, as far as that can be told; and files that only the
definition's text names."""

from __future__ import annotations

from pathlib import Path

import pytest

from hollow_chain.facts.service import Program
from hollow_chain.sources.outline import settings_of
from tests.made_host import MadeHost
from tests.test_readers import ELF, first


@pytest.fixture
def jail(tmp_path: Path) -> MadeHost:
    """A host with a desk whose root folder is one of its own, and which could not be run there."""
    made = MadeHost(tmp_path)
    made.failed("desk.service", 203, ("/usr/bin/desk",), RootDirectory="/srv/jail")
    made.put("/srv/jail/etc/hosts")
    return made


def program(made: MadeHost) -> Program:
    found = made.read().services[0].program
    assert found is not None
    return found


def test_a_program_that_is_not_there(jail: MadeHost) -> None:
    jail.put("/usr/bin/desk", ELF, 0o755)  # another one, which it does not see
    assert first(jail.read(), "desk.service") == (
        "program-missing", "desk.service", "The program of desk.service is not there: /srv/jail/usr/bin/desk.",
    )  # fmt: skip


def test_an_interpreter_is_sought_below_the_same_root(jail: MadeHost) -> None:
    jail.put("/srv/jail/usr/bin/desk", "#!/bin/sh\n", 0o755)
    jail.put("/bin/sh", ELF, 0o755)
    cause, _, says = first(jail.read(), "desk.service")
    assert cause == "program-missing" and "the interpreter /bin/sh, which is not there" in says
    jail.put("/srv/jail/bin/sh", ELF, 0o755)
    assert first(jail.read(), "desk.service")[0] == "exits-with-error"


@pytest.mark.parametrize(("link", "to"), [("srv/jail/usr", "/usr"), ("srv/jail/usr", "../../usr")])
def test_a_link_that_leads_out_means_something_else_there(jail: MadeHost, link: str, to: str) -> None:
    Path(jail.files.at(f"/{link}")).symlink_to(to)
    assert program(jail).outer_path == ""
    assert first(jail.read(), "desk.service")[0] == "exits-with-error"


def test_what_is_brought_in_from_elsewhere_is_not_told(jail: MadeHost) -> None:
    jail.failed(
        "desk.service",
        203,
        ("/usr/bin/desk",),
        RootDirectory="/srv/jail",
        BindReadOnlyPaths=[("/usr", "/usr", False, 0)],
    )
    assert program(jail).outer_path == ""


def test_a_file_that_it_is_to_read_from_and_that_is_not_there(tmp_path: Path) -> None:
    made = MadeHost(tmp_path)
    made.put("/usr/bin/desk", ELF, 0o755)
    made.failed("desk.service", 208, ("/usr/bin/desk",), StandardInput="file")
    made.put("/etc/systemd/system/desk.service", "[Service]\nExecStart=/usr/bin/desk\nStandardInput=file:/srv/orders\n")
    cause, _, says = first(made.read(), "desk.service")
    assert cause == "path-missing" and "/srv/orders" in says
    assert program(made).input_file == "/srv/orders" and program(made).log_files == []


def test_settings_in_one_line_of_json_are_read_as_in_many() -> None:
    found = settings_of('{"spool": "/srv/a", "store": {"host": "quay", "port": 5432}, "list": [1, 2]}\n')
    told = {(one.key, one.value.strip('"'), one.block.name) for one in found}
    assert {("spool", "/srv/a", ""), ("host", "quay", "store"), ("port", "5432", "store")} <= told
    assert settings_of("{} x") == []
    for hostile in ('{"a": ' * 9_000, "{" + '"\\' * 60_000, "{" + '"' * 60_001, '{"' + "a" * 90_000):
        settings_of(hostile)  # ends: no quote is sought an end for again and again
