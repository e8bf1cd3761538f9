"""``make shots``: run the main commands on the demo data in a terminal on a virtual screen and keep a picture of each.

Needs Debian's xvfb, xterm and imagemagick (for ``import``).
"""

from __future__ import annotations

import os
import shlex
import subprocess
import sys
import tempfile
import time
from pathlib import Path

HERE = Path(__file__).parent / "screenshots"
PROGRAM = Path(sys.executable).parent / "hollow-chain"
SHOTS = {
    "why": "why kiosk --from facts",
    "roster": "roster --from facts --host office-01",
    "links": "links TimetableStore --from facts",
    "why-all": "why --all --from facts",
    "capture": "capture --from facts --host mole-msg --out mole-msg.json",
    "decode": "decode 1053; hollow-chain decode status=203/EXEC; hollow-chain decode 'bind() failed (98: Address already in use)'",
    "demo": "demo | head -42",
}
DISPLAY = ":77"


def shoot(name: str, call: str, folder: Path) -> None:
    """Run one call in a terminal window and keep a picture of the window."""
    script = f"clear; echo {shlex.quote(f'$ hollow-chain {call}')}; echo; hollow-chain {call}; sleep 30"
    env = {**os.environ, "DISPLAY": DISPLAY, "PATH": f"{PROGRAM.parent}:{os.environ['PATH']}", "LC_ALL": "C.UTF-8"}
    terminal = subprocess.Popen(
        ["xterm", "-u8", "-fa", "DejaVu Sans Mono", "-fs", "10", "-geometry", "158x48+0+0", "-bg", "#10151c", "-fg", "#d8dee6",
         "-xrm", "xterm*color1: #ff7b72", "-xrm", "xterm*color6: #79c0ff", "-xrm", "xterm*color2: #7ee787", "-e", "bash", "-c", script],
        cwd=folder, env=env,
    )  # fmt: skip
    time.sleep(3.5)
    subprocess.run(["import", "-window", "root", str(HERE / f"{name}.png")], env=env, check=True)
    terminal.kill()
    terminal.wait()


def main() -> None:
    """Take all pictures, or those that are named."""
    screen = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL)
    time.sleep(1)
    try:
        with tempfile.TemporaryDirectory() as place:
            folder = Path(place)
            subprocess.run([PROGRAM, "demo", "--out", "."], cwd=folder, check=True, stdout=subprocess.DEVNULL)
            for name, call in SHOTS.items():
                if len(sys.argv) < 2 or name in sys.argv[1:]:
                    shoot(name, call, folder)
            subprocess.run(
                [PROGRAM, "links", "TimetableStore", "--from", "facts", "--out", HERE / "links-picture.png"],
                cwd=folder,
                check=True,
            )
    finally:
        screen.kill()


if __name__ == "__main__":
    main()
