"""All that is wrong with a license file, for one machine, in one go: each problem with its place and who can mend it.

Pure: bytes and the facts of a host in, problems out.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator
from datetime import datetime

from hollow_chain.facts.host import Host
from hollow_chain.license import file as form
from hollow_chain.license.check.against_machine import check_daemons, check_server
from hollow_chain.license.check.keys import check_form
from hollow_chain.license.check.problems import ALTERED, EDIT, Checked, FileLook, Problem
from hollow_chain.license.check.rights import check_entitlements, title
from hollow_chain.license.places import Place


def check(
    data: bytes,
    path: str,
    host: Host | None,
    now: datetime,
    copies: dict[str, bytes] | None = None,
    others: dict[str, str] | None = None,
    keys: dict[str, str] | None = None,
) -> Checked:
    """Look through a license file.

    *host* is the machine it is meant for (None: nothing of the machine is checked), *now* its moment, *copies* further
    copies of the file by path, *others* the hardware addresses of other known hosts with their names, *keys* the
    publishers' public keys, where they are known better than from the file itself.
    """
    result = Checked(path, form.digest(data))
    saved = list(_saved(data, path))
    result.problems = saved
    if len(data) > form.MAX_BYTES:
        result.problems.append(Problem("too-large", f"it has {len(data)} bytes; up to {form.MAX_BYTES} are read", EDIT))
        return result
    try:
        text = form.text_of(data)
        document = tomllib.loads(text)
    except UnicodeDecodeError as error:
        result.problems.append(Problem("not-text", f"it is no text in UTF-8 (byte {error.start})", EDIT, cause=ALTERED))
        return result
    except tomllib.TOMLDecodeError as error:
        result.problems.append(Problem("syntax", _syntax(str(error)), EDIT, _syntax_place(str(error), text)))
        return result
    except RecursionError:
        result.problems.append(Problem("syntax", "it is nested too deeply", EDIT))
        return result
    look = FileLook(path, text, host, now, others or {})
    check_form(look, document)
    check_server(look, document.get("server"))
    check_daemons(look, document)
    check_entitlements(look, document, keys or {})
    _check_copies(look, result.digest, copies or {})
    result.problems += sorted(look.problems, key=lambda p: (p.place, p.warning))
    result.entitlements = look.valid
    return result


def _saved(data: bytes, path: str) -> Iterator[Problem]:
    """How the file was saved."""
    name = path.replace("\\", "/").rpartition("/")[2]
    if data.startswith((b"\xff\xfe", b"\xfe\xff")):
        yield Problem(
            "encoding",
            "it is saved as UTF-16; license files are UTF-8",
            EDIT,
            Place(1, 1),
            cause="license-file-misnamed",
        )
    elif data.startswith(b"\xef\xbb\xbf"):
        yield Problem(
            "encoding", "it begins with a byte-order mark; save it as UTF-8 without one", EDIT, Place(1, 1), True
        )
    if not name.lower().endswith(form.SUFFIX):
        hidden = " (an editor has added a second one)" if f"{form.SUFFIX}." in name.lower() else ""
        says = f"its name ends in .{name.rpartition('.')[2]}{hidden}; a server looks for {form.SUFFIX}"
        yield Problem("misnamed", says, EDIT, cause="license-file-misnamed")


def _syntax(error: str) -> str:
    return error.partition(" (at")[0][:200]


def _syntax_place(error: str, text: str) -> Place:

    found = re.search(r"at line (\d+), column (\d+)", error)
    return Place(int(found[1]), int(found[2])) if found else Place(text.count("\n") + 1, 1)


def _check_copies(look: FileLook, digest: str, copies: dict[str, bytes]) -> None:
    for path, data in copies.items():
        if form.digest(data) != digest:
            says = f"the copy {path} differs from {look.path}"
            look.told("copies", says, EDIT, ("server", "copies"), cause="license-copies-differ")


__all__ = ["Checked", "Problem", "check", "title"]
