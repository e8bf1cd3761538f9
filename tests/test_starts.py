"""True starts of the installed program: what a child of a parent that has imported everything cannot show (its imports, its entry
point, its end), and that both say the same."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

from hollow_chain import __version__
from tests.conftest import Run

FERRY = {
    "why": ["why", "kiosk"],
    "why in JSON": ["why", "kiosk", "--json"],
    "why all": ["why", "--all", "--host", "gate-03"],
    "roster": ["roster", "--host", "gate-03", "--unwell"],
    "links": ["links", "kiosk", "--host", "gate-03"],
    "ports": ["ports", "--host", "pierhead"],
    "rehearse": ["rehearse", "--host", "gate-03", "--runs", "20"],
    "suppose": ["suppose", "limit all 90s", "--host", "voyage-ws", "--runs", "20"],
    "mend": ["mend", "kiosk", "--runs", "40", "--json"],
    "a wrong call": ["links", "zzzzqq", "--host", "gate-03"],
}
WITHOUT_FACTS = {
    "decode": ["decode", "error", "1068"],
    "decode in JSON": ["decode", "status=217", "--json"],
    "cases": ["case", "list"],
    "version": ["--version"],
    "unknown command": ["wy"],
}


@pytest.mark.parametrize("name", FERRY)
def test_a_true_start_says_what_a_forked_call_says(name: str, start: Run, run: Run, demo_facts: Path) -> None:
    words = [*FERRY[name], "--from", str(demo_facts)]
    true, forked = start(*words), run(*words)
    assert (true.status, true.out, true.said) == (forked.status, forked.out, forked.said)
    assert true.out or true.err


@pytest.mark.parametrize("name", WITHOUT_FACTS)
def test_a_true_start_without_facts(name: str, start: Run, run: Run) -> None:
    true, forked = start(*WITHOUT_FACTS[name]), run(*WITHOUT_FACTS[name])
    assert (true.status, true.out, true.said) == (forked.status, forked.out, forked.said)


def test_a_start_that_only_tells_its_version_imports_no_catalogue() -> None:
    code = (
        "import sys\nfrom hollow_chain import cli\nstatus = cli.run(['--version'])\n"
        "print(sorted(name for name in sys.modules if name.startswith(('hollow_chain.causes', 'numpy', 'matplotlib', 'sqlalchemy'))))"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=60)
    assert done.stdout.splitlines() == [f"hollow-chain {__version__}", "[]"]


HEAVY = (
    "numpy",
    "matplotlib",
    "sqlalchemy",
    "cryptography",
    "dbus_fast",
    "scipy",
    "psutil",
    "hollow_chain.boot",
    "hollow_chain.mend",
)
CHEAP = [["why", "kiosk"], ["why", "kiosk", "--json"], ["roster"], ["links", "kiosk", "--host", "gate-03"], ["ports"]]


@pytest.mark.parametrize("words", CHEAP, ids=" ".join)
def test_what_is_read_from_a_snapshot_imports_nothing_heavy(words: list[str], demo_facts: Path, tmp_path: Path) -> None:
    code = (
        "import sys\nfrom hollow_chain import cli\n"
        f"status = cli.run({[*words, '--from', str(demo_facts)]!r})\n"
        f"print(sorted(name for name in sys.modules if name.split('.')[0] in {HEAVY!r} or name in {HEAVY!r}), file=sys.stderr)\n"
        "sys.exit(status)"
    )
    env = {"PATH": "/usr/bin:/bin", "HOLLOW_CHAIN_CASES": str(tmp_path / "none.db")}
    done = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, timeout=60, env=env, cwd=Path(__file__).parents[1]
    )
    assert done.returncode in (0, 1), done.stderr
    assert done.stderr.splitlines()[-1] == "[]"
