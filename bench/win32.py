"""Speed on a throwaway host of the control-manager family, measured in turns within one run on that host."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

from tests.live.win32_faults import FAULTS, HEALTHY, HEALTHY_FILES
from tests.live.winhost import WinHost, why_not

TIMES = 9
MEASURED = r"""
import json, statistics, subprocess, sys, time
import win32service as s
from hollow_chain.facts.codec import encode
from hollow_chain.sources.asked import Asked
from hollow_chain.sources.files import write_atomically
from hollow_chain.sources.places import facts_from
from pathlib import Path

def bare():
    manager = s.OpenSCManager(None, None, s.SC_MANAGER_ENUMERATE_SERVICE)
    for one in s.EnumServicesStatusEx(manager, s.SERVICE_WIN32, s.SERVICE_STATE_ALL):
        handle = s.OpenService(manager, one["ServiceName"], s.SERVICE_QUERY_CONFIG | s.SERVICE_QUERY_STATUS)
        s.QueryServiceConfig(handle), s.QueryServiceStatusEx(handle)
        s.CloseServiceHandle(handle)

def capture():
    write_atomically(Path(r"C:\opt\bench.json"), encode(facts_from(None, Asked(), "bench")))

def call(*words):
    subprocess.run([sys.executable, "-m", "hollow_chain", *words], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)

parts = {"bare": bare, "capture": capture, "captured": lambda: call("capture", "--out", r"C:\opt\bench.json"),
         "why": lambda: call("why", "Jetty")}
found = {name: [] for name in parts}
for at in range(TIMES + 1):
    for name, part in parts.items():
        began = time.perf_counter()
        part()
        if at:
            found[name].append(time.perf_counter() - began)
print(json.dumps({name: statistics.median(values) for name, values in found.items()}))
""".replace("TIMES", str(TIMES))
UNDER_WAY = ("SlowBoat", "stuck", "starts")
"""What is under way is looked at twice, half a second apart: that is a wait, and no work."""


def measure(_: Path) -> Iterator[tuple[str, float, float]]:
    """``capture`` against a bare loop over all services, and ``why`` against ``capture``."""
    reason = why_not()
    if reason:
        print(f"a host of the control-manager family: not measured ({reason})")
        return
    from tests.live.test_win32 import lay_out

    with WinHost("bench") as host:
        lay_out(host, HEALTHY_FILES)
        acts = [act for name, many in HEALTHY.items() if name not in UNDER_WAY for act in many]
        for fault in FAULTS:
            if not any(word in fault.name for word in UNDER_WAY):
                lay_out(host, fault.files)
                acts += fault.acts
        host.acts(*acts)
        services = len(host.acts(["states"])[0])
        told = json.loads(host.python("-c", MEASURED).out)
    print(
        f"{services} services of a control-manager host: bare loop {told['bare'] * 1000:.0f} ms, capture in the same process "
        f"{told['capture'] * 1000:.0f} ms; as whole processes: capture {told['captured'] * 1000:.0f} ms, why {told['why'] * 1000:.0f} ms"
    )
    yield "capture / bare loop, other family", told["capture"] / told["bare"], 3.0
    yield "why / capture, other family", told["why"] / told["captured"], 1.5
