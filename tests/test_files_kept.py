"""Files as they were: kept before a step, and put back byte for byte."""

from __future__ import annotations

import os
import stat
from pathlib import Path
from typing import Any

import pytest

from hollow_chain.mend import files_kept as kept
from hollow_chain.mend.hands import NotDone


def seen(path: Path) -> dict[str, Any]:
    """All of a path that can be told apart."""
    if not os.path.lexists(path):
        return {}
    about = path.lstat()
    found: dict[str, Any] = {"mode": about.st_mode, "owner": (about.st_uid, about.st_gid)}
    if path.is_symlink():
        return found | {"to": str(path.readlink())}
    return found | ({"content": path.read_bytes(), "changed": about.st_mtime_ns} if path.is_file() else {})


def a_file(path: Path) -> None:
    path.write_bytes(b"\x00\xffberth\n")
    path.chmod(0o640)
    os.utime(path, ns=(1_000_000_000, 2_000_000_001))


def a_folder(path: Path) -> None:
    path.mkdir()
    path.chmod(0o750)


def a_link(path: Path) -> None:
    path.symlink_to("/dev/null")


def nothing(path: Path) -> None:
    pass


BEFORE = {"file": a_file, "folder": a_folder, "link": a_link, "nothing": nothing}


def removed(path: Path) -> None:
    if path.is_dir() and not path.is_symlink():
        path.rmdir()
    else:
        path.unlink(missing_ok=True)


def another_file(path: Path) -> None:
    removed(path)
    path.write_text("other")


def another_mode(path: Path) -> None:
    if path.exists() and not path.is_symlink():
        path.chmod(0o777)


AFTER = {"removed": removed, "another file": another_file, "another mode": another_mode, "untouched": nothing}


@pytest.mark.parametrize("after", AFTER)
@pytest.mark.parametrize("before", BEFORE)
def test_whatever_happened_it_is_put_back(before: str, after: str, tmp_path: Path) -> None:
    path = tmp_path / "thing"
    BEFORE[before](path)
    was, known = seen(path), kept.keep(path, content=True)
    AFTER[after](path)
    if before == "folder" and after == "another file":
        with pytest.raises(NotDone):
            kept.put_back(path, known)
        return
    kept.put_back(path, known)
    assert seen(path) == was
    kept.put_back(path, known)  # once more does no harm
    assert seen(path) == was


def test_a_folder_that_is_used_by_now_is_left(tmp_path: Path) -> None:
    known = kept.keep(tmp_path / "made")
    kept.make_folder(tmp_path / "made" / "below", str(os.getuid()), str(os.getgid()))
    (tmp_path / "made" / "below" / "work").write_text("x")
    with pytest.raises(NotDone, match="something in it"):
        kept.put_back(tmp_path / "made", known)
    assert (tmp_path / "made" / "below" / "work").read_text() == "x"


def test_folders_are_made_with_what_is_missing_above(tmp_path: Path) -> None:
    path = tmp_path / "a" / "b" / "c"
    assert kept.missing(path) == [tmp_path / "a", tmp_path / "a" / "b", path]
    kept.make_folder(path, str(os.getuid()), str(os.getgid()))
    assert stat.S_IMODE(path.stat().st_mode) == 0o755 and kept.missing(path) == []


def test_symbolic_links_are_not_followed(tmp_path: Path) -> None:
    (tmp_path / "own").write_text("x")
    (tmp_path / "own").chmod(0o600)
    (tmp_path / "trap").symlink_to(tmp_path / "own")
    for change in (
        lambda: kept.set_mode(tmp_path / "trap", 0o777),
        lambda: kept.set_owner(tmp_path / "trap", "0", "0"),
    ):
        with pytest.raises(NotDone):
            change()
    assert stat.S_IMODE((tmp_path / "own").stat().st_mode) == 0o600


def test_an_owner_that_is_not_there_is_told(tmp_path: Path) -> None:
    (tmp_path / "own").write_text("x")
    with pytest.raises(NotDone, match="nobody-of-that-name"):
        kept.set_owner(tmp_path / "own", "nobody-of-that-name", "root")


def test_what_is_too_large_cannot_be_put_back(tmp_path: Path) -> None:
    with (tmp_path / "large").open("wb") as file:
        file.truncate(kept.MAX_KEPT + 1)
    known = kept.keep(tmp_path / "large", content=True)
    assert known["kind"] == "large"
    (tmp_path / "large").unlink()
    with pytest.raises(NotDone, match="could not be kept"):
        kept.put_back(tmp_path / "large", known)


def links(folder: Path) -> dict[str, str]:
    found = {str(p.relative_to(folder)): str(p.readlink()) if p.is_symlink() else "folder" for p in folder.rglob("*")}
    return dict(sorted(found.items()))


def test_links_of_the_units_are_put_back_and_those_of_others_left(tmp_path: Path) -> None:
    for name in ("multi-user.target.wants", "old.target.wants"):
        (tmp_path / name).mkdir()
    (tmp_path / "old.target.wants" / "berth.service").symlink_to("/lib/berth.service")
    (tmp_path / "fog.service").symlink_to("/dev/null")
    known, before = kept.links_below([tmp_path]), links(tmp_path)
    (tmp_path / "old.target.wants" / "berth.service").unlink()
    (tmp_path / "old.target.wants").rmdir()
    (tmp_path / "new.target.requires").mkdir()
    (tmp_path / "new.target.requires" / "berth.service").symlink_to("/lib/berth.service")
    (tmp_path / "quay.service").symlink_to("/lib/berth.service")
    (tmp_path / "berth.service").symlink_to("/dev/null")
    (tmp_path / "multi-user.target.wants" / "other.service").symlink_to("/lib/other.service")
    (tmp_path / "fog.service").unlink()
    kept.put_links_back([tmp_path], known, {"berth.service"})
    after = links(tmp_path)
    assert after.pop("multi-user.target.wants/other.service") == "/lib/other.service"
    assert before.pop("fog.service") == "/dev/null"
    assert after == before
