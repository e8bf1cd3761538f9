"""Who has a lock on a file, by the tables of the kernel: the number of a file alone is that of others elsewhere, too."""

from __future__ import annotations

import fcntl
import os
from pathlib import Path

import pytest

from hollow_chain.reach.file_locks import FileLocks
from hollow_chain.reach.posix.processes import LocalProcesses

MOUNTED = """21 1 8:1 / / rw - ext4 /dev/sda1 rw
22 21 0:46 / /run rw - tmpfs tmpfs rw
23 21 0:47 / /tmp rw - tmpfs tmpfs rw
24 21 0:60 / /srv rw - btrfs /dev/sdb rw
25 21 0:61 / /mnt rw - overlay overlay rw
"""


def about(device: tuple[int, int], number: int) -> os.stat_result:
    return os.stat_result((0o100644, number, os.makedev(*device), 1, 0, 0, 0, 0, 0, 0))


def lock(process: int, place: str) -> str:
    return f"1: FLOCK  ADVISORY  WRITE {process} {place} 0 EOF\n"


@pytest.mark.parametrize(
    ("table", "device", "holder"),
    [
        (lock(71, "00:2e:165"), (0, 46), 71),
        (lock(71, "00:2e:165"), (0, 47), 0),  # a file of another tmpfs has the same number
        (lock(71, "00:2e:165") + lock(72, "00:2f:165"), (0, 47), 72),
        (lock(71, "00:3c:165"), (0, 900), 71),  # a subvolume has a device of its own, its locks that of the whole
        (lock(71, "00:3d:165"), (0, 901), 71),
        (lock(71, "00:2e:165"), (0, 900), 0),
        (lock(71, "08:01:165"), (8, 1), 71),
        ("1: -> FLOCK  ADVISORY  WRITE 73 00:2e:165 0 EOF\n", (0, 46), 0),  # waits for it
        ("1: OFDLCK ADVISORY  WRITE -1 00:2e:165 0 EOF\n", (0, 46), 0),
        ("1: FLOCK  ADVISORY  WRITE x 00:2e:165 0 EOF\n2: FLOCK\n\n: : :\n", (0, 46), 0),
        ("1: FLOCK  ADVISORY  WRITE 71 zz:yy:165 0 EOF\n", (0, 46), 0),
        ("", (0, 46), 0),
    ],
)
def test_a_lock_is_on_the_file_of_its_own_device(table: str, device: tuple[int, int], holder: int) -> None:
    locks = FileLocks(table, MOUNTED)
    assert locks.holder(about(device, 165)) == holder
    assert locks.holder(about(device, 166)) == 0
    assert bool(locks) == bool(locks.processes)


def test_a_lock_of_ours_is_found_by_the_kernel_of_this_machine(tmp_path: Path) -> None:
    path = tmp_path / "desk.lock"
    with path.open("w") as held:
        fcntl.flock(held, fcntl.LOCK_EX)
        assert LocalProcesses().locks().holder(path.stat()) == os.getpid()
    assert LocalProcesses().locks().holder(path.stat()) == 0
