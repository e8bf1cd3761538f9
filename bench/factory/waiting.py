"""More ways to break a service: starts that wait, that are called off, or that nobody repeats once they could go well; mounts."""

from __future__ import annotations

import random
from collections.abc import Iterator
from pathlib import PurePosixPath

from bench.factory.operators import Break, a_way, drop_in, operator, service, unit
from bench.factory.probe import Probe

_HANGS = "[Service]\\nType=oneshot\\nExecStart=/bin/sleep infinity\\n"
_NOT_AGAIN = "Restart=no"


@operator("waits for longer than a job may")
def _job_timeout(p: Probe, _: random.Random) -> Iterator[Break]:
    order = "[Unit]\\nWants=quay-light.service\\nAfter=quay-light.service\\nJobTimeoutSec=1s\\n"
    yield a_way(p, unit("quay-light.service", _HANGS) + drop_in(p, order), "start-waits", "quay-light", stop=True)


@operator("waits for what waits for it")
def _waiting_loop(p: Probe, _: random.Random) -> Iterator[Break]:
    other = f"[Unit]\\nAfter={p.unit}\\n[Service]\\nExecStart=/bin/sleep infinity\\n"
    asks = "ExecStartPre=+/bin/systemctl start quay-light.service\\nTimeoutStartSec=90s"
    yield a_way(
        p, unit("quay-light.service", other) + drop_in(p, service(asks)), "waiting-loop", "quay-light", stop=True
    )


@operator("called off while it was starting")
def _called_off(p: Probe, _: random.Random) -> Iterator[Break]:
    script = drop_in(p, service(f"ExecStartPre=/bin/sleep 60\\n{_NOT_AGAIN}"))
    yield a_way(
        p,
        f"{script}; systemctl stop {p.unit}; systemctl start --no-block {p.unit}; sleep 1; systemctl stop {p.unit}",
        "stopped|manual-not-started",
        starts=False,
    )


@operator("put right since")
def _put_right(p: Probe, draw: random.Random) -> Iterator[Break]:
    again = (
        f"{drop_in(p, service(_NOT_AGAIN))}; systemctl stop {p.unit}; {{}}; systemctl start {p.unit}; sleep 0.5; {{}}"
    )
    program = f"$(readlink -f {p.program})"
    yield a_way(p, again.format(f"chmod a-x {program}", f"chmod a+x {program}"), "mended-not-started", starts=False)
    if p.settings:
        path = draw.choice(p.settings[:2])
        yield a_way(
            p, again.format(f"mv {path} {path}.kept", f"mv {path}.kept {path}"), "mended-not-started", starts=False
        )


@operator("mounted without execution")
def _no_exec(p: Probe, _: random.Random) -> Iterator[Break]:
    folder = PurePosixPath(p.program).parent
    if str(folder).startswith("/opt/"):
        script = f"mount --bind {folder} {folder}; mount -o remount,bind,noexec {folder}"
        yield a_way(p, script, "access-denied", "executed", str(folder))


@operator("too small a file")
def _file_size(p: Probe, _: random.Random) -> Iterator[Break]:
    yield a_way(
        p,
        drop_in(p, service(f"LimitFSIZE=0\\n{_NOT_AGAIN}")),
        "limit-reached|disk-full|access-denied|killed",
        "LimitFSIZE",
    )


@operator("a library that is none")
def _bad_library(p: Probe, draw: random.Random) -> Iterator[Break]:
    if p.libraries:
        name = PurePosixPath(draw.choice(p.libraries)).name
        script = f"mkdir -p /opt/quay/lib; echo none > /opt/quay/lib/{name}; " + drop_in(
            p, service("Environment=LD_LIBRARY_PATH=/opt/quay/lib")
        )
        yield a_way(p, script, "wrong-program-format", name)
