"""Before the first failure as after it, and by whatever command: one answer, on a real host with two web servers for one port."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any

import pytest

from tests.live.conftest import needs_a_host
from tests.live.realhost import RealHost
from tests.live.test_mend_real import settled

pytestmark = pytest.mark.live
RUNS = "--runs 100 --json"
OTHERS = ("lighttpd", "squid", "varnish", "tinyproxy")
"""Other daemons of the machine that may want the same port."""


def ask(host: RealHost, words: str) -> dict[str, Any]:
    done = host.program(words)
    assert done.stdout.startswith("{"), (words, done.stderr)
    return dict(json.loads(done.stdout))


def does(plan: dict[str, Any]) -> set[str]:
    """What is to be done, whatever of it clears a bar on the way."""
    return {
        step["does"].replace("Reset the failed state of apache2.service and start it", "Start apache2.service")
        for step in plan["steps"]
    }


def test_clashes_are_foreseen_and_all_commands_agree(second_try: Callable[[str], None]) -> None:
    needs_a_host()
    try:
        _clashes_are_foreseen()
    except AssertionError as wrong:
        second_try(str(wrong)[:1000])
        _clashes_are_foreseen()


def _clashes_are_foreseen() -> None:
    with RealHost("quay") as host:
        host.run(f"systemctl disable --now apache2 {' '.join(OTHERS)}; systemctl enable nginx", check=False)
        host.reboot()
        settled(host)
        before = ask(host, f"mend apache2 {RUNS}")
        assert {"Stop nginx.service", "Start apache2.service"} <= does(before), (
            before["tries"][0]["hints"],
            ask(host, f"mend apache2 --may-stop nginx {RUNS}")["proof"],
        )
        note = ask(host, "why apache2 --json")["notes"]
        assert note and note[0]["cause"] == "port-held", note
        host.run("systemctl start apache2", check=False)
        after = ask(host, f"mend apache2 {RUNS}")
        assert does(after) == does(before), (does(before), does(after))
        # A plan that is simulated, or stands on no more than a first start, is carried out and comes out so.
        done = ask(host, f"mend apache2 --apply --yes --watch 1 --may-stop nginx {RUNS}")
        assert done["held"] is True and done["proof"]["kind"] in ("simulated", "assumed"), (
            done["summary"],
            done["checks"],
        )
        host.run("systemctl enable nginx apache2", check=False)
        boots = {one["service"]: one for one in ask(host, f"rehearse {RUNS}")["services"]}
        shares = {
            name: boots[f"{name}.service"]["up"] + boots[f"{name}.service"]["late"] for name in ("nginx", "apache2")
        }
        assert sum(shares.values()) == pytest.approx(1.0, abs=0.01), shares  # one port, one of the two
        shifts = ask(host, f"suppose 'takes nginx 1s' {RUNS}")["services"]
        assert {s["service"]: s["up"]["before"] for s in shifts} == pytest.approx(
            {name: one["up"] + one["late"] for name, one in boots.items()}, abs=1e-3
        )
        proof = ask(host, f"mend nginx {RUNS}")["proof"]
        assert proof["up_after_reboot_before"] == pytest.approx(shares["nginx"], abs=1e-3)
