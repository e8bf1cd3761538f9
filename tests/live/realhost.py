"""A throwaway real host for the live tests: systemd as PID 1 in namespaces of its own, on a copy-on-write view of
this machine's disk. Whatever is broken on it is gone when it is taken down.

Needs Linux, root, systemd, util-linux and iproute2.
"""

from __future__ import annotations

import atexit
import contextlib
import os
import shlex
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from tests.forking import Parent

_UNIFIED = Path("/sys/fs/cgroup/unified")
CGROUPS = _UNIFIED if _UNIFIED.is_dir() else Path("/sys/fs/cgroup")
SCRATCH = Path("/var/tmp")
BOOT_SECONDS = 90.0
_WATCHERS, _MANY_WATCHERS = Path("/proc/sys/fs/inotify/max_user_instances"), 1024
PARENT = Parent()
atexit.register(PARENT.end)

_BOOT = r"""
set -e
echo $$ > "$GROUP/cgroup.procs"
exec unshare --cgroup --mount --uts --ipc --net --pid --fork --kill-child=KILL sh -c '
set -e
mount --make-rprivate /
mkdir -p "$PLACE/new" "$PLACE/work" "$PLACE/root"
mount -t overlay overlay -o "lowerdir=/,upperdir=$PLACE/new,workdir=$PLACE/work" "$PLACE/root"
cd "$PLACE/root"
mount -t proc proc proc
mount -t sysfs -o ro sysfs sys
mount -t cgroup2 cgroup2 sys/fs/cgroup
mount -t tmpfs -o mode=755 tmpfs run; mkdir run/lock
mount -t tmpfs tmpfs tmp
mount -t tmpfs -o mode=755 tmpfs dev
for name in null zero full random urandom tty; do touch dev/$name; mount --bind /dev/$name dev/$name; done
mkdir dev/pts dev/shm
mount -t devpts -o newinstance,ptmxmode=0666 devpts dev/pts; ln -s pts/ptmx dev/ptmx
mount -t tmpfs tmpfs dev/shm
for own in $OWN; do mkdir -p "$PLACE/root$own"; mount --rbind "$own" "$PLACE/root$own"; done
hostname "$NAME"; echo "$NAME" > etc/hostname
if [ ! -e "$PLACE/booted" ]; then for link in etc/systemd/system/multi-user.target.wants/* \
  etc/systemd/system/sockets.target.wants/* etc/systemd/system/printer.target.wants/*; do
  case " $KEEP " in *" $(basename "$link" .service) "*) ;; *) rm -f "$link" ;; esac
done
for link in etc/rc[S2-5].d/S*; do
  case " $KEEP " in *" $(basename "$link" | cut -c4-) "*) ;; *) rm -f "$link" ;; esac
done; [ -z "$EXTRA" ] || cp -a "$EXTRA/." .; fi
touch "$PLACE/booted"
ip link set lo up
mkdir -p mnt/outer; pivot_root . mnt/outer; umount -l /mnt/outer
exec env -i container=throwaway PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin \
  /lib/systemd/systemd --system --log-target=journal --unit=multi-user.target
'
"""


def why_not() -> str:
    """Why no host can be booted here; empty where one can."""
    if os.geteuid() != 0:
        return "not root"
    for needed in ("unshare", "nsenter", "ip", "systemctl"):
        if shutil.which(needed) is None:
            return f"{needed} is not installed"
    if not Path("/lib/systemd/systemd").exists():
        return "systemd is not installed"
    if not (CGROUPS / "cgroup.procs").exists():
        return "no unified control groups"
    return ""


def _own() -> list[str]:
    """Folders that the program under test runs from, wherever they are mounted: shown to the host as they are."""
    here = Path(__file__).resolve().parents[2]
    found = {str(here), sys.prefix, str(Path(sys.executable).parent.resolve().parent), sys.base_prefix}
    return sorted(path for path in found if path not in ("/", "/usr", "/usr/local"))


def _make_room() -> None:
    """Each host takes six of the things by which files are watched, and a user may have 128 (inotify(7)): twenty hosts, and the next one
    does not boot."""
    with contextlib.suppress(OSError, ValueError):
        if int(_WATCHERS.read_text()) < _MANY_WATCHERS:
            _WATCHERS.write_text(str(_MANY_WATCHERS))


class RealHost:
    """A booted host; use as a context manager."""

    def __init__(
        self, name: str, keep: tuple[str, ...] = ("nginx", "redis-server", "memcached"), extra: Path | None = None
    ) -> None:
        """*keep* are the services that start at boot, of all that this machine has installed; *extra* is a folder whose
        files the host finds in its own places when it boots."""
        self.name = name
        self._keep = keep
        self._extra = extra
        self._group = CGROUPS / f"hollow-{name}-{os.getpid()}"
        self._place = Path(tempfile.mkdtemp(prefix=f"hollow-{name}-", dir=SCRATCH))
        # The disk of the host: it stays mounted while the host is booted anew.
        subprocess.run(["mount", "-t", "tmpfs", "tmpfs", str(self._place)], check=True)
        self._outer: subprocess.Popen[bytes] | None = None
        self.init = 0

    def __enter__(self) -> RealHost:
        try:
            self._boot()
        except BaseException:
            self.down()
            raise
        return self

    def __exit__(self, *_: object) -> None:
        self.down()

    def _boot(self) -> None:
        _make_room()
        self._group.mkdir()
        given = {"GROUP": self._group, "PLACE": self._place, "NAME": self.name, "OWN": " ".join(_own())}
        env = {**os.environ, **{name: str(value) for name, value in given.items()}, "KEEP": " ".join(self._keep)}
        env["EXTRA"] = str(self._extra or "")
        self._outer = subprocess.Popen(
            ["sh", "-c", _BOOT], env=env, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
            start_new_session=True,
        )  # fmt: skip
        deadline = time.monotonic() + BOOT_SECONDS
        children = Path(f"/proc/{self._outer.pid}/task/{self._outer.pid}/children")
        while time.monotonic() < deadline:
            if self._outer.poll() is not None:
                said = self._outer.stdout.read().decode() if self._outer.stdout else ""
                raise RuntimeError(f"boot failed with {self._outer.returncode}: {said[-500:]}")
            with contextlib.suppress(OSError, ValueError, IndexError):
                self.init = int(children.read_text().split()[0])
                if self.run("systemctl is-system-running", check=False).stdout.strip() in (
                    "running",
                    "degraded",
                ):
                    return
            time.sleep(0.1)
        raise RuntimeError(f"not booted within {BOOT_SECONDS:.0f} s")

    @property
    def written(self) -> Path:
        """What the host has written to its disk, seen from outside."""
        return self._place / "new"

    def reboot(self) -> None:
        """Boot the host anew, hard: everything on it ends, its disk stays."""
        self._end()
        self._boot()

    def down(self) -> None:
        """End the host and everything on it."""
        self._end()
        subprocess.run(["umount", "-l", str(self._place)], check=False)
        shutil.rmtree(self._place, ignore_errors=True)

    def _end(self) -> None:
        if self._outer is not None:
            with contextlib.suppress(OSError):
                os.killpg(self._outer.pid, signal.SIGKILL)
            if self.init:
                with contextlib.suppress(OSError):
                    os.kill(self.init, signal.SIGKILL)
            self._outer.wait()
        for _ in range(100):
            folders = [p for p in self._group.rglob("*") if p.is_dir()] if self._group.exists() else []
            for folder in (*sorted(folders, reverse=True), self._group):
                with contextlib.suppress(OSError):
                    folder.rmdir()
            if not self._group.exists():
                break
            time.sleep(0.05)
        self._outer, self.init = None, 0

    def program(self, words: str, cwd: str = "/", entry: str = "hollow_chain.cli") -> subprocess.CompletedProcess[str]:
        """Call ``hollow-chain`` on the host, as root, in a child of a parent that has imported it (*entry*: the module that is called)."""
        status, out, err = PARENT.call(shlex.split(words), Path(cwd), {**os.environ}, entry=entry, inside=self.init)
        return subprocess.CompletedProcess(words, status, out.decode(), err.decode())

    def run(self, script: str, check: bool = True, bare: bool = False) -> subprocess.CompletedProcess[str]:
        """Run a shell script on the host; *bare* takes all capabilities from it, as if it were not root."""
        command = ["nsenter", "-t", str(self.init), "-a"]
        if bare:
            command += ["setpriv", "--bounding-set=-all", "--inh-caps=-all"]
        done = subprocess.run(
            [*command, "bash", "-c", script],
            capture_output=True,
            text=True,
            timeout=120,
            stdin=subprocess.DEVNULL,
        )
        if check and done.returncode:
            raise RuntimeError(f"{script}\nexit {done.returncode}: {done.stdout}{done.stderr}")
        return done
