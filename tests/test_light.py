"""The plain install: what works without the extras, and the one line that says which is missing; what a shell completes."""

from __future__ import annotations

import os
import subprocess
import sys
import tomllib
from collections.abc import Callable
from pathlib import Path

import pytest

from hollow_chain.cli.plain_values import _converter
from hollow_chain.wording.near import nearest
from tests.conftest import Done, Run

EXTRAS = (
    "matplotlib",
    "cryptography",
    "sqlalchemy",
    "psycopg",
    "scipy",
    "pydantic",
    "pandas",
    "asyncssh",
    "greenlet",
    "impacket",
    "pyarrow",
    "fsspec",
    "distributed",
)
PLAIN = """
import sys
for name in {extras!r}:
    sys.modules[name] = None
from hollow_chain.cli import main
main(sys.argv[1:])
"""
Plain = Callable[..., Done]


@pytest.fixture()
def plain(tmp_path: Path) -> Plain:
    """Run the program as if no extra were installed."""

    def call(*words: str | Path) -> Done:
        env = {**os.environ, "HOLLOW_CHAIN_CASES": str(tmp_path / "cases.db"), "TZ": "UTC"}
        script = PLAIN.format(extras=EXTRAS)
        done = subprocess.run(
            [sys.executable, "-c", script, *map(str, words)],
            cwd=tmp_path,
            env=env,
            capture_output=True,
            check=False,
            timeout=120,
        )
        return Done(done.returncode, done.stdout, done.stderr)

    return call


WORKS = [
    "why kiosk", "why kiosk --keep", "why kiosk --out x.html", "why RouteOptimizer", "why --all", "about barrier", "roster", "roster --twins",
    "links kiosk", "links kiosk --out x.dot", "ports --host pierhead", "changes --host office-01", "rehearse --host gate-03 --runs 20",
    "suppose fails:x", "mend kiosk --runs 20", "capture --out -",
]  # fmt: skip


@pytest.mark.parametrize("call", WORKS)
def test_all_of_the_job_works_without_extras(plain: Plain, demo_facts: Path, call: str) -> None:
    if call.startswith("suppose"):
        done = plain("suppose", "limit all 60s", "--from", demo_facts, "--host", "gate-03", "--runs", "20")
    else:
        done = plain(*call.split(), "--from", demo_facts)
    assert done.status in (0, 1), done.err


def test_the_demo_leaves_pictures_out_and_says_so(plain: Plain, tmp_path: Path) -> None:
    done = plain("demo", "--all-troubles", "--out", tmp_path / "d")
    assert done.status == 0 and "hollow-chain[pictures]" in done.err
    assert not list((tmp_path / "d").glob("*.png")) and "Step 20 of 20" in done.out


def test_cases_need_no_extra(plain: Plain, demo_facts: Path) -> None:
    assert plain("why", "kiosk", "--from", demo_facts, "--keep").status == 1
    assert plain("case", "confirm", "1").status == 0
    assert "confirmed" in plain("case", "list").out
    assert plain("decode", "1068").status == 0


@pytest.mark.parametrize("address", ["ssh://localhost:1", "rpc://clerk@localhost"])
def test_hosts_over_the_network_need_an_extra_that_is_named(plain: Plain, demo_facts: Path, address: str) -> None:
    done = plain("why", "kiosk", "--from", address)
    assert done.status == 2 and "pip install 'hollow-chain[remote]'" in done.err and done.err.count("\n") == 1
    done = plain("why", "kiosk", "--from", "ssh://localhost:1", "--from", demo_facts)
    assert done.status == 1 and "localhost could not be read" in done.err and "hollow-chain[remote]" in done.err


LACKS = [
    (["links", "kiosk", "--out", "x.png"], "pictures", 2),
    (["rehearse", "--host", "gate-03", "--runs", "20", "--out", "x.svg"], "pictures", 2),
    (["why", "kiosk", "--keep", "--store", "postgresql://h/x"], "team", 2),
]


@pytest.mark.parametrize(("call", "extra", "status"), LACKS, ids=[" ".join(call) for call, _, _ in LACKS])
def test_what_lacks_an_extra_says_so_in_one_line(
    plain: Plain, demo_facts: Path, call: list[str], extra: str, status: int
) -> None:
    done = plain(*call, "--from", demo_facts)
    assert done.status == status and f"pip install 'hollow-chain[{extra}]'" in done.err and done.err.count("\n") == 1


def test_a_license_file_is_looked_at_without_the_package_for_signatures(plain: Plain, run: Run, tmp_path: Path) -> None:
    done = plain("license", "sign", "x.toml", "--key", "key", "--daemon", "d")
    assert done.status in (2, 3) and done.err.count("\n") == 1


def test_the_extras_are_told_and_whole() -> None:
    project = tomllib.loads((Path(__file__).parents[1] / "pyproject.toml").read_text())["project"]
    needed = " ".join(project["dependencies"])
    assert not [name for name in EXTRAS if name in needed]
    assert "typer>=0.15" in project["dependencies"]  # without a bound above
    named = project["optional-dependencies"]["all"][0].partition("[")[2].rstrip("]").split(",")
    assert set(named) == set(project["optional-dependencies"]) - {"all", "dev"}


def test_no_start_imports_a_validation_package(tmp_path: Path) -> None:
    script = "import sys; from hollow_chain.cli import run; run(sys.argv[1:]); print('pydantic' in sys.modules, file=sys.stderr)"
    for words in (["--version"], ["rehearse", "--runs", "x"], ["roster", "--from", "none"]):
        done = subprocess.run(
            [sys.executable, "-c", script, *words], cwd=tmp_path, capture_output=True, text=True, check=False
        )
        assert done.stderr.splitlines()[-1] == "False"


class About:
    """Bounds of a value."""

    parser = None

    def __init__(self, least: float | None = None, most: float | None = None) -> None:
        self.min, self.max = least, most


VALUES = [
    (int, About(1, 9), "5", 5), (int, About(1, 9), "0", None), (int, About(), "x", None), (float, About(0), "nan", None),
    (float, About(0, 1), "0.5", 0.5), (bool, About(), "yes", True), (bool, About(), "perhaps", None), (list[str], About(), ["a"], ["a"]),
    (tuple[Path, Path], About(), ("a", "b"), (Path("a"), Path("b"))), (str, About(), "x", "x"),
]  # fmt: skip


@pytest.mark.parametrize(
    ("kind", "about", "given", "made"), VALUES, ids=[f"{kind}: {given}" for kind, _, given, _ in VALUES]
)
def test_words_become_values(kind: object, about: About, given: object, made: object) -> None:
    convert = _converter(kind, about)
    assert convert is not None
    if made is None:
        with pytest.raises(ValueError):
            convert(given)  # type: ignore[arg-type]
    else:
        assert convert(given) == made  # type: ignore[arg-type]


def test_other_types_are_left_to_typer() -> None:
    assert _converter(dict, About()) is None and _converter(list[dict], About()) is None


NEAR = [
    ("ngnix", "nginx"), ("postgers", "postgresql"), ("timetablestor", "TimetableStore"), ("signbord", "signboard@3"), ("kisok", "gate-kiosk"),
]  # fmt: skip


@pytest.mark.parametrize(("typed", "meant"), NEAR)
def test_a_name_with_a_slip_is_found(typed: str, meant: str) -> None:
    names = ["nginx", "postgresql", "TimetableStore", "signboard@3", "gate-kiosk", "ssh", "cron", "store", "x" * 10_000]
    assert nearest(typed, names, 1, 65)[0].name == meant
    assert nearest("qqqq", names) == []


@pytest.fixture()
def offered(tmp_path: Path) -> Callable[..., list[str]]:
    """What the shell would offer behind such words."""

    def call(*words: str | Path) -> list[str]:
        line = ["hollow-chain", *map(str, words)]
        env = {
            **os.environ, "_HOLLOW_CHAIN_COMPLETE": "complete_bash", "COMP_WORDS": " ".join(line), "COMP_CWORD": str(len(line) - 1),
            "HOME": str(tmp_path),
        }  # fmt: skip
        done = subprocess.run(
            [Path(sys.executable).parent / "hollow-chain"],
            cwd=tmp_path,
            env=env,
            capture_output=True,
            text=True,
            check=False,
        )
        assert done.stderr == "", done.stderr
        assert list(tmp_path.iterdir()) == []
        return done.stdout.split()

    return call


@pytest.mark.skipif(os.name == "nt", reason="the shell is one of POSIX")
def test_a_shell_completes_what_there_is(offered: Callable[..., list[str]], demo_facts: Path) -> None:
    assert offered("wh") == ["why"]
    for command in ("why", "about", "links", "mend", "changes", "roster", "rehearse"):
        assert offered(command, "--from", demo_facts, "barr") == ["barrier-control.service"], command
    assert offered("why", "--from", demo_facts, "--host", "off") == ["office-01"]
    assert "port-held" in offered("case", "correct", "1", "port") and offered("lab", "fault", "x", "cra") == ["crash"]
    assert offered("why", "--from", "none.json", "x") == [] and offered("case", "correct", "1", "zzz") == []
