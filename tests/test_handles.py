"""Files by handle: what others have put in the way is not followed, not waited for, and not changed."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from pathlib import Path

import pytest

from hollow_chain.facts.runs import LastRun
from hollow_chain.facts.service import Account, Program, Service
from hollow_chain.mend import files_kept as kept
from hollow_chain.mend.hands import NotDone
from hollow_chain.reach.handles import ForeignLink, NotOpened, Walker, identity, opened
from hollow_chain.reach.here import here
from hollow_chain.sources.evidence_files import EvidenceReader
from hollow_chain.sources.looks import Looker

pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="needs files of several accounts")
CREW = 12345
"""The number of an account without rights."""


@pytest.fixture()
def crews(tmp_path: Path) -> Path:
    """A folder of crew's, beside a file that only root may read."""
    secret = tmp_path / "secret"
    secret.write_text("of root\n")
    secret.chmod(0o600)
    folder = tmp_path / "crew"
    folder.mkdir()
    os.chown(folder, CREW, CREW)
    return folder


def made(path: Path, text: str = "of crew\n") -> Path:
    path.write_text(text)
    os.chown(path, CREW, CREW)
    return path


def linked(path: Path, to: Path | str, owner: int = CREW) -> Path:
    path.symlink_to(to)
    os.chown(path, owner, owner, follow_symlinks=False)
    return path


def content(path: Path) -> bytes:
    with Walker() as walker:
        return walker.read(str(path), 100).data


def test_links_of_roots_in_folders_of_roots_are_the_systems_own_order(tmp_path: Path, crews: Path) -> None:
    linked(tmp_path / "short", "secret", owner=0)
    linked(tmp_path / "round", "crew/../short", owner=0)
    assert content(tmp_path / "short") == content(tmp_path / "round") == b"of root\n"
    with Walker() as walker:
        found = walker.find("/proc/self/../../" + str(tmp_path / "short"))
        assert found.path == str(tmp_path / "secret") and found.alone


def test_links_of_others_are_not_followed(tmp_path: Path, crews: Path) -> None:
    linked(crews / "log", tmp_path / "secret")
    linked(crews / "deep", tmp_path)
    linked(crews / "planted", tmp_path / "secret", owner=0)  # in a folder of crew's nobody knows who meant it
    for name in ("log", "deep/secret", "planted", "deep/crew/log"):
        with pytest.raises(ForeignLink):
            content(crews / name)
    with Walker(any_link=True) as walker:
        found = walker.find(str(crews / "deep" / "secret"))
        assert found.through_link and not found.alone and found.path == str(tmp_path / "secret")


def test_what_is_no_file_of_a_disk_is_not_opened(crews: Path) -> None:
    os.mkfifo(crews / "pipe")
    os.mknod(crews / "device", 0o600 | stat.S_IFCHR, os.makedev(1, 3))
    for path in (
        crews / "pipe",
        crews / "device",
        Path("/proc/kmsg"),
        Path("/proc/self/environ"),
        crews,
        Path("/dev/null"),
    ):
        with pytest.raises(OSError):
            content(path)
    for path in ("relative", "/a\0b", "/" + "x" * 5000):
        with Walker() as walker, pytest.raises(OSError):
            walker.find(path)


def test_a_loop_of_links_ends(tmp_path: Path) -> None:
    linked(tmp_path / "a", "b", owner=0)
    linked(tmp_path / "b", "a", owner=0)
    with Walker() as walker, pytest.raises(NotOpened):
        walker.find(str(tmp_path / "a"))


def test_a_second_name_that_others_gave_is_not_read_or_changed(tmp_path: Path, crews: Path) -> None:
    os.link(tmp_path / "secret", crews / "log")
    assert content(tmp_path / "secret") == b"of root\n"
    with pytest.raises(NotOpened):
        content(crews / "log")
    for change in (
        lambda: kept.set_mode(crews / "log", 0o644),
        lambda: kept.set_owner(crews / "log", str(CREW), str(CREW)),
    ):
        with pytest.raises(NotDone):
            change()
    assert stat.S_IMODE((tmp_path / "secret").stat().st_mode) == 0o600


def test_an_opened_file_is_the_one_that_was_meant(crews: Path) -> None:
    path = made(crews / "own")
    with Walker() as walker:
        found = walker.find(str(path))
        assert found.about is not None
        was = identity(found.about)
        made(crews / "other").replace(path)
        with pytest.raises(NotOpened), opened(found, was):
            pass


def test_folders_are_listed_by_handle(tmp_path: Path, crews: Path) -> None:
    made(crews / "b"), made(crews / "a")
    linked(crews / "away", tmp_path)
    with Walker() as walker:
        assert walker.names(str(crews)) == ["a", "away", "b"]
        assert walker.names(str(crews / "away")) == walker.names(str(crews / "a")) == []


def test_many_folders_need_few_handles(tmp_path: Path) -> None:
    for number in range(450):
        (tmp_path / str(number)).mkdir()
        (tmp_path / str(number) / "x").touch()
    with Walker() as walker:
        found = [walker.find(str(tmp_path / str(number) / "x")) for number in range(450)]
        before = len(os.listdir("/proc/self/fd"))  # noqa: PTH208
        del found
        assert len(os.listdir("/proc/self/fd")) < before - 200  # noqa: PTH208


# Reading for evidence.


@pytest.fixture()
def reader() -> Iterator[EvidenceReader]:
    with EvidenceReader(here()) as one:
        yield one


def desk(user: str = str(CREW)) -> Service:
    return Service(name="desk.service", program=Program(path="/x"), account=Account(user=user), last=LastRun())


def test_a_file_says_something_about_a_service_by_its_owner(
    crews: Path, tmp_path: Path, reader: EvidenceReader
) -> None:
    own, roots, others = made(crews / "own"), tmp_path / "roots", made(crews / "others")
    roots.write_text("x")
    os.chown(others, CREW + 1, CREW + 1)
    open_to_all = made(crews / "open")
    open_to_all.chmod(0o666)
    told = {path.name: reader.text(desk(), str(path)) for path in (own, roots, others, open_to_all)}
    assert {name: text.trust if text else None for name, text in told.items()} == {
        "own": "own", "roots": "trusted", "others": None, "open": "told",
    }  # fmt: skip


def test_a_folder_of_its_name_that_root_gave_away_is_the_services(tmp_path: Path, reader: EvidenceReader) -> None:
    """Programs that start as root and change to an account of their own: the definition does not tell that account."""
    folder = tmp_path / "desk"
    folder.mkdir()
    os.chown(folder, CREW, 0)
    found = reader.text(Service(name="desk-server.service", program=Program(path="/x")), str(made(folder / "x.log")))
    assert found is not None and found.trust == "own"
    assert reader.text(Service(name="till.service", program=Program(path="/x")), str(folder / "x.log")) is None


def test_what_is_too_long_is_read_from_its_end_or_not_at_all(crews: Path, reader: EvidenceReader) -> None:
    path = made(crews / "long", "a" * 50 + "\n" + "b" * 50)
    assert reader.text(desk(), str(path), 60) is None
    found = reader.text(desk(), str(path), 60, from_end=True)
    assert found is not None and found.text.endswith("b" * 50) and not found.whole


# Keeping, changing and putting back.


def test_a_link_that_is_swapped_in_shows_nothing(tmp_path: Path, crews: Path) -> None:
    path = made(crews / "desk.pid", "4711\n")
    known = kept.keep(path, content=True)
    path.unlink()
    linked(path, tmp_path / "secret")
    assert "content" not in kept.keep(path, content=True)
    kept.put_back(path, known)
    assert path.read_text() == "4711\n" and not path.is_symlink() and path.stat().st_uid == CREW
    assert (tmp_path / "secret").read_text() == "of root\n"


def test_a_folder_that_is_swapped_keeps_its_mode(tmp_path: Path, crews: Path) -> None:
    folder = crews / "work"
    folder.mkdir(mode=0o700)
    os.chown(folder, CREW, CREW)
    known = kept.keep(folder)
    kept.set_mode(folder, 0o750, known)
    folder.rmdir()
    linked(folder, tmp_path)
    mode = stat.S_IMODE(tmp_path.stat().st_mode)
    for deed in (lambda: kept.put_back(folder, known), lambda: kept.set_mode(folder, 0o777, known)):
        with pytest.raises(NotDone):
            deed()
    linked(crews / "way", tmp_path)
    with pytest.raises(NotDone):
        kept.set_owner(crews / "way" / "secret", str(CREW), str(CREW))
    with pytest.raises(NotDone):
        kept.make_folder(crews / "way" / "new", str(CREW), str(CREW))
    assert stat.S_IMODE(tmp_path.stat().st_mode) == mode and (tmp_path / "secret").stat().st_uid == 0


def test_what_was_set_aside_comes_back_or_is_destroyed(crews: Path) -> None:
    path = made(crews / "desk.pid", "4711\n")
    os.utime(path, ns=(1, 2_000_000_001))
    known = kept.keep(path, content=True)
    kept.set_aside(path, known, "m-1")
    assert not path.exists() and len(list(crews.iterdir())) == 1
    kept.back_from_aside(path, known, "m-1")
    assert path.read_text() == "4711\n" and [p.name for p in crews.iterdir()] == ["desk.pid"]
    kept.set_aside(path, known, "m-1")
    kept.drop_aside(path, known, "m-1")
    assert list(crews.iterdir()) == []
    kept.back_from_aside(path, known, "m-1")  # from the journal
    about = path.stat()
    assert path.read_text() == "4711\n" and (about.st_uid, about.st_mtime_ns) == (CREW, 2_000_000_001)


def test_another_file_in_its_place_is_not_set_aside(crews: Path) -> None:
    path = made(crews / "desk.pid", "4711\n")
    known = kept.keep(path, content=True)
    made(crews / "new").replace(path)
    with pytest.raises(NotDone):
        kept.set_aside(path, known, "m-1")
    assert path.exists()


def test_a_file_that_grew_since_keeps_what_it_says(crews: Path) -> None:
    """Undoing a change of owner or mode is no reason to lose what was written meanwhile."""
    path = made(crews / "desk.log", "one\n")
    known = kept.keep(path)
    kept.set_mode(path, 0o640, known)
    with path.open("a") as log:
        log.write("two\n")
    kept.put_back(path, known)
    assert path.read_text() == "one\ntwo\n" and stat.S_IMODE(path.stat().st_mode) == known["mode"]


def test_files_of_ours_are_written_where_only_root_writes(crews: Path, tmp_path: Path) -> None:
    with pytest.raises(NotDone, match="others may write"):
        kept.write_new(crews / "x.conf", b"x")
    kept.write_new(tmp_path / "x.conf", b"x")
    linked(tmp_path / "y.conf", tmp_path / "secret", owner=0)
    kept.write_new(tmp_path / "y.conf", b"y")
    assert (tmp_path / "secret").read_text() == "of root\n" and not (tmp_path / "y.conf").is_symlink()


def test_what_runs_as_its_owner_is_for_a_person(crews: Path) -> None:
    path = made(crews / "tool")
    path.chmod(0o4755)
    with pytest.raises(NotDone, match="by hand"):
        kept.set_owner(path, "0", "0")


def test_a_look_follows_links_and_tells_them(tmp_path: Path, crews: Path) -> None:
    made(crews / "old-2")
    linked(crews / "now", crews / "old-2")
    looker = Looker(here())
    found = looker.look(str(crews / "now"))
    assert found is not None and found.exists and found.kind == "file" and found.link_to
    linked(crews / "way", tmp_path)
    behind = looker.look(str(crews / "way" / "secret"))
    assert behind is not None and behind.link_to == str(tmp_path / "secret")
    lock = looker.look(str(linked(crews / "x.lock", tmp_path / "secret")))
    assert lock is not None
    looker.add_lock(lock)
    assert lock.names_process == 0


def test_after_a_reboot_the_device_may_have_another_number(tmp_path: Path, crews: Path) -> None:
    for path in (tmp_path / "roots", crews / "own"):
        made(path)
        known = kept.keep(path)
        kept.set_mode(path, 0o600, known)
        known["is"][0] += 1
        kept.put_back(path, known)
        assert stat.S_IMODE(path.stat().st_mode) == known["mode"]
    known["is"][1] += 1  # another file, where crew may have put it
    with pytest.raises(NotDone, match="left as it is"):
        kept.put_back(crews / "own", known)
    del known["is"]  # as in a journal of the first version
    with pytest.raises(NotDone, match="left as it is"):
        kept.put_back(crews / "own", known)
    kept.put_back(tmp_path / "roots", known)


def test_what_is_missing_behind_a_link_of_others_is_not_made(tmp_path: Path, crews: Path) -> None:
    linked(crews / "way", tmp_path)
    found = Looker(here()).look(str(crews / "way" / "new"))
    assert found is not None and not found.exists and found.link_to == str(tmp_path / "new")
    with pytest.raises(NotDone):
        kept.make_folder(crews / "way" / "new", str(CREW), str(CREW))
    assert not (tmp_path / "new").exists()


def test_a_folder_with_something_in_it_is_not_the_one_just_made(crews: Path) -> None:
    (crews / "roots").mkdir()
    (crews / "roots" / "x").touch()
    with pytest.raises(NotDone, match="something else"):
        kept.make_folder(crews / "roots", str(CREW), str(CREW))
    assert (crews / "roots").stat().st_uid == 0
