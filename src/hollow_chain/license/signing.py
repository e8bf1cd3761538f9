"""Signing license files: what a publisher does. The text stays as it is but for signatures and the public key."""

from __future__ import annotations

import base64
import os
import re
import tomllib
from pathlib import Path

from hollow_chain.license import file as form
from hollow_chain.license.places import places


def private_key(path: Path) -> bytes:
    """The private key in a file, 32 bytes in base64; a new one where there is no such file."""
    if not path.exists():
        handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(handle, "w") as stream:
            stream.write(base64.b64encode(os.urandom(32)).decode() + "\n")
    found = base64.b64decode(path.read_text().strip(), validate=True)
    if len(found) != 32:
        raise ValueError(f"{path} holds no private key of 32 bytes in base64")
    return found


def signed(text: str, daemon: str, key: bytes) -> str:
    """*text* with the signatures of one publisher's entitlements, and its public key, put in. Raises :class:`ValueError`."""
    document = tomllib.loads(text)
    ids = document.get("server", {}).get("host_ids", [])
    lines = text.splitlines()
    known = places(text)
    adds: list[tuple[int, str]] = []
    for kind, field in (("daemon", "key"), ("entitlement", "signature")):
        for number, table in enumerate(document.get(kind, [])):
            if table.get("name" if kind == "daemon" else "daemon") != daemon:
                continue
            value = form.public_key(key) if kind == "daemon" else form.sign(table, ids, key)
            there = known.get((kind, number, field))
            line = f'{field} = "{value}"'
            if there:
                lines[there.line - 1] = line
            else:
                adds.append((known[kind, number].line, line))
    for at, line in sorted(adds, reverse=True):
        lines.insert(at, line)
    return re.sub(r"\n*\Z", "\n", "\n".join(lines))
