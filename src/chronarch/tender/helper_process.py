"""Work beside the feeding is done in processes of its own. The tender starts each, tells it what to do in JSON lines on
its standard input, and starts it again if it dies. When that input ends, the process ends.
"""

from __future__ import annotations

import contextlib
import json
import os
import subprocess
import sys
from typing import Any


class HelperProcess:
    """The tender's side of one such process: `python -m chronarch tender COMMAND…`, with `environment` beside the
    tender's own. It runs from the first thing that it is told on, or `always`. A process that does not listen keeps
    nobody waiting."""

    def __init__(self, command: list[str], environment: dict[str, str], *, always: bool = False) -> None:
        self._command, self._environment = command, {**os.environ, **environment}
        self._always = always
        self._process: subprocess.Popen[bytes] | None = None
        self._told: dict[str, dict[str, Any]] = {}
        self._untold: dict[str, dict[str, Any]] = {}
        """What the process did not take, by name."""

    def tell(self, what: dict[str, Any], anew: dict[str, Any] | None = None) -> None:
        """Have something done. A second request of the same name replaces the first. `anew` is what a process that is
        started again is told in its place."""
        self._told[what["name"]] = anew or what
        self._untold.pop(what["name"], None)
        if self._running() is not None:
            self._write(what)

    def look_after(self) -> None:
        """Start the process if there is something to do, and again if it has died; tell it what it did not take."""
        if (self._told or self._always) and self._running() is None:
            self._process = subprocess.Popen(
                [sys.executable, "-m", "chronarch", "tender", *self._command],
                stdin=subprocess.PIPE,
                bufsize=0,
                env=self._environment,
            )
            assert self._process.stdin is not None
            os.set_blocking(self._process.stdin.fileno(), False)
            self._untold = dict(self._told)
        untold, self._untold = self._untold, {}
        for what in untold.values():
            self._write(what)

    def _running(self) -> subprocess.Popen[bytes] | None:
        process = self._process
        return process if process is not None and process.poll() is None else None

    def _write(self, what: dict[str, Any]) -> None:
        process = self._running()
        if process is None or process.stdin is None:
            return
        try:  # shorter than PIPE_BUF, so it goes whole or not at all
            os.write(process.stdin.fileno(), json.dumps(what).encode() + b"\n")
        except BlockingIOError:
            self._untold[what["name"]] = what
        except OSError:
            pass

    def close(self) -> None:
        process = self._running()
        if process is not None:
            process.kill()
            process.wait()
        if self._process is not None and self._process.stdin is not None:
            with contextlib.suppress(OSError):
                self._process.stdin.close()
