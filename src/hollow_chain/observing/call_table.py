"""The calls that tell why a start fails, and what each is about (the manual pages of section 2)."""

from __future__ import annotations

from typing import NamedTuple

OPEN, LOOK, RUN, ENTER, MAKE, CHANGE, REMOVE = "open", "look", "run", "enter", "make", "change", "remove"
RENAME = "rename"
BIND, CONNECT, LISTEN, LOCK, WRITE = "bind", "connect", "listen", "lock", "write"
IDENTITY, RIGHT, ROOM, MOUNT = "identity", "right", "room", "mount"
ASK = "ask"
"""Asks whether a process is there (kill(2), signal 0)."""


class KnownCall(NamedTuple):
    """What a call is about."""

    kind: str
    path: int | None = None
    """The argument that names the path, or the address."""
    folder: int | None = None
    """The argument with the descriptor of the folder that a relative path begins at; None: the working folder."""
    descriptor: int | None = None
    """The argument with the descriptor that it is about."""
    writes: bool = False
    """Whether it needs the right to write to what it names, or to the folder that this lies in."""


def _rows(kind: str, names: str, **more: int | bool) -> dict[str, KnownCall]:
    return {name: KnownCall(kind, **more) for name in names.split()}  # type: ignore[arg-type]


CALLS: dict[str, KnownCall] = {
    **_rows(OPEN, "open creat", path=0),
    **_rows(OPEN, "openat openat2", path=1, folder=0),
    **_rows(LOOK, "access stat stat64 lstat lstat64 readlink statfs", path=0),
    **_rows(LOOK, "faccessat faccessat2 newfstatat fstatat64 statx readlinkat", path=1, folder=0),
    **_rows(RUN, "execve", path=0),
    **_rows(RUN, "execveat", path=1, folder=0),
    **_rows(ENTER, "chdir chroot", path=0),
    **_rows(ENTER, "fchdir", descriptor=0),
    **_rows(MAKE, "mkdir mknod", path=0, writes=True),
    **_rows(MAKE, "mkdirat mknodat", path=1, folder=0, writes=True),
    **_rows(MAKE, "link symlink", path=1, writes=True),
    **_rows(MAKE, "linkat", path=3, folder=2, writes=True),
    **_rows(RENAME, "rename", path=1, writes=True),
    **_rows(RENAME, "renameat renameat2", path=3, folder=2, writes=True),
    **_rows(MAKE, "symlinkat", path=2, folder=1, writes=True),
    **_rows(CHANGE, "chmod chown lchown truncate utimensat setxattr", path=0, writes=True),
    **_rows(CHANGE, "fchmodat fchmodat2 fchownat", path=1, folder=0, writes=True),
    **_rows(CHANGE, "fchmod fchown", descriptor=0, writes=True),
    **_rows(REMOVE, "unlink rmdir", path=0, writes=True),
    **_rows(REMOVE, "unlinkat", path=1, folder=0, writes=True),
    **_rows(BIND, "bind", path=1, descriptor=0),
    **_rows(CONNECT, "connect", path=1, descriptor=0),
    # What came of a connection that was not waited for (connect(2), ``EINPROGRESS``).
    **_rows(CONNECT, "getsockopt", descriptor=0),
    **_rows(LISTEN, "listen", descriptor=0),
    **_rows(LOCK, "flock fcntl", descriptor=0),
    **_rows(WRITE, "write writev pwrite64 pwritev fallocate ftruncate fsync fdatasync", descriptor=0, writes=True),
    **_rows(IDENTITY, "setuid setgid setreuid setregid setresuid setresgid setgroups setfsuid setfsgid initgroups"),
    **_rows(RIGHT, "capset prctl unshare setns ptrace bpf perf_event_open keyctl add_key sethostname setdomainname settimeofday"),
    **_rows(RIGHT, "clock_settime adjtimex clock_adjtime sched_setscheduler sched_setattr sched_setaffinity setpriority ioprio_set"),
    **_rows(RIGHT, "setrlimit prlimit64 init_module finit_module reboot swapon acct quotactl personality seccomp iopl ioperm"),
    **_rows(RIGHT, "setsockopt io_uring_setup userfaultfd memfd_create shmget semget msgget"),
    **_rows(MOUNT, "mount umount2 pivot_root", path=1),
    **_rows(ROOM, "socket socketpair pipe pipe2 epoll_create1 eventfd2 inotify_init1 timerfd_create signalfd4 accept accept4"),
    **_rows(ROOM, "fork vfork clone clone3 mlock mlock2 mlockall mprotect"),
    **_rows(ROOM, "mmap", descriptor=4),
    **_rows(ROOM, "inotify_add_watch", path=1),
    **_rows(ASK, "kill"),
}  # fmt: skip
_ENDS = ("exit", "exit_group")
STARTS_ANOTHER = ("fork", "vfork", "clone", "clone3")
"""Calls that return the number of a new process or thread."""


def traced_names() -> str:
    """The calls as strace(1) takes them; a mark passes over those that a machine has not."""
    return ",".join(f"?{name}" for name in (*CALLS, *_ENDS))
