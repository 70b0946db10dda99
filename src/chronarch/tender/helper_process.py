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
    tender's own. It runs from the first thing that it is told on, or `always`."""

    def __init__(self, command: list[str], environment: dict[str, str], *, always: bool = False) -> None:
        self._command, self._environment = command, {**os.environ, **environment}
        self._always = always
        self._process: subprocess.Popen[str] | None = None
        self._told: dict[str, dict[str, Any]] = {}

    def tell(self, what: dict[str, Any]) -> None:
        """Have something done. A second request of the same name replaces the first."""
        self._told[what["name"]] = what
        if self._running() is not None:
            self._write(what)

    def look_after(self) -> None:
        """Start the process if there is something to do, and again if it has died."""
        if (self._told or self._always) and self._running() is None:
            self._process = subprocess.Popen(
                [sys.executable, "-m", "chronarch", "tender", *self._command],
                stdin=subprocess.PIPE,
                text=True,
                env=self._environment,
            )
            for what in self._told.values():
                self._write(what)

    def _running(self) -> subprocess.Popen[str] | None:
        process = self._process
        return process if process is not None and process.poll() is None else None

    def _write(self, what: dict[str, Any]) -> None:
        process = self._running()
        if process is not None and process.stdin is not None:
            with contextlib.suppress(OSError, ValueError):
                process.stdin.write(json.dumps(what) + "\n")
                process.stdin.flush()

    def close(self) -> None:
        process = self._running()
        if process is not None:
            process.kill()
            process.wait()
