"""Several throwaway hosts joined by a bridge, and the chair of the technician on it: all in network namespaces that nothing leads out
of. Each host has a real SSH server with a key of its own.
"""

from __future__ import annotations

import contextlib
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

from tests.live.realhost import RealHost, why_not

PROGRAM = Path(sys.executable).parent / "hollow-chain"
HERE = Path(__file__).parents[2]
NETWORK = "10.77.0"
_SLOW_PORT = 2200
_WAITS = ("why", "mend", "capture", "roster", "survey", "ports", "hosts")
"""Commands that can be told for how long to wait for a host."""
ADMIN, ROOTLESS = "support", "deck"
"""Users of every host: one who may become root without being asked, and one who may not."""
_SSHD = r"""
set -e
mkdir -p /etc/ssh/keys /run/sshd
for user in root support deck; do cp "$KEY" /etc/ssh/keys/$user; chmod 644 /etc/ssh/keys/$user; done
id support >/dev/null 2>&1 || useradd -m -s /bin/sh support
id deck >/dev/null 2>&1 || useradd -m -s /bin/sh deck
mkdir -p /etc/sudoers.d; echo 'support ALL=(ALL) NOPASSWD: ALL' > /etc/sudoers.d/support; chmod 440 /etc/sudoers.d/support
rm -f /etc/ssh/ssh_host_*; ssh-keygen -q -t ed25519 -N '' -f /etc/ssh/ssh_host_ed25519_key
cat > /etc/ssh/sshd_config <<END
HostKey /etc/ssh/ssh_host_ed25519_key
AuthorizedKeysFile /etc/ssh/keys/%u
PermitRootLogin prohibit-password
PasswordAuthentication no
UsePAM yes
Subsystem sftp /usr/lib/openssh/sftp-server
END
systemctl start ssh.service
cut -d' ' -f1,2 /etc/ssh/ssh_host_ed25519_key.pub
"""


def lacking() -> str:
    """Why no harbor can be built here; empty where one can."""
    if reason := why_not():
        return reason
    for program in ("ssh-keygen", "sshd", "sudo", "nft"):
        if shutil.which(program) is None and not Path(f"/usr/sbin/{program}").exists():
            return f"{program} is not installed"
    return ""


class Harbor:
    """Hosts of these *names*, each at an address of its own. Use as a context manager."""

    def __init__(self, *names: str, keep: tuple[str, ...] = ()) -> None:
        self.names = names
        self.hosts: dict[str, RealHost] = {}
        self.chair = f"hollow-chair-{os.getpid()}"
        self.home = Path(tempfile.mkdtemp(prefix="hollow-chair-", dir="/var/tmp"))
        self._keep = keep

    def __enter__(self) -> Harbor:
        try:
            self._build()
        except BaseException:
            self.down()
            raise
        return self

    def __exit__(self, *_: object) -> None:
        self.down()

    def address(self, name: str) -> str:
        """The address of a host."""
        return f"{NETWORK}.{self.names.index(name) + 2}"

    def _build(self) -> None:
        _run("ip", "netns", "add", self.chair)
        for line in (
            "link set lo up", "link add quayside type bridge", f"addr add {NETWORK}.1/24 dev quayside", "link set quayside up",
        ):  # fmt: skip
            _run("ip", "-n", self.chair, *line.split())
        ssh = self.home / ".ssh"
        ssh.mkdir(mode=0o700)
        _run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(ssh / "id_ed25519"))
        for name in self.names:
            host = RealHost(f"{name}", keep=self._keep)
            self.hosts[name] = host.__enter__()
            self._join(name)
        self.know()
        aliases = "".join(f"Host {name}\n  HostName {self.address(name)}\n  User root\n" for name in self.names)
        (ssh / "config").write_text(aliases)

    def _join(self, name: str) -> None:
        host, at = self.hosts[name], self.address(name)
        near = f"q{self.names.index(name)}"
        _run(
            "ip",
            "link",
            "add",
            near,
            "netns",
            self.chair,
            "type",
            "veth",
            "peer",
            "name",
            "eth0",
            "netns",
            str(host.init),
        )
        _run("ip", "-n", self.chair, "link", "set", near, "master", "quayside", "up")
        host.run(f"ip addr add {at}/24 dev eth0 && ip link set eth0 up")
        names = "".join(f"{self.address(one)} {one}\\n" for one in self.names)
        key = (self.home / ".ssh/id_ed25519.pub").read_text().strip()
        host.run(f"printf '{names}' >> /etc/hosts; printf '%s\\n' '{key}' > /tmp/key.pub; KEY=/tmp/key.pub; {_SSHD}")

    def know(self, *but: str) -> None:
        """Write down the keys of all hosts as they are now, in the technician's file of known ones; not those of *but*."""
        lines = []
        for name in self.names:
            key = self.hosts[name].run("cut -d' ' -f1,2 /etc/ssh/ssh_host_ed25519_key.pub").stdout.strip()
            if name not in but:
                lines.append(f"{name},{self.address(name)} {key}\n")
        (self.home / ".ssh/known_hosts").write_text("".join(lines))

    def call(
        self, *words: str, stdin: bytes | None = None, timeout: float = 600, names: Path | None = None, **env: str
    ) -> subprocess.CompletedProcess[str]:
        """Call the program from the chair; it waits for hosts that have four workers' tests to do beside their own. *names*: a file
        that stands over /etc/hosts for this call alone."""
        if words[0] in _WAITS and "--within" not in words:
            words += ("--within", "4min")
        seen = ("unshare", "-m", "sh", "-c", f'mount --bind "{names}" /etc/hosts; exec "$@"', "sh") if names else ()
        done = subprocess.run(
            [*seen, *self.command(*words)],
            input=stdin,
            capture_output=True,
            timeout=timeout,
            env=self.env(**env),
            check=False,
        )
        return subprocess.CompletedProcess(words, done.returncode, done.stdout.decode(), done.stderr.decode())

    def command(self, *words: str) -> list[str]:
        """The words that call the program from the chair."""
        return ["ip", "netns", "exec", self.chair, str(PROGRAM), *words]

    def env(self, **more: str) -> dict[str, str]:
        """The environment of the technician."""
        plain = {name: value for name, value in os.environ.items() if not name.startswith(("SSH_", "XDG_"))}
        return {**plain, "HOME": str(self.home), "COLUMNS": "120", **more}

    def hosts_file(self, text: str = "", user: str = "root", but: tuple[str, ...] = ()) -> Path:
        """A file of all hosts, with *text* behind them."""
        path = self.home / "hosts.toml"
        hosts = "".join(
            f'[hosts.{name}]\nat = "ssh://{user}@{self.address(name)}"\n' for name in self.names if name not in but
        )
        path.write_text(f'format = "hollow-chain/hosts"\nversion = 1\n{hosts}\n{text}')
        return path

    @contextlib.contextmanager
    def slow_link(self, name: str, seconds: float) -> Iterator[str]:
        """The address of a host behind a link that holds back all that passes for so many seconds each way."""
        known = self.home / ".ssh/known_hosts"
        before = known.read_text()
        key = next(line.partition(" ")[2] for line in before.splitlines() if line.startswith(f"{name},"))
        known.write_text(f"{before}[127.0.0.1]:{_SLOW_PORT} {key}\n")
        words = ["-m", "bench.delayed", str(_SLOW_PORT), self.address(name), "22", str(seconds)]
        call = ["ip", "netns", "exec", self.chair, sys.executable, *words]
        link = subprocess.Popen(call, cwd=HERE, stdout=subprocess.PIPE, text=True)
        try:
            if link.stdout is None or not link.stdout.readline():
                raise RuntimeError("the slow link did not come up")
            yield f"ssh://root@127.0.0.1:{_SLOW_PORT}"
        finally:
            link.kill()
            link.wait()
            known.write_text(before)

    def cut(self, name: str, off: bool = True) -> None:
        """Take a host off the bridge, or put it back."""
        _run("ip", "-n", self.chair, "link", "set", f"q{self.names.index(name)}", "down" if off else "up")

    def down(self) -> None:
        """End all of it."""
        for host in self.hosts.values():
            with contextlib.suppress(Exception):
                host.down()
        subprocess.run(["ip", "netns", "del", self.chair], check=False, capture_output=True)
        shutil.rmtree(self.home, ignore_errors=True)


def _run(*words: str) -> None:
    subprocess.run(words, check=True, capture_output=True, text=True)
