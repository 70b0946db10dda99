"""The live stream of changes: each once, in order, and none missed by a listener that was away."""

from __future__ import annotations

import json
import tempfile
import threading
import unittest
from pathlib import Path

from chronarch.client import Client, requests
from chronarch.records import tables as t
from chronarch.records.database import migrate
from chronarch.service.app import ServiceParts
from chronarch.service.config import Config
from chronarch.wire.library import NewPart
from chronarch.wire.machines.spools import NewSpool
from chronarch.wire.system.shop import LiveEvent
from tests.support.world import WorldCase, eventually, shared_server


class FromTheBeginning(unittest.IsolatedAsyncioTestCase):
    async def test_what_changes_before_the_log_is_read_for_the_first_time_is_told(self) -> None:
        url = shared_server().another("told_from_the_beginning")
        migrate(url)
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        service = ServiceParts(Config(url, Path(folder.name)))
        self.addAsyncCleanup(service.engine.dispose)
        service.background.start()
        self.addAsyncCleanup(service.background.close)
        await service.load_fleet()
        changes, sessions = service.context.changes, service.context.sessions
        queue = changes.listen()
        async with sessions() as db:
            db.add(t.Folder(path="early"))
            await db.commit()
        await changes.read(sessions)
        told = queue.get_nowait()
        assert told is not None
        self.assertEqual(json.loads(told.data), {"what": "files", "subject": "early"})


class LiveStream(WorldCase):
    @classmethod
    def prepare(cls) -> None:
        cls.world.start_service()

    def listen(self, until: str, after: int | None = None) -> tuple[threading.Thread, list[LiveEvent]]:
        """Listen until a kind of record has changed."""
        heard: list[LiveEvent] = []

        def work() -> None:
            with Client(self.world.address, self.world.read_key) as client:
                for event in client.live(after):
                    heard.append(event)
                    if event.name == "changed" and until in event.data:
                        return

        thread = threading.Thread(target=work, daemon=True)
        thread.start()
        return thread, heard

    def heard(self, thread: threading.Thread, events: list[LiveEvent]) -> list[tuple[int | None, str]]:
        thread.join(60)
        self.assertFalse(thread.is_alive(), events)
        return [(e.number, e.data) for e in events if e.name == "changed" and e.number is not None]

    def test_a_listener_that_was_away_hears_what_it_missed_once_and_in_order(self) -> None:
        w = self.world
        first, events = self.listen("parts")
        eventually(lambda: any(e.name == "shop" for e in events), "the stream has begun")
        part = w.client.do(requests.add_part(NewPart(name="bobbin")))
        number, data = self.heard(first, events)[-1]
        self.assertEqual(data, f'{{"what": "parts", "subject": "{part.id}"}}')
        spools = [w.client.do(requests.add_spool(NewSpool(material="PLA"))).id for _ in range(3)]
        w.client.do(requests.add_folder("bobbins"))
        missed = self.heard(*self.listen("files", after=number))
        told = [f'{{"what": "spools", "subject": "{spool}"}}' for spool in spools]
        self.assertEqual([data for _, data in missed], [*told, '{"what": "files", "subject": "bobbins"}'])
        assert number is not None
        self.assertEqual([n for n, _ in missed], [number + n for n in range(1, 5)])

    def test_one_that_was_away_for_too_long_is_told_to_look_at_everything(self) -> None:
        self.world.client.do(requests.add_folder("clips"))
        for number in (10**12, 0):
            with self.subTest(number=number):
                if number == 0:
                    self.world.sql("delete from change_log order by number limit 1")
                ((_, data),) = self.heard(*self.listen("everything", after=number))[:1]
                self.assertIn("everything", data)


if __name__ == "__main__":
    unittest.main()
