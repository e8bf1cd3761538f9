"""A folder of data, given to an account with all of root's in it, and back: nothing else is touched on the way."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from hollow_chain.mend import trees
from hollow_chain.mend.hands import NotDone

pytestmark = pytest.mark.skipif(
    getattr(os, "geteuid", lambda: 1)() != 0, reason="only root can give a file to somebody else"
)
ACCOUNT, GROUP = 65534, 65534


def owners(folder: Path) -> dict[str, tuple[int, int, int]]:
    """Owner, group and mode of all in a folder, links themselves among it."""
    found = [folder, *sorted(folder.rglob("*"))]
    seen = ((path, path.lstat()) for path in found)
    return {str(path.relative_to(folder)): (about.st_uid, about.st_gid, about.st_mode) for path, about in seen}


@pytest.fixture()
def data(tmp_path: Path) -> Path:
    """A folder with files, a folder in it, one that is somebody else's, and links that lead out."""
    folder = tmp_path / "data"
    (folder / "deep" / "deeper").mkdir(parents=True)
    (tmp_path / "outside").mkdir()
    (tmp_path / "outside" / "secret").write_text("root's")
    for name in ("a", "deep/b", "deep/deeper/c"):
        (folder / name).write_text(name)
        (folder / name).chmod(0o640)
    (folder / "own").write_text("the account's already")
    os.chown(folder / "own", 1234, 1234)
    (folder / "leads-out").symlink_to(tmp_path / "outside" / "secret")
    (folder / "leads-away").symlink_to(tmp_path / "outside")
    return folder


def test_all_of_roots_is_given_and_comes_back(data: Path, tmp_path: Path) -> None:
    before, outside = owners(data), owners(tmp_path / "outside")
    kept = trees.keep(data)
    assert len(kept["entries"]) == 6
    trees.give(data, kept, str(ACCOUNT), str(GROUP))
    given = owners(data)
    for name, (user, group, mode) in given.items():
        mine = name not in ("own", "leads-out", "leads-away")
        assert (user, group) == ((ACCOUNT, GROUP) if mine else before[name][:2]) and mode == before[name][2], name
    assert owners(tmp_path / "outside") == outside
    trees.put_back(data, kept)
    assert owners(data) == before


def test_what_came_meanwhile_is_left(data: Path) -> None:
    kept = trees.keep(data)
    (data / "a").unlink()
    (data / "a").mkdir()
    (data / "new").write_text("root's own, of after the look")
    trees.give(data, kept, str(ACCOUNT), str(GROUP))
    assert owners(data)["a"][0] == 0 and owners(data)["new"][0] == 0 and owners(data)["deep/b"][0] == ACCOUNT


def test_a_second_name_and_one_that_runs_as_its_owner_are_for_a_person(data: Path, tmp_path: Path) -> None:
    os.link(tmp_path / "outside" / "secret", data / "z")
    with pytest.raises(NotDone, match="second name"):
        trees.keep(data)
    (data / "z").unlink()
    kept = trees.keep(data)
    (data / "a").chmod(0o4755)
    with pytest.raises(NotDone, match="runs as its owner"):
        trees.keep(data)
    (data / "deep" / "b").unlink()
    os.link(tmp_path / "outside" / "secret", data / "deep" / "b")
    trees.give(data, kept, str(ACCOUNT), str(GROUP))
    assert (tmp_path / "outside" / "secret").stat().st_uid == 0


def test_a_link_in_the_place_of_the_folder_is_refused_and_so_is_too_much(
    data: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "there").symlink_to(data)
    with pytest.raises(NotDone):
        trees.keep(tmp_path / "there")
    monkeypatch.setattr(trees, "MOST", 3)
    with pytest.raises(NotDone, match="more than 3 files"):
        trees.keep(data)
    with pytest.raises(NotDone, match="cannot give"):
        trees.give(data, {"entries": []}, "nobody-of-this-name", "0")
