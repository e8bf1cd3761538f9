"""Definitions as files in the place for own definitions: kept, written, changed and taken away, each whole or not at all."""

from __future__ import annotations

import base64
import hashlib
import os
from pathlib import Path
from typing import Any

from hollow_chain.causes.acts import Act
from hollow_chain.mend import files_kept
from hollow_chain.mend.hands import NotDone

VERBS = ("define", "amend", "undefine")
_MODE = 0o644
"""Of a definition: everybody may read it, as all others in that place."""


def digest(text: bytes) -> str:
    """What tells one content from another."""
    return hashlib.sha256(text).hexdigest()[:16]


def keep(act: Act, old: str, places: tuple[Path, ...]) -> dict[str, Any]:
    """What stands at the place of a definition, and of its folder. Raises :class:`NotDone` where that is no longer what the plan was
    made from: *old* has the digest of the content, where there was one."""
    path = Path(act.path)
    if path.parent not in places and path.parent.parent not in places:
        raise NotDone(f"{path} is not in the place for own definitions")
    if not act.path.isprintable() or not all(one.isprintable() or one == "\n" for one in act.value):
        raise NotDone(f"the definition {path} has a character that cannot be printed")
    kept = files_kept.keep(path, content=True)
    if act.verb == "define" and kept["kind"] != "absent":
        raise NotDone(f"{path} is there by now; ask again")
    if act.verb != "define" and kept["kind"] not in ("file", "link"):
        raise NotDone(f"{path} is no file any more; ask again")
    if act.verb == "amend" and digest(base64.b64decode(kept.get("content", ""))) not in old:
        raise NotDone(f"{path} was changed since the plan was made; ask again")
    return {"paths": {act.path: kept}, "folder_was": files_kept.keep(path.parent)["kind"]}


def do(act: Act) -> None:
    """Write, change or take away a definition. Raises :class:`NotDone`."""
    path = Path(act.path)
    if act.verb == "undefine":
        files_kept.put_back(path, {"kind": "absent"})
        _drop_empty(path.parent)
        return
    if not os.path.lexists(path.parent):
        files_kept.make_folder(path.parent, "0", "0")
    files_kept.write_new(path, act.value.encode(), _MODE)


def take_back(act: Act, kept: dict[str, Any]) -> None:
    """Make it what it was, byte for byte. Raises :class:`NotDone`."""
    path = Path(act.path)
    if kept["paths"][act.path]["kind"] != "absent" and not os.path.lexists(path.parent):
        files_kept.make_folder(path.parent, "0", "0")
    files_kept.put_back(path, kept["paths"][act.path])
    if kept["folder_was"] == "absent":
        _drop_empty(path.parent)


def _drop_empty(folder: Path) -> None:
    """Take a folder of settings away that has nothing in it any more."""
    if folder.name.endswith(".d") and folder.is_dir() and not folder.is_symlink() and not any(folder.iterdir()):
        folder.rmdir()
