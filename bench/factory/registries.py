"""``python -m bench.factory.registries [PART]``: install the servers of ``registries.toml``, with a service for each (as root, on a machine
that may be thrown away)."""

from __future__ import annotations

import subprocess
import sys
import tomllib
from pathlib import Path
from typing import Any

LISTED: dict[str, Any] = tomllib.loads(Path(__file__).with_suffix(".toml").read_text(encoding="utf-8"))
_FIRST_PORT = 7600
_UNIT = """[Unit]
Description=Ferry desk {name}
After=network.target
[Service]
User={name}
Group={name}
{unit}
ExecStart={run}
[Install]
WantedBy=multi-user.target
"""


def _installed(name: str, server: dict[str, Any]) -> str:
    """Where the programs of the server are, once its packages are there."""
    if "npm" in server:
        folder = f"/opt/{name}-node"
        if not Path(folder).exists():
            subprocess.run(
                ["npm", "install", "--silent", "--no-fund", "--no-audit", "--prefix", folder, *server["npm"]],
                check=True,
            )
        return f"{folder}/node_modules/.bin"
    folder = f"/opt/{name}-python"
    if not Path(folder).exists():
        subprocess.run(["/usr/bin/python3", "-m", "venv", folder], check=True)
        subprocess.run([f"{folder}/bin/pip", "install", "--quiet", *server["pypi"]], check=True)
    return f"{folder}/bin"


def install(name: str, number: int) -> None:
    """Install one server: programs, account, folders, settings, service."""
    server, programs = LISTED[name], _installed(name, LISTED[name])
    own = {kind: f"/{top}/{name}" for kind, top in (("etc", "etc"), ("var", "var/lib"), ("log", "var/log"))}
    words = own | {"bin": programs, "lib": str(Path(programs).parent), "port": number, "next": number + 1, "name": name}
    if subprocess.run(["getent", "passwd", name], stdout=subprocess.DEVNULL).returncode:
        subprocess.run(["useradd", "--system", "--home-dir", own["var"], name], check=True)
    for folder in own.values():
        Path(folder).mkdir(parents=True, exist_ok=True)
    for path, text in server.get("files", {}).items():
        file = Path(path.format(**words))
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(text.format(**words), encoding="utf-8")
    if "first" in server:
        subprocess.run(server["first"].format(**words), shell=True, check=True, cwd=own["var"])
    subprocess.run(["chown", "--recursive", f"{name}:{name}", own["var"], own["log"]], check=True)
    unit = _UNIT.format(name=name, unit=server.get("unit", "").format(**words), run=server["run"].format(**words))
    Path(f"/lib/systemd/system/{name}.service").write_text(unit, encoding="utf-8")


if __name__ == "__main__":
    for place, each in enumerate(LISTED):
        if sys.argv[1:] and LISTED[each].get("part", "k") not in sys.argv[1:]:
            continue
        try:
            install(each, _FIRST_PORT + 2 * place)
        except (subprocess.CalledProcessError, OSError) as error:
            print(f"{each}: {error}")
