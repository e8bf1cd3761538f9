"""How the house is built: what no module may do, read from the tree."""

from __future__ import annotations

import ast
import subprocess
import sys
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import msgspec
import pytest

from hollow_chain.causes import catalogue, named
from hollow_chain.causes.nature import Boot
from hollow_chain.families import FAMILIES

SOURCE = Path(__file__).parents[1] / "src/hollow_chain"
MODULES = sorted(SOURCE.rglob("*.py"))
CAUSES = {rule.cause for rule in catalogue()}
ALSO_STATES = {"stopped", "disabled", "killed", "paused"}
"""Causes whose names are states or startup types too: to use those words is to name no cause."""
WORDS_FOR_PEOPLE = ("license/check/", "show/", "license/server.py")
"""The checks of a license file name what they find as the catalogue does."""


def room(path: Path) -> str:
    return path.relative_to(SOURCE).as_posix()


def strings(path: Path) -> Iterator[tuple[int, str]]:
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Constant) and isinstance(node.value, str):
            yield node.lineno, node.value


def test_no_cause_is_named_outside_the_catalogue() -> None:
    found = [
        f"{room(path)}:{line}: {text}"
        for path in MODULES
        if not room(path).startswith(("causes/", *WORDS_FOR_PEOPLE))
        for line, text in strings(path)
        if text in CAUSES - ALSO_STATES
    ]
    assert found == []


def test_every_name_that_others_use_is_of_a_cause() -> None:
    names = {value for name, value in vars(named).items() if name.isupper()}
    assert names <= CAUSES and len(names) > 15


@pytest.mark.parametrize("rule", catalogue(), ids=[rule.cause for rule in catalogue()])
def test_what_a_cause_is_fits_together(rule) -> None:  # type: ignore[no-untyped-def]
    assert isinstance(rule.boot, Boot)
    if rule.lacks_only_a_start or rule.comes_along or rule.stays_if or rule.of_the_next_boot:
        assert rule.boot is Boot.OVER
    if rule.shown is not None:
        fields = dict.fromkeys(("name", "blame", "thing", "program", "account", "endpoint", "port"), "x")
        assert rule.shown.text.format(**fields)


def test_one_class_name_stands_for_one_thing() -> None:
    classes = Counter(
        node.name
        for path in MODULES
        for node in ast.walk(ast.parse(path.read_text()))
        if isinstance(node, ast.ClassDef) and not node.name.startswith("_")
    )
    assert {name: many for name, many in classes.items() if many > 1} == {}


def imports(path: Path) -> Iterator[str]:
    """What a module imports of ours, wherever in it, what only the type checker reads excepted."""
    tree = ast.parse(path.read_text())
    typed = {
        id(inner)
        for node in ast.walk(tree)
        if isinstance(node, ast.If) and "TYPE_CHECKING" in ast.unparse(node.test)
        for inner in ast.walk(node)
    }
    for node in ast.walk(tree):
        if isinstance(node, ast.ImportFrom) and node.module and id(node) not in typed:
            names = [node.module, *(f"{node.module}.{alias.name}" for alias in node.names)]
            yield from (name for name in names if name.startswith("hollow_chain."))


def reached(start: str, ahead: dict[str, set[str]]) -> set[str]:
    seen: set[str] = set()
    stack = [start]
    while stack:
        for other in ahead.get(stack.pop(), ()):
            if other not in seen:
                seen.add(other)
                stack.append(other)
    return seen


def rooms() -> dict[str, set[str]]:
    ahead: dict[str, set[str]] = {}
    for path in MODULES:
        own = room(path).partition("/")[0].removesuffix(".py")
        ahead.setdefault(own, set()).update(name.split(".")[1] for name in imports(path))
        ahead[own].discard(own)
    return ahead


def test_the_rooms_stand_in_no_circle() -> None:
    ahead = rooms()
    assert {name for name in ahead if name in reached(name, ahead)} == set()


def test_no_modules_of_a_room_stand_in_a_circle() -> None:
    names = {room(path).removesuffix(".py").replace("/", ".").removesuffix(".__init__") for path in MODULES}
    ahead = {
        room(path).removesuffix(".py").replace("/", "."): {
            name.removeprefix("hollow_chain.") for name in imports(path) if name.removeprefix("hollow_chain.") in names
        }
        for path in MODULES
        if path.name != "__init__.py"
    }
    assert {name for name in ahead if name in reached(name, ahead)} == set()


def test_facts_are_pure_data() -> None:
    assert rooms()["facts"] <= {"decoding", "lazy", "trouble"}


def test_what_is_computed_knows_nothing_of_what_is_shown() -> None:
    core = {name: used for name, used in rooms().items() if name not in ("show", "cli", "demo", "ticket", "__main__")}
    assert {name for name, used in core.items() if used & {"show", "cli"}} == set()


def test_documents_are_built_where_things_are_shown() -> None:
    made = [
        room(path) for path in MODULES if room(path).startswith("cli/") for _, text in strings(path) if text == "format"
    ]
    assert made == []


def test_what_differs_between_families_is_said_in_one_place() -> None:
    names = set(FAMILIES)
    for path in MODULES:
        if room(path).startswith(("families/", "facts/", "demo/")):
            continue
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Compare):
                compared = [getattr(one, "value", None) for one in (node.left, *node.comparators)]
                texts = [one for one in compared if isinstance(one, str)]
                about = ast.unparse(node)
                assert not (set(texts) & names and "manager" in about), f"{room(path)}:{node.lineno}: {about}"


def test_families_differ_and_say_so() -> None:
    one, other = (msgspec.structs.asdict(family) for family in FAMILIES.values())
    assert {name for name in one if one[name] == other[name]} == set()


ELSEWHERE = r"""
import asyncio, importlib, os, pkgutil, signal, subprocess, sys, tempfile
import asyncssh, greenlet, jinja2, msgspec, numpy, psutil, rich.console, typer, yaml  # packages look for themselves what a system has

for name in ("grp", "pwd", "fcntl", "resource", "termios", "tty", "pty", "syslog", "dbus_fast"):
    sys.modules[name] = None  # what is not there cannot be imported
for name in [one for one in dir(os) if one.startswith("O_") and one not in ("O_RDONLY", "O_WRONLY", "O_RDWR", "O_CREAT", "O_EXCL", "O_TRUNC",
                                                                            "O_APPEND")]:
    delattr(os, name)
for name in ("geteuid", "getuid", "getgid", "fork", "getgrouplist", "fchown", "fchmod", "chown", "uname", "getxattr"):
    delattr(os, name)
for name in ("SIGHUP", "SIGKILL", "SIGUSR1", "SIGALRM"):
    delattr(signal, name)
package = importlib.import_module("hollow_chain")
for found in pkgutil.walk_packages(package.__path__, "hollow_chain."):
    if not found.name.startswith(("hollow_chain.reach.posix", "hollow_chain.reach.win32")) and not found.name.endswith("__main__"):
        importlib.import_module(found.name)
        print(found.name)
"""


def test_every_module_can_be_imported_where_there_is_no_posix() -> None:
    """In a process of its own, from which all names are taken away that only POSIX systems have."""
    done = subprocess.run([sys.executable, "-c", ELSEWHERE], capture_output=True, text=True, timeout=120)
    assert done.returncode == 0, done.stdout[-200:] + done.stderr[-2000:]
    assert len(done.stdout.split()) > 150


OF_THIS_MACHINE = {"os", "pathlib", "glob", "psutil", "socket", "ctypes", "platform", "tempfile", "subprocess"}
FILES_THAT_THE_USER_NAMES = {
    "sources/files.py",
    "sources/hosts_check.py",
    "sources/hosts_file.py",
    "sources/log_files.py",
    "sources/places.py",
    "sources/readings.py",
    "sources/shelves.py",
    "sources/probing.py",  # calls are made from this machine, which is the point of them
    "sources/license_machine.py",
}


def test_readers_reach_a_host_by_its_interfaces_alone() -> None:
    """So that they read a host over the network, or of another family, as they read this one."""
    for path in MODULES:
        if not room(path).startswith("sources/") or room(path) in FILES_THAT_THE_USER_NAMES:
            continue
        for node in ast.walk(ast.parse(path.read_text())):
            names = [alias.name for alias in node.names] if isinstance(node, ast.Import) else []
            names += [node.module or ""] if isinstance(node, ast.ImportFrom) else []
            taken = {name.partition(".")[0] for name in names} & OF_THIS_MACHINE
            pure = isinstance(node, ast.ImportFrom) and {alias.name for alias in node.names} <= {
                "PurePath",
                "PurePosixPath",
                "PureWindowsPath",
            }
            assert not taken or pure, f"{room(path)}:{node.lineno}: {taken}"  # type: ignore[attr-defined]
            own = ("hollow_chain.reach.posix", "hollow_chain.reach.win32", "hollow_chain.reach.ssh")
            assert not any(name.startswith(own) for name in names), room(path)


def test_what_reaches_hosts_knows_nothing_of_what_reads_them() -> None:
    assert rooms()["reach"] <= {"facts", "families", "lacking", "lazy", "trouble"}


def test_every_module_of_a_family_of_hosts_is_on_its_list() -> None:
    from hollow_chain.sources.readers import FAMILY_READERS, readers_of

    assert set(FAMILY_READERS) == set(FAMILIES)
    used = reached(
        "sources.readers",
        {
            room(path).removesuffix(".py").replace("/", "."): {
                name.removeprefix("hollow_chain.") for name in imports(path)
            }
            for path in MODULES
        },
    )
    for path in (path for family in ("systemd", "control") for path in (SOURCE / "sources" / family).glob("*.py")):
        if path.name != "__init__.py":
            assert f"sources.{path.parent.name}.{path.stem}" in used
    for family in FAMILY_READERS:
        readers = readers_of(family).readers
        beside = [reader for reader in readers if reader.beside]
        assert beside and list(readers[: len(beside)]) == beside


def numeric(value: ast.expr | None) -> bool:
    """Whether an expression is a number, or made of numbers alone."""
    match value:
        case ast.Constant(value=bool()):
            return False
        case ast.Constant(value=int() | float()):
            return True
        case ast.BinOp(left=left, right=right):
            return numeric(left) and numeric(right)
        case ast.UnaryOp(operand=operand):
            return numeric(operand)
        case ast.Tuple(elts=[_, *_] as parts):
            return all(map(numeric, parts))
        case ast.Call(func=ast.Name(id="timedelta"), keywords=words):
            return all(numeric(word.value) for word in words)
    return False


def unexplained(path: Path) -> Iterator[str]:
    """Numbers of a module that have a name and no reason: neither a docstring behind them, or behind the lines that follow them
    without a gap, nor a comment."""
    text = path.read_text()
    lines, body = text.splitlines(), ast.parse(text).body
    assigned = [(at, node) for at, node in enumerate(body) if isinstance(node, ast.Assign | ast.AnnAssign)]
    for at, node in assigned:
        if not numeric(node.value):
            continue
        first = last = at
        while (
            first and isinstance(body[first - 1], ast.Assign) and body[first - 1].end_lineno == body[first].lineno - 1
        ):
            first -= 1
        while (
            last + 1 < len(body)
            and isinstance(body[last + 1], ast.Assign)
            and body[last + 1].lineno == body[last].end_lineno + 1
        ):  # type: ignore[operator]
            last += 1
        behind = body[last + 1] if last + 1 < len(body) else None
        said = (
            isinstance(behind, ast.Expr)
            and isinstance(behind.value, ast.Constant)
            and behind.lineno == body[last].end_lineno + 1
        )  # type: ignore[operator]
        above = lines[body[first].lineno - 2].lstrip().startswith("#")
        if not said and not above and "#" not in lines[node.lineno - 1]:
            yield f"{room(path)}:{node.lineno}: {lines[node.lineno - 1]}"


def test_every_number_that_has_a_name_has_a_reason_beside_it() -> None:
    assert [found for path in MODULES for found in unexplained(path)] == []


def test_types_are_decoded_into_by_one_thread_at_a_time() -> None:
    """The package that decodes crashes the interpreter where two threads are the first with a type."""
    found = [
        f"{room(path)}:{node.lineno}"
        for path in MODULES
        if room(path) != "decoding.py"
        for node in ast.walk(ast.parse(path.read_text()))
        if isinstance(node, ast.Call)
        and (
            ast.unparse(node.func) == "msgspec.convert"
            or (
                ast.unparse(node.func).startswith(("msgspec.json.decode", "msgspec.yaml", "msgspec.toml"))
                and any(word.arg == "type" for word in node.keywords)
            )
        )
    ]
    assert found == []


def test_many_threads_may_be_the_first_to_decode_a_type() -> None:
    script = """
import sys, threading, msgspec
from hollow_chain import decoding
sys.setswitchinterval(1e-6)
for number in range(300):
    inner = msgspec.defstruct(f"Inner{number}", [("berths", list[str])])
    outer = msgspec.defstruct(f"Outer{number}", [("by_name", dict[str, inner]), ("all", list[inner])])
    start = threading.Barrier(4)
    def first():
        start.wait()
        decoding.of_json(b'{"by_name": {"holm": {"berths": ["1"]}}, "all": []}', type=outer)
    threads = [threading.Thread(target=first) for _ in range(4)]
    [one.start() for one in threads]
    [one.join() for one in threads]
"""
    assert subprocess.run([sys.executable, "-c", script], check=False).returncode == 0
