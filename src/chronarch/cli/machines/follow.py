"""`chronarch follow`: the fleet, live in the terminal."""

from __future__ import annotations

import json
import sys
import time
from datetime import datetime, timedelta

import click
from rich.console import Group
from rich.live import Live
from rich.text import Text

from chronarch.cli.context import Service, pass_service
from chronarch.cli.machines.machines import HEADINGS, row
from chronarch.cli.output import clock_time, console, make_table
from chronarch.cli.plain import say
from chronarch.client import Unreachable, requests
from chronarch.core.notices.kinds import Gravity
from chronarch.core.plain import plain
from chronarch.wire.machines.machine import Machine
from chronarch.wire.notices.notices import Notice
from chronarch.wire.system.shop import ShopInfo

RECONNECT_S = 1.0
ASKS = (Gravity.ACT, Gravity.URGENT)


class _View:
    """What has been heard so far, and how it looks."""

    def __init__(self, service: Service) -> None:
        self._service = service
        self._machines: dict[str, Machine] = {}
        self._shop: ShopInfo | None = None
        self._heard_at = time.monotonic()
        self._notices: list[Notice] = []
        self.away = ""

    def take(self, name: str, data: str) -> Machine | None:
        """One live event; the machine when its state has changed."""
        self.away = ""
        if name == "shop":
            self._shop, self._heard_at = ShopInfo.model_validate_json(data), time.monotonic()
            self._notices = self._service.do(requests.notices(open=True))
        elif name == "changed" and json.loads(data)["what"] == "notices":
            self._notices = self._service.do(requests.notices(open=True))
        elif name == "machine":
            machine = Machine.model_validate_json(data)
            before = self._machines.get(machine.name)
            self._machines[machine.name] = machine
            return machine if before is None or before.state != machine.state else None
        return None

    def now(self) -> datetime | None:
        if self._shop is None:
            return None
        return self._shop.now + timedelta(seconds=(time.monotonic() - self._heard_at) * self._shop.rate)

    def __rich__(self) -> Group:
        now = self.now()
        title = Text.assemble(
            (plain(self._shop.name) if self._shop else "", "bold"), f"   {clock_time(now)}", style="default"
        )
        if self.away:
            title.append(f"   {self.away}", style="bold red")
        machines = make_table(HEADINGS, [row(m, now) for _, m in sorted(self._machines.items())])
        alarms = [
            Text.assemble(
                (f"{clock_time(n.at, now)}  ", "dim"), (plain(n.text), "bold red" if n.gravity in ASKS else "")
            )
            for n in self._notices[:6]
        ]
        return Group(
            title, Text(), machines, Text(), *alarms, Text("Ctrl-C ends this view, nothing else.", style="dim")
        )


@click.command()
@pass_service
def follow(service: Service) -> None:
    """Follow all machines live. In a pipe: one line for each change of state."""
    view = _View(service)
    live = Live(view, console=console(), screen=True, refresh_per_second=4) if sys.stdout.isatty() else None
    try:
        if live:
            live.start()
        _listen(service, view, to_pipe=live is None)
    except KeyboardInterrupt:
        pass
    finally:
        if live:
            live.stop()


def _listen(service: Service, view: _View, to_pipe: bool) -> None:
    heard = False
    while True:
        try:
            for event in service.client.live():
                heard = True
                changed = view.take(event.name, event.data)
                if changed and to_pipe:
                    reason = f" ({changed.reason})" if changed.reason else ""
                    say(f"{clock_time(view.now())}  {changed.name}: {changed.state}{reason}")
        except Unreachable:
            if not heard:
                raise
        view.away = "the service is away; trying again"
        time.sleep(RECONNECT_S)
