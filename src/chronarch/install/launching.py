"""Starts the parts of an installation where there is no systemd: the same commands with the same settings, each started
again when it ends."""

from __future__ import annotations

import os
import signal
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from chronarch.child_process import Child
from chronarch.install.parts import InstalledPart, parts
from chronarch.installation import OWN, Installation

AGAIN_AFTER_S = 2.0
LOOK_EVERY_S = 0.2


@dataclass
class Launcher:
    """Runs the parts; `say` hears what happens to them."""

    there: Installation
    say: Callable[[str], None]
    _stop: threading.Event = field(default_factory=threading.Event)

    def run(self) -> None:
        """Run until stopped by SIGTERM or SIGINT. Raises InstallFailed."""
        settings = self.there.read()
        for number in (signal.SIGTERM, signal.SIGINT):
            signal.signal(number, lambda *_: self._stop.set())
        logs = self.there.folder("logs")
        logs.mkdir(parents=True, exist_ok=True)
        several = [_child(part, settings, logs) for part in parts(settings.get("CHRONARCH_DATABASE") == OWN)]
        ended = {child.name: 0.0 for child in several}
        try:
            while not self._stop.wait(LOOK_EVERY_S):
                for child in several:
                    self._look(child, ended)
        finally:
            for child in reversed(several):
                child.stop()

    def _look(self, child: Child, ended: dict[str, float]) -> None:
        if child.process is not None and child.exited is None:
            return
        if child.exited is not None and not ended[child.name]:
            ended[child.name] = time.monotonic()
            self.say(f"{child.name} ended ({child.exited}) and is started again: {child.last_words()[-200:]}")
        if time.monotonic() - ended[child.name] >= AGAIN_AFTER_S or child.process is None:
            child.start()
            ended[child.name] = 0.0


def _child(part: InstalledPart, settings: dict[str, str], logs: Path) -> Child:
    return Child(part.name, list(part.words), logs / f"{part.name}.log", {**os.environ, **settings})
