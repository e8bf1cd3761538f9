"""What services seek by themselves, on a real host: commands, other programs, files without a folder, variables, options."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any

import pytest

from tests.live.conftest import needs_a_host
from tests.live.realhost import RealHost

pytestmark = pytest.mark.live
_SHELL, _PYTHON = "/bin/sh", "/usr/bin/python3"
FAULTS = [  # what stands in the script, with which program it is run, the arguments, what is done before; what has to be told
    (_PYTHON, "open('berths.csv')", "", "touch {0}/berths.csv", "path-missing", "it lies in {0}"),
    (_PYTHON, "import subprocess; subprocess.run(['keel'])", "", "", "program-missing", "runs keel"),
    (_PYTHON, "import subprocess; subprocess.run(['{0}/keel'])", "", "echo '#!/usr/bin/keeling' > {0}/keel; chmod 755 {0}/keel",
     "program-missing", "/usr/bin/keeling"),
    (_PYTHON, "import os; os.environ['FERRY_PORT']", "", "", "config-rejected", "the variable FERRY_PORT"),
    (_PYTHON, "import argparse; argparse.ArgumentParser().parse_args()", "--prot 80", "", "config-rejected", "the option --prot"),
    (_SHELL, "keel --check || exit 1", "", "", "program-missing", "runs keel"),
    (_SHELL, "exec {0}/keel", "", "echo '#!/bin/sh' > {0}/keel; chmod 644 {0}/keel", "program-not-executable", "{0}/keel"),
    (_SHELL, "exec {0}/keel", "", "echo '#!/usr/bin/keeling' > {0}/keel; chmod 755 {0}/keel", "program-missing", "/usr/bin/keeling"),
    (_SHELL, "exec keel", "", "mkdir {0}/bin; cp /bin/true {0}/bin/keel", "program-missing", "runs keel"),
    (_SHELL, "echo 'must not be run as root' >&2; exit 1", "", "", "account-barred", "may not run as root"),
    (_SHELL, "ip link set keel0 up", "", "", "device-missing", "keel0"),
    (_SHELL, "exec 3< /dev/ttyUSB7", "", "", "device-missing", "the device /dev/ttyUSB7"),
    (_SHELL, "echo 'cannot open /srv/berths: No such file or directory' > {0}/logs/today; exit 1", "", "mkdir {0}/logs",
     "path-missing", "/srv/berths"),
    (_PYTHON, "open('/var/log/%s-desk.log' % '{0}'[5:], 'w').write('cannot open /srv/moorings: No such file or directory'); exit(1)", "",
     "", "path-missing", "/srv/moorings"),
]  # fmt: skip


@pytest.fixture(scope="module")
def answers() -> Iterator[list[dict[str, Any]]]:
    """The first cause of each, after all of them were tried at once."""
    needs_a_host()
    with RealHost("wharf", ()) as host:
        for number, (program, text, arguments, before, _, _) in enumerate(FAULTS):
            folder = f"/opt/kiosk{number}"
            unit = f"[Service]\\nExecStart={program} {folder}/kiosk {arguments}\\n"
            host.run(
                f"mkdir -p {folder}; cat > {folder}/kiosk <<'END'\n{text.format(folder)}\nEND\n{before.format(folder)}\n"
                f"printf '{unit}' > /etc/systemd/system/kiosk{number}.service"
            )
        names = " ".join(f"kiosk{number}" for number in range(len(FAULTS)))
        host.run(
            f"systemctl daemon-reload; systemctl start --no-block {names}\n"
            f"for n in $(seq 200); do [ $(systemctl is-failed {names} | grep -c failed) = {len(FAULTS)} ] && break; sleep 0.1; done"
        )
        yield [json.loads(host.program(f"why kiosk{n} --json").stdout)["causes"][0] for n in range(len(FAULTS))]


@pytest.mark.parametrize("number", range(len(FAULTS)))
def test_what_it_seeks_is_named(answers: list[dict[str, Any]], number: int) -> None:
    *_, cause, told = FAULTS[number]
    found = answers[number]
    assert found["cause"] == cause and told.format(f"/opt/kiosk{number}") in found["says"], found["says"]
