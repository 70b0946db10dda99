"""Tasks that must be over once they were told to end."""

from __future__ import annotations

import asyncio
import unittest

from chronarch.tender.tasks import end, together


async def deaf(times: int, heard: list[int]) -> None:
    """Loses its first cancellations, as `asyncio.wait_for` may."""
    while True:
        try:
            await asyncio.sleep(60)
        except asyncio.CancelledError:
            heard.append(1)
            if len(heard) > times:
                raise


class Tasks(unittest.IsolatedAsyncioTestCase):
    async def test_a_task_that_loses_its_cancellation_is_asked_again(self) -> None:
        heard: list[int] = []
        task = asyncio.create_task(deaf(2, heard))
        await asyncio.sleep(0)
        await end([task])
        self.assertTrue(task.cancelled())
        self.assertEqual(len(heard), 3)

    async def test_tasks_that_are_over_or_failed_are_passed_over(self) -> None:
        async def fails() -> None:
            raise OSError("gone")

        async def ends() -> int:
            return 1

        tasks = [asyncio.create_task(fails()), asyncio.create_task(ends())]
        await asyncio.sleep(0)
        await end(tasks)
        await end([])
        self.assertEqual(tasks[1].result(), 1)

    async def test_when_one_part_fails_the_others_are_ended_and_it_is_told(self) -> None:
        heard: list[int] = []

        async def fails() -> None:
            await asyncio.sleep(0.01)
            raise OSError("gone")

        with self.assertRaisesRegex(OSError, "gone"):
            await together(deaf(1, heard), fails())
        self.assertEqual(len(heard), 2)

    async def test_ending_the_whole_ends_every_part(self) -> None:
        heard: list[int] = []
        whole = asyncio.create_task(together(deaf(0, heard), deaf(0, heard)))
        await asyncio.sleep(0.01)
        await end([whole])
        self.assertTrue(whole.cancelled())
        self.assertEqual(len(heard), 2)


if __name__ == "__main__":
    unittest.main()
