"""The isolated process takes its own rights away, for good, before it looks at a file from outside.

Layers, each useful where another is missing; ``confine`` returns the names of those that hold:

- ``user``: root becomes the system's ``nobody``, where Python and our code can be read by that user;
- ``namespaces``: no network, no other processes, no shared memory: a network with no interface, and capabilities that reach nothing;
- ``no_new_privs``: no program it could start would give rights back;
- ``landlock``: of all files only Python's, the system's libraries and our code can be read, none written (Linux 5.13 and later);
- ``syscalls``: only calls that reading a file needs (a filter compiled by ``compiled_filter``); the rest answer "not permitted".

Containers often forbid namespaces. ``SUFFICIENT`` says what must hold before files from strangers may be read in operation.
"""

from __future__ import annotations

import ctypes
import os
import pwd
import resource
import struct
import sys
from collections.abc import Iterable
from functools import cache
from pathlib import Path

#: Reading untrusted files is refused in operation unless all of one of these hold.
TOO_OPEN = "sandbox.too_open"
#: The code of a file that its reader did not foresee: refused in words like others, and written into the log.
UNFORESEEN = "sandbox.unforeseen"
SUFFICIENT = ({"syscalls", "landlock"}, {"syscalls", "namespaces", "user"})

#: Of all that runs in the process's own namespace.
MOST_THREADS = 16
_CLONE_NEW = {"user": 0x10000000, "net": 0x40000000, "ipc": 0x08000000, "uts": 0x04000000, "cgroup": 0x02000000}
_PR_SET_NO_NEW_PRIVS, _PR_SET_SECCOMP, _SECCOMP_MODE_FILTER, _PR_CAPBSET_DROP, _PR_SET_DUMPABLE = 38, 22, 2, 24, 4
_LANDLOCK_CREATE, _LANDLOCK_ADD, _LANDLOCK_RESTRICT = 444, 445, 446
_LANDLOCK_READ_FILE, _LANDLOCK_READ_DIR, _LANDLOCK_EXECUTE = 1 << 2, 1 << 3, 1 << 0
_LIBRARIES = ("/lib", "/lib64", "/usr/lib", "/usr/lib64", "/usr/share/zoneinfo", "/etc/ld.so.cache", "/proc/self")
#: What reading and computing need: memory, files by descriptor, clocks, threads of its own.
_ALLOWED = """
read readv pread64 write writev pwrite64 lseek close fstat newfstatat statx stat lstat openat open access faccessat faccessat2
readlink readlinkat getdents64 getcwd dup dup2 fcntl ftruncate fallocate fadvise64 memfd_create mmap munmap mprotect mremap brk
madvise mlock futex set_robust_list get_robust_list rseq set_tid_address sched_yield sched_getaffinity sched_setaffinity
sched_getparam sched_getscheduler getpriority clock_gettime clock_getres clock_nanosleep nanosleep gettimeofday time times
getrusage getrandom getpid gettid getppid getuid geteuid getgid getegid getgroups getresuid getresgid uname sysinfo prlimit64
getrlimit rt_sigaction rt_sigprocmask rt_sigreturn sigaltstack exit exit_group poll ppoll select pselect6 pipe2 eventfd2
arch_prctl restart_syscall membarrier getcpu mbind get_mempolicy
"""

_libc = ctypes.CDLL(None, use_errno=True)


@cache
def compiled_filter() -> bytes:
    """The system call filter as BPF, or nothing where it cannot be made; compiled in the parent, since that takes 0.1 s.

    Needs libseccomp (a part of every Debian).
    """
    try:
        import errno

        import pyseccomp
    except (ImportError, RuntimeError, OSError):
        return b""
    try:
        made = pyseccomp.SyscallFilter(defaction=pyseccomp.ERRNO(errno.EPERM))
        for name in _ALLOWED.split():
            _allow(made, name)
        # Threads may be started, processes not; what cannot be looked into answers "not there", so that threads come the older way.
        made.add_rule(pyseccomp.ALLOW, "clone", pyseccomp.Arg(0, pyseccomp.MASKED_EQ, 0x10000, 0x10000))
        made.add_rule(pyseccomp.ERRNO(errno.ENOSYS), "clone3")
        # Terminals are asked whether they are some; nothing else is asked of devices.
        made.add_rule(pyseccomp.ERRNO(errno.ENOTTY), "ioctl")
        with os.fdopen(os.memfd_create("filter"), "w+b") as file:
            made.export_bpf(file)
            file.seek(0)
            return file.read()
    except (RuntimeError, OSError, ValueError):
        return b""


def _allow(made: object, name: str) -> None:
    import pyseccomp

    try:
        made.add_rule(pyseccomp.ALLOW, name)  # type: ignore[attr-defined]
    except (RuntimeError, OSError, ValueError):
        return  # another machine's call


def confine(code_root: str, filter_: bytes) -> list[str]:
    """Take away what can be taken away here; returns the layers that hold. Called once, with one thread, before the file is opened."""
    readable = _readable_paths(code_root)
    held = []
    if _become_nobody(readable):
        held.append("user")
    if _libc.unshare(sum(_CLONE_NEW.values())) == 0:
        held.append("namespaces")
        resource.setrlimit(resource.RLIMIT_NPROC, (MOST_THREADS, MOST_THREADS))
    for capability in range(64):
        _libc.prctl(_PR_CAPBSET_DROP, capability, 0, 0, 0)
    _libc.prctl(_PR_SET_DUMPABLE, 0, 0, 0, 0)
    if _libc.prctl(_PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0) == 0:
        held.append("no_new_privs")
    if _landlock(readable):
        held.append("landlock")
    if filter_ and _filter_calls(filter_):
        held.append("syscalls")
    return held


def suffices(layers: Iterable[str]) -> bool:
    """Whether these layers are enough to read files from strangers."""
    return any(wanted <= set(layers) for wanted in SUFFICIENT)


def _readable_paths(code_root: str) -> list[str]:
    """Where Python, its packages and our code lie: nothing else is needed after the imports. A private checkout holds other things too."""
    own = [str(Path(code_root) / "didactor" / name) for name in ("__init__.py", "core")]
    python = {sys.prefix, sys.base_prefix, *(p for p in sys.path if p and p != code_root)}
    return [p for p in (*sorted(python), *own, *_LIBRARIES) if os.path.exists(p)]


def _become_nobody(readable: list[str]) -> bool:
    """Only root can, and only where nobody may enter the folders that are still needed."""
    if os.geteuid() != 0 or not all(_open_to_all(path) for path in readable):
        return False
    try:
        nobody = pwd.getpwnam("nobody")
        os.setgroups([])
        os.setresgid(nobody.pw_gid, nobody.pw_gid, nobody.pw_gid)
        os.setresuid(nobody.pw_uid, nobody.pw_uid, nobody.pw_uid)
    except (KeyError, OSError):
        return False
    return True


def _open_to_all(path: str) -> bool:
    real = Path(os.path.realpath(path))
    return all(folder.stat().st_mode & 0o001 for folder in real.parents) and bool(real.stat().st_mode & 0o004)


def _landlock(readable: list[str]) -> bool:
    """Reading below some folders, and nothing else of the file system; from version 4 on no TCP either."""
    version = _libc.syscall(_LANDLOCK_CREATE, None, ctypes.c_size_t(0), ctypes.c_uint32(1))
    if version < 1:
        return False
    files = (1 << 13) - 1
    if version >= 2:
        files |= 1 << 13
    if version >= 3:
        files |= 1 << 14
    if version >= 5:
        files |= 1 << 15
    attributes = struct.pack("QQ", files, 3) if version >= 4 else struct.pack("Q", files)
    rules = _libc.syscall(_LANDLOCK_CREATE, attributes, ctypes.c_size_t(len(attributes)), ctypes.c_uint32(0))
    if rules < 0:
        return False
    try:
        for path in readable:
            folder = os.open(path, os.O_PATH | os.O_CLOEXEC)
            allowed = _LANDLOCK_READ_FILE | (_LANDLOCK_READ_DIR if os.path.isdir(path) else 0)
            _libc.syscall(_LANDLOCK_ADD, rules, 1, struct.pack("=Qi", allowed, folder), ctypes.c_uint32(0))
            os.close(folder)
        return bool(_libc.syscall(_LANDLOCK_RESTRICT, rules, ctypes.c_uint32(0)) == 0)
    finally:
        os.close(rules)


def _filter_calls(filter_: bytes) -> bool:
    class Program(ctypes.Structure):
        _fields_ = [("length", ctypes.c_ushort), ("instructions", ctypes.c_char_p)]

    program = Program(len(filter_) // 8, filter_)
    return bool(_libc.prctl(_PR_SET_SECCOMP, _SECCOMP_MODE_FILTER, ctypes.byref(program), 0, 0) == 0)
