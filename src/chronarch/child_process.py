"""Processes of ours that are started together, watched, and stopped together."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from dataclasses import dataclass, field
from pathlib import Path

from chronarch.records.server import die_with_parent

STOP_WITHIN_S = 12


@dataclass
class Child:
    """One process: `python -m chronarch ARGUMENTS`, its output in a log file."""

    name: str
    arguments: list[str]
    log: Path
    environment: dict[str, str] = field(default_factory=dict)
    process: subprocess.Popen[bytes] | None = None

    def start(self) -> None:
        with self.log.open("ab") as out:
            self.process = subprocess.Popen(
                [sys.executable, "-m", "chronarch", *self.arguments],
                stdin=subprocess.DEVNULL,
                stdout=out,
                stderr=out,
                env={**os.environ, **self.environment},
                start_new_session=True,
                preexec_fn=die_with_parent,
            )

    @property
    def exited(self) -> int | None:
        """The exit code of a process that has ended by itself; None while it runs."""
        return self.process.poll() if self.process else None

    def stop(self) -> None:
        if self.process is None or self.process.poll() is not None:
            return
        self.process.send_signal(signal.SIGTERM)
        try:
            self.process.wait(STOP_WITHIN_S)
        except subprocess.TimeoutExpired:
            self.process.kill()
            self.process.wait()

    def last_words(self) -> str:
        """The end of its log."""
        return self.log.read_text(errors="replace")[-800:].strip()
