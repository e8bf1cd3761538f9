"""Speed on a throwaway host of the control-manager family: whole processes, in turns, within one run on that host."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

from tests.live.win32_faults import FAULTS, HEALTHY, HEALTHY_FILES
from tests.live.winhost import WinHost, why_not

TIMES = 9
BARE = """
import win32service as s
manager = s.OpenSCManager(None, None, s.SC_MANAGER_ENUMERATE_SERVICE)
for one in s.EnumServicesStatusEx(manager, s.SERVICE_WIN32, s.SERVICE_STATE_ALL):
    handle = s.OpenService(manager, one["ServiceName"], s.SERVICE_QUERY_CONFIG | s.SERVICE_QUERY_STATUS)
    s.QueryServiceConfig(handle), s.QueryServiceStatusEx(handle)
    s.CloseServiceHandle(handle)
"""
MEASURED = f"""
import json, statistics, subprocess, sys, time
def seconds(*words):
    began = time.perf_counter()
    subprocess.run([sys.executable, *words], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    return time.perf_counter() - began
calls = {{"bare": ["-c", {BARE!r}], "capture": ["-m", "hollow_chain", "capture", "--out", r"C:\\opt\\bench.json"],
         "why": ["-m", "hollow_chain", "why", "Jetty"]}}
found = {{name: [] for name in calls}}
for _ in range({TIMES}):
    for name, words in calls.items():
        found[name].append(seconds(*words))
print(json.dumps({{name: statistics.median(values) for name, values in found.items()}}))
"""
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
        f"{services} services of a control-manager host: bare loop {told['bare'] * 1000:.0f} ms, capture {told['capture'] * 1000:.0f} ms, "
        f"why {told['why'] * 1000:.0f} ms"
    )
    yield "capture / bare loop, other family", told["capture"] / told["bare"], 3.0
    yield "why / capture, other family", told["why"] / told["capture"], 1.5
