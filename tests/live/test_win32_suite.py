"""Tests that need no live host, run by CPython for Win32 on a throwaway host of the control-manager family; and the demo."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

from tests.live.test_win32 import needs_win32
from tests.live.win32_faults import made
from tests.live.winhost import HERE, WinHost

__all__ = ["needs_win32"]
pytestmark = [pytest.mark.live, pytest.mark.win32]
FILES = ("about", "cases", "chain", "changes", "codec", "control_readers", "decode", "help", "lab", "license_file", "mend_any", "mend_lab",
         "mend_plan", "ports", "program", "records", "rehearse", "tables")  # fmt: skip
OLD_CODE_PAGE = {"PYTHONUTF8": "0", "PYTHONIOENCODING": "cp850"}


@pytest.fixture(scope="module")
def host(needs_win32: None) -> Iterator[WinHost]:
    """A host that nothing is done to."""
    with WinHost("ferry") as ferry:
        yield ferry


def test_the_tests_of_the_programs_own_commands_pass_there(host: WinHost) -> None:
    paths = [f"tests/test_{name}.py" for name in FILES]
    done = host.python(
        "-m", "pytest", "-q", "-p", "no:cacheprovider", "-m", "not alone", "--tb=short", *paths, cwd=HERE
    )
    assert done.status == 0, done.out[-3000:] + done.err[-1000:]


def test_every_command_of_the_demo_passes_there(host: WinHost) -> None:
    done = host.hollow_chain("demo")
    assert done.status == 0, done.err
    assert "is mended" in done.out or "holds" in done.out


def test_text_comes_out_right_under_an_old_code_page(host: WinHost) -> None:
    facts = host.disk / "opt/facts.yaml"
    facts.write_text(
        "format: hollow-chain/snapshot\nversion: 1\nhosts:\n- name: quay\n  manager: control-manager\n"
        "  services: [{name: Fähre, state: stopped, startup: disabled, display_name: 'Fähre ⚓'}]\n",
        encoding="utf-8",
    )
    plain = host.hollow_chain("roster", "--all", "--from", r"C:\opt\facts.yaml", **OLD_CODE_PAGE)
    assert plain.status == 0 and "stopped" in plain.out
    told = host.hollow_chain("roster", "--from", r"C:\opt\facts.yaml", "--json", **OLD_CODE_PAGE)
    assert told.json["services"][0]["service"] == "Fähre" and told.json["services"][0]["display_name"] == "Fähre ⚓"


def test_a_reader_that_leaves_early_is_no_fault(host: WinHost) -> None:
    code = (
        "import subprocess, sys\n"
        "p = subprocess.Popen([sys.executable, '-m', 'hollow_chain', 'roster'], stdout=subprocess.PIPE, stderr=subprocess.PIPE)\n"
        "p.stdout.read(3); p.stdout.close()\n"
        "said = p.stderr.read()\n"
        "print(p.wait(), b'fault' in said)\n"
    )
    assert host.python("-c", code).out.split() == ["0", "False"]


def test_one_lock_is_held_by_one_process_with_and_without_the_package_for_it(host: WinHost) -> None:
    code = (
        "import subprocess, sys\n"
        "if sys.argv[1] == 'without': sys.modules['filelock'] = None\n"
        "from pathlib import Path\n"
        "from hollow_chain.reach.locks import Taken, take\n"
        "try: lock = take(Path(r'C:\\opt\\one.lock'))\n"
        "except Taken: sys.exit('taken')\n"
        "if sys.argv[2] == 'outer':\n"
        "    inner = subprocess.run([sys.executable, '-c', sys.argv[3], sys.argv[1], 'inner'], capture_output=True, text=True)\n"
        "    print(inner.stderr.strip() or 'not taken')\n"
        "    lock.release()\n"
        "    take(Path(r'C:\\opt\\one.lock')).release()\n"
    )
    for how in ("with", "without"):
        assert host.python("-c", code, how, "outer", code).out.split() == ["taken"]


def test_a_license_server_serves_there_and_ends_in_order(host: WinHost) -> None:
    (host.disk / "opt/suite.toml").write_text(
        f'format = "hollow-chain/license"\nversion = 1\n[server]\nhost = "{host.name}"\nhost_ids = ["02:00:00:00:00:01"]\nport = 7272\n'
        '[[daemon]]\nname = "maker"\nprogram = "hollow-chain-license-daemon"\nkey = ""\n'
        '[[entitlement]]\ndaemon = "maker"\nproduct = "suite"\nseats = 3\nsignature = ""\n'
    )
    assert host.hollow_chain("license", "sign", "suite.toml", "--key", "key", "--daemon", "maker").status == 0
    server = host.begin("license", "serve", "suite.toml", "--heartbeat", "0.3")
    place = "127.0.0.1:7272"

    def asked(says: str) -> bool:
        told = ""
        for _ in range(20):
            if says in (told := host.hollow_chain("license", "ask", place).out):
                return True
        raise AssertionError(told)

    assert asked("0 of 3 seats used")
    holder = host.begin("license", "hold", place, "--want", "suite:2")
    assert asked("2 of 3 seats used")
    denied = host.hollow_chain("license", "hold", place, "--want", "suite:2")
    assert denied.status == 1 and "1 are free" in denied.err
    assert host.interrupt(holder) == 0
    assert asked("0 of 3 seats used")
    assert host.interrupt(server) == 0
    assert list((host.disk / "opt/suite.toml.state").iterdir()) == []


def test_a_database_that_is_still_locked_after_a_boot_is_waited_for(host: WinHost) -> None:
    host.acts(made("Ladder"))
    code = (
        "import pywintypes, win32service as api\n"
        "from hollow_chain.reach.win32.manager import LocalManager\n"
        "real, refusals = api.StartService, [1055, 1055]\n"
        "def start(handle, words):\n"
        "    if refusals:\n"
        "        raise pywintypes.error(refusals.pop(), 'StartService', 'the service database is locked')\n"
        "    return real(handle, words)\n"
        "api.StartService = start\n"
        "print(LocalManager().start('Ladder').state, refusals)\n"
    )
    assert host.python("-c", code).out.strip() == "4 []"
