"""What was changed on a really booted host, a service on one page, and the one file that runs where nothing is but Python."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.live.conftest import needs_a_host
from tests.live.realhost import RealHost

pytestmark = pytest.mark.live
ROOT = Path(__file__).parents[2]
TIDE = """
useradd --system --no-create-home tideman
install -m 640 -o root -g tideman /dev/null /etc/tide.conf
mkdir -p /opt/tide
printf '#!/usr/bin/python3\\nimport time\\nopen("/etc/tide.conf").read()\\nprint("ready", flush=True)\\ntime.sleep(9999)\\n' > /opt/tide/tide
chmod 755 /opt/tide/tide
printf '[Unit]\\nDescription=Tide\\n[Service]\\nUser=tideman\\nExecStart=/opt/tide/tide /etc/tide.conf\\n[Install]\\nWantedBy=multi-user.target\\n' \\
  > /etc/systemd/system/tide.service
systemctl daemon-reload
systemctl enable --quiet --now tide
sleep 2
"""


@pytest.fixture(scope="module")
def host() -> Iterator[RealHost]:
    needs_a_host()
    with RealHost("quay-05") as quay:
        quay.run(TIDE)
        yield quay


def asked(host: RealHost, words: str) -> Any:
    done = host.program(f"{words} --json")
    assert done.stdout.startswith("{"), (done.returncode, done.stderr)
    return json.loads(done.stdout)


def test_what_was_done_to_a_service_is_told_and_is_evidence(host: RealHost) -> None:
    host.program("capture --out /tmp/before.json")
    # As sudo(8) records it; that one is not on every host.
    host.run("logger -t sudo '    mara : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/usr/bin/vi /etc/tide.conf'")
    host.run("chmod 600 /etc/tide.conf; usermod -L tideman; systemctl restart tide; sleep 1", check=False)
    told = asked(host, "changes tide --since 10m")["changes"]
    about = {(one["kind"], one["what"]) for one in told}
    assert ("settings", "/etc/tide.conf") in about and ("command", "vi /etc/tide.conf") in about
    assert ("definition", "/etc/systemd/system/tide.service") in about and ("startup", "tide.service") in about
    assert {"account", "state"} <= {one["kind"] for one in told}
    first = asked(host, "why tide")["causes"][0]
    assert first["cause"] == "access-denied"
    assert any("/etc/tide.conf was replaced or given other rights" in one["fact"] for one in first["evidence"][:3])
    host.program("capture --out /tmp/after.json")
    apart = asked(host, "changes --between /tmp/before.json /tmp/after.json")["differences"]
    assert ("mode of /etc/tide.conf", "0640", "0600") in {(one["about"], one["before"], one["after"]) for one in apart}
    assert apart[0]["service"] == "tide.service" and apart[0]["links_from_trouble"] == 0
    host.run("chmod 640 /etc/tide.conf; systemctl reset-failed tide; systemctl restart tide; sleep 1")
    assert asked(host, "why tide")["changed"] == []


def test_others_can_forge_no_change(host: RealHost) -> None:
    host.run(
        "setpriv --reuid=daemon --clear-groups logger -t sudo 'root : USER=root ; COMMAND=/usr/bin/systemctl stop tide FORGED'"
    )
    assert "FORGED" not in json.dumps(asked(host, "changes --since 10m"))


def test_a_healthy_service_on_one_page(host: RealHost) -> None:
    found = asked(host, "about tide")
    assert found["verdict"]["healthy"] and found["service"]["account"]["user"] == "tideman"
    assert found["service"]["usage"]["open_files"] > 2 and found["service"]["starts"]
    assert any(one["text"] == "ready" for one in found["log"])
    files = {one["path"]: one for one in found["files"]}
    assert files["/etc/tide.conf"]["mode"] == "0640" and files["/etc/systemd/system/tide.service"]["owner"] == "root"
    assert host.program("about no-such-thing").returncode == 2


@pytest.fixture(scope="module")
def bundle(tmp_path_factory: pytest.TempPathFactory) -> Path:
    if sys.version_info[:2] != (3, 11):
        pytest.skip("the bundle is for the Python that it is made by, and throwaway hosts have 3.11")
    copy = tmp_path_factory.mktemp("bundle") / "source"
    shutil.copytree(
        ROOT,
        copy,
        ignore=shutil.ignore_patterns(".git", ".venv", "out", ".*_cache", "__pycache__", "*.egg-info", "dist"),
    )
    env = {**os.environ, "VENV": str(Path(sys.executable).parents[1])}
    done = subprocess.run(
        ["make", "bundle", f"VENV={env['VENV']}", "-o", f"{env['VENV']}/.ready"],
        cwd=copy,
        env=env,
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 0, done.stderr[-2000:]
    return copy / "dist" / "hollow-chain.pyz"


def test_the_bundle_runs_where_nothing_is_but_python(host: RealHost, bundle: Path) -> None:
    target = Path(host.run("mktemp -d /var/tmp/bundle-XXXX").stdout.strip())
    with bundle.open("rb") as file:
        subprocess.run(
            ["nsenter", "-t", str(host.init), "-a", "sh", "-c", f"cat > {target}/hollow-chain.pyz"],
            stdin=file,
            check=True,
        )
    # A name space of its own without any network, and an environment without anything.
    alone = f"cd {target}; unshare -n env -i HOME={target} PATH=/usr/bin:/bin /usr/bin/python3 hollow-chain.pyz"
    for words, status in (("why tide", 0), ("about tide", 0), ("roster", None), ("changes --since 1h", 0), ("rehearse --runs 20", None),
                          ("mend tide", 0), ("ports", None), ("links tide", 0), ("decode 1068", 0)):  # fmt: skip
        done = host.run(f"{alone} {words}", check=False)
        assert done.returncode in ((0, 1) if status is None else (status,)), (words, done.stderr)
        assert done.stdout and "Traceback" not in done.stderr
    refused = host.run(f"{alone} links tide --out x.png", check=False)
    assert refused.returncode == 2 and "pip install 'hollow-chain[pictures]'" in refused.stderr
    assert host.run(f"ls -A {target}").stdout.split() == [".shiv", "hollow-chain.pyz"]
