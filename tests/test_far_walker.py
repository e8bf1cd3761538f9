"""Files of a far host are found and read by the rules of this machine: the same trees, seen from both sides."""

from __future__ import annotations

import io
import os
import tarfile
from concurrent.futures import Future
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hollow_chain.reach.handles import ForeignLink, NotOpened, Walker
from hollow_chain.reach.ssh.answers import Answers, contents, parsed
from hollow_chain.reach.ssh.mounts import Mounts
from hollow_chain.reach.ssh.walker import FarWalker
from tests.test_far_parts import _asked

pytestmark = pytest.mark.skipif(os.name == "nt", reason="hosts over SSH are of the other kind")


class Near(Answers):
    """What a host over SSH would answer, of this machine; questions are counted."""

    def __init__(self) -> None:
        super().__init__(None)  # type: ignore[arg-type]  # nobody is there to ask
        self.rounds = 0
        self.wait_for = self.answer_now

    def answer_now(self, questions: Any) -> None:
        self.rounds += 1
        for kind, path in questions:
            if kind == "stat":
                try:
                    self._known[path] = parsed(_asked(path)).get(path)
                except OSError:
                    self._known[path] = None
            elif kind == "names":
                self._names[path] = sorted(one.name for one in Path(path).iterdir()) if Path(path).is_dir() else []
            else:
                self._contents[path] = contents(_archive(path)).get(path)

    def ask(self, questions: Any) -> Future[None]:
        raise AssertionError(questions)


def _archive(path: str) -> bytes:
    made = io.BytesIO()
    with tarfile.open(fileobj=made, mode="w") as archive:
        archive.add(path, arcname=path, recursive=False, filter=lambda one: _at(one, path))
    return made.getvalue()


def _at(one: tarfile.TarInfo, path: str) -> tarfile.TarInfo:
    one.name = path
    return one


def _walker(answers: Answers, any_link: bool = False, mounts: str = "") -> FarWalker:
    return FarWalker(answers, Mounts(mounts), None, os.geteuid(), any_link)  # type: ignore[arg-type]


def _seen(walker: Walker, path: str) -> Any:
    try:
        found = walker.find(path)
    except OSError as error:
        return type(error).__name__, error.errno
    about = found.about
    return found.path, found.through_link, found.alone, (about.st_ino, about.st_mode, about.st_size) if about else None


NAMES = st.sampled_from(["a", "b", "c", "..", "."])
PATHS = st.lists(NAMES, min_size=1, max_size=4).map("/".join)
TREES = st.lists(st.tuples(st.sampled_from(["folder", "file", "link"]), PATHS, PATHS), max_size=12)


@given(TREES, st.lists(PATHS, min_size=1, max_size=6), st.booleans())
def test_a_far_walk_ends_where_a_near_one_does(
    tmp_path_factory: pytest.TempPathFactory, tree: list[tuple[str, str, str]], asked: list[str], any_link: bool
) -> None:
    root = tmp_path_factory.mktemp("tree")
    for kind, path, target in tree:
        place = root / path
        try:
            if kind == "folder":
                place.mkdir(parents=True, exist_ok=True)
            elif kind == "file":
                place.write_text(path)
            else:
                place.symlink_to(target)
        except OSError:
            continue
    near, far = Walker(any_link), _walker(Near(), any_link)
    for path in asked:
        assert _seen(far, f"{root}/{path}") == _seen(near, f"{root}/{path}")


def test_a_path_costs_one_question_and_its_links_one_more(tmp_path: Path) -> None:
    (tmp_path / "one/two/three").mkdir(parents=True)
    (tmp_path / "one/two/three/file").write_text("x")
    (tmp_path / "led").symlink_to("one/two")
    answers = Near()
    far = _walker(answers)
    assert far.find(f"{tmp_path}/one/two/three/file").about is not None
    assert answers.rounds == 2  # the root folder, and the rest at once
    assert far.find(f"{tmp_path}/led/three/file").about is not None
    assert answers.rounds == 3


def test_nothing_behind_a_mount_of_another_machine_is_touched(tmp_path: Path) -> None:
    (tmp_path / "far/deep").mkdir(parents=True)
    (tmp_path / "led").symlink_to("far/deep")
    line = f"36 35 0:42 / {tmp_path}/far rw - nfs4 server:/export rw\n"
    answers = Near()
    far = _walker(answers, True, line)
    for path in ("far/deep", "led"):
        with pytest.raises(NotOpened):
            far.find(f"{tmp_path}/{path}")
    assert not any(path.startswith(f"{tmp_path}/far/") for path in answers._known)
    far.expect([f"{tmp_path}/far/deep/x", f"{tmp_path}/led/x"])
    assert not any(path.startswith((f"{tmp_path}/far/", f"{tmp_path}/led/")) for path in answers._known)


def test_a_file_that_was_swapped_between_look_and_read_is_not_read(tmp_path: Path) -> None:
    """Whoever owns the folder puts a link to another's file in the place of his own, after it was looked at."""
    folder = tmp_path / "desk"
    folder.mkdir()
    folder.chmod(0o777)
    (folder / "log").write_text("what the desk says")
    secret = tmp_path / "secret"
    secret.write_text("what nobody else may read")
    os.utime(secret, (1, 1))
    answers = Near()
    far = _walker(answers)
    assert far.find(f"{folder}/log").about is not None
    # What comes is another's; asked anew, it is what it was, and that alone is taken.
    answers._contents[f"{folder}/log"] = contents(_archive(str(secret)))[str(secret)]
    assert far.read(f"{folder}/log", 100).data == b"what the desk says"
    always = contents(_archive(str(secret)))[str(secret)]
    answers.content = lambda path: always  # type: ignore[method-assign]
    with pytest.raises(NotOpened):
        far.read(f"{folder}/log", 100)


def test_links_of_others_and_second_names_are_not_read(tmp_path: Path) -> None:
    folder = tmp_path / "desk"
    folder.mkdir()
    (tmp_path / "own").write_text("own")
    (folder / "led").symlink_to(tmp_path / "own")
    (folder / "second").hardlink_to(tmp_path / "own")
    folder.chmod(0o777)
    far = _walker(Near())
    with pytest.raises(ForeignLink):
        far.read(f"{folder}/led", 100)
    with pytest.raises(NotOpened):
        far.read(f"{folder}/second", 100)
    for path in ("/dev/null", str(folder)):
        with pytest.raises(OSError):
            far.read(path, 100)


def test_the_end_of_a_file(tmp_path: Path) -> None:
    (tmp_path / "log").write_text("0123456789")
    content = _walker(Near()).read(f"{tmp_path}/log", 4, from_end=True)
    assert (content.data, content.begins) == (b"6789", 6)
    assert _walker(Near()).read(f"{tmp_path}/log", 4).data == b"0123"


def test_lists_of_packages_are_asked_in_one_question(tmp_path: Path) -> None:
    answers = Near()
    answers.packages_naming = lambda lines: [  # type: ignore[method-assign]
        b"/var/lib/dpkg/info/desk:amd64.list:" + line for line in lines if line == b"/opt/desk"
    ]
    found = list(_walker(answers).whole_lines("/var/lib/dpkg/info", ".list", [b"/opt/desk", b"", b"/opt/x"], 10))
    assert found == [("desk:amd64.list", b"/opt/desk")]
    (tmp_path / "a.list").write_text("x\n/opt/desk\n")
    assert list(_walker(Near()).whole_lines(str(tmp_path), ".list", [b"/opt/desk"], 100)) == [("a.list", b"/opt/desk")]
