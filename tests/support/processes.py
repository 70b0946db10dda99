"""Chronarch's processes, started from one that has already imported it.

Each is a real process, with an environment, standard streams, a number and an exit code of its own, that runs what
`python -m chronarch ARGUMENTS` runs. Only importing, a second or two of processor time each, is done once for all. The
starting process is forked from the tests' before those have threads; when they are gone, so are it and all it started.
"""

from __future__ import annotations

import contextlib
import ctypes
import gc
import importlib
import importlib.util
import io
import json
import os
import select
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
import traceback
import types
from collections.abc import Mapping
from pathlib import Path
from typing import BinaryIO, NoReturn

STARTED: list[Starter] = []


def import_all() -> None:
    """Import what processes of Chronarch need, and fetch what is compiled."""
    from chronarch.cli.app import COMMANDS
    from chronarch.warm_up import warm_up

    for _, module, more in COMMANDS.values():
        for name in (module, *more):
            importlib.import_module(f"chronarch.{name}")
    for name in ("service.app", "service.command", "tender.command", "tender.session", "standins.command"):
        importlib.import_module(f"chronarch.{name}")
    warm_up()


class Process:
    """A started process; used like a `subprocess.Popen`."""

    def __init__(self, starter: Starter, pid: int) -> None:
        self._starter = starter
        self.pid = pid

    @property
    def returncode(self) -> int | None:
        return self.poll()

    def poll(self) -> int | None:
        return self._starter.ended(self.pid, 0.0)

    def wait(self, timeout: float = 60.0) -> int:
        code = self._starter.ended(self.pid, timeout)
        if code is None:
            raise subprocess.TimeoutExpired(f"process {self.pid}", timeout)
        return code

    def send_signal(self, how: int) -> None:
        if self.poll() is None:
            os.kill(self.pid, how)


class Starter:
    """The process that starts the others, and tells how they ended."""

    def __init__(self) -> None:
        import_all()
        self._ours, theirs = socket.socketpair()
        self._lock = threading.Lock()
        self._codes: dict[int, int] = {}
        self._said = b""
        sys.stdout.flush()
        sys.stderr.flush()
        self._pid = os.fork()
        if self._pid == 0:
            self._ours.close()
            try:
                _serve(theirs)
            finally:
                os._exit(1)
        theirs.close()

    def start(self, arguments: list[str], env: Mapping[str, str], streams: tuple[int, int, int]) -> Process:
        """Start `chronarch ARGUMENTS` with these file descriptors as its standard input, output and errors."""
        order = json.dumps([arguments, dict(env), str(Path.cwd())]).encode()
        with self._lock:
            socket.send_fds(self._ours, [len(order).to_bytes(4, "big")], list(streams))
            self._ours.sendall(order)
            while True:
                told = self._hear(None)
                if told is not None and "started" in told:
                    return Process(self, told["started"])

    def ended(self, pid: int, within_s: float) -> int | None:
        """The exit code of a process, minus a signal's number where one ended it; None while it runs."""
        deadline = time.monotonic() + within_s
        with self._lock:
            while pid not in self._codes:
                if self._hear(max(0.0, deadline - time.monotonic())) is None:
                    return None
            return self._codes[pid]

    def _hear(self, within_s: float | None) -> dict[str, int] | None:
        while b"\n" not in self._said:
            if not select.select([self._ours], [], [], within_s)[0]:
                return None
            read = self._ours.recv(65536)
            if not read:
                raise AssertionError("the process that starts the others is gone")
            self._said += read
        line, _, self._said = self._said.partition(b"\n")
        told: dict[str, int] = json.loads(line)
        if "ended" in told:
            self._codes[told["ended"]] = told["code"]
        return told

    def close(self) -> None:
        self._ours.close()
        os.waitpid(self._pid, 0)


def _serve(orders: socket.socket) -> NoReturn:
    """The starting process: forks as it is asked, until nobody can ask any more."""
    ctypes.CDLL(None).prctl(1, signal.SIGTERM)
    gc.collect()
    gc.freeze()
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    woken, wake = os.pipe()
    os.set_blocking(wake, False)
    os.set_blocking(woken, False)
    signal.signal(signal.SIGCHLD, lambda *_: None)
    signal.set_wakeup_fd(wake, warn_on_full_buffer=False)
    running: set[int] = set()
    while True:
        ready, _, _ = select.select([orders, woken], [], [])
        if woken in ready:
            os.read(woken, 4096)
            for pid in list(running):
                found, status = os.waitpid(pid, os.WNOHANG)
                if found:
                    running.discard(pid)
                    code = os.waitstatus_to_exitcode(status)
                    with contextlib.suppress(BrokenPipeError):
                        orders.sendall(json.dumps({"ended": pid, "code": code}).encode() + b"\n")
        if orders in ready:
            size, streams, _, _ = socket.recv_fds(orders, 4, 3)
            if not size:
                for pid in running:
                    os.kill(pid, signal.SIGKILL)
                os._exit(0)
            order = b""
            while len(order) < int.from_bytes(size, "big"):
                order += orders.recv(1 << 20)
            pid = os.fork()
            if pid == 0:
                os.close(woken)
                os.close(wake)
                orders.close()
                arguments, env, folder = json.loads(order)
                _become(arguments, env, folder, streams)
            running.add(pid)
            for stream in streams:
                os.close(stream)
            orders.sendall(json.dumps({"started": pid}).encode() + b"\n")


def _become(arguments: list[str], env: dict[str, str], folder: str, streams: list[int]) -> NoReturn:
    """In the new process: have what `python -m chronarch` would have, and do what it does."""
    signal.set_wakeup_fd(-1)
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    signal.signal(signal.SIGINT, signal.default_int_handler)
    os.setsid()
    ctypes.CDLL(None).prctl(1, signal.SIGTERM)
    ctypes.CDLL(None).prctl(15, " ".join(arguments).encode()[:15])  # its name in a list of processes
    for at, stream in enumerate(streams):
        os.dup2(stream, at)
        os.close(stream)
    os.environ.clear()
    os.environ.update(env)
    time.tzset()
    os.chdir(folder)
    sys.stdin, sys.stdout, sys.stderr = (
        io.TextIOWrapper(open(fd, mode, closefd=False), "utf-8", line_buffering=fd == 2, write_through=fd == 2)  # noqa: SIM115
        for fd, mode in ((0, "rb"), (1, "wb"), (2, "wb"))
    )
    main = types.ModuleType("__main__")
    main.__spec__ = importlib.util.find_spec("chronarch.__main__")
    sys.modules["__main__"] = main
    sys.argv = ["chronarch", *arguments]
    code = 1
    try:
        from chronarch.cli.app import root

        root(prog_name="chronarch")
    except SystemExit as ended:
        code = ended.code if isinstance(ended.code, int) else int(ended.code is not None)
    except BaseException:
        traceback.print_exc()
    finally:
        with contextlib.suppress(BaseException):
            threading._shutdown()  # type: ignore[attr-defined]
        for out in (sys.stdout, sys.stderr):
            with contextlib.suppress(OSError, ValueError):
                out.flush()
        os._exit(code)


def starter() -> Starter:
    """The one of this test process, made when first asked for."""
    if not STARTED:
        STARTED.append(Starter())
    return STARTED[0]


def start(*arguments: str, env: Mapping[str, str], out: BinaryIO | None = None) -> Process:
    """Start `chronarch ARGUMENTS`, with its output and errors to a file, or to nowhere."""
    with open(os.devnull, "r+b") as nothing:  # noqa: PTH123
        to = (out or nothing).fileno()
        return starter().start(list(arguments), env, (nothing.fileno(), to, to))


def run(
    *arguments: str, env: Mapping[str, str], stdin: str = "", within_s: float = 60.0
) -> subprocess.CompletedProcess[str]:
    """Run `chronarch ARGUMENTS` to its end; its exit code, output and errors."""
    with tempfile.TemporaryFile() as given, tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as err:
        given.write(stdin.encode())
        given.seek(0)
        process = starter().start(list(arguments), env, (given.fileno(), out.fileno(), err.fileno()))
        try:
            code = process.wait(within_s)
        except subprocess.TimeoutExpired:
            process.send_signal(signal.SIGKILL)
            raise
        texts = []
        for file in (out, err):
            file.seek(0)
            texts.append(file.read().decode())
        return subprocess.CompletedProcess(list(arguments), code, *texts)


def close_all() -> None:
    """End the starting process, and what it started that still runs."""
    while STARTED:
        STARTED.pop().close()
