"""Background tasks of the service."""

from __future__ import annotations

import asyncio
import logging
import unittest

from chronarch.service import workers as background


class Background(unittest.IsolatedAsyncioTestCase):
    async def test_a_task_that_fails_unforeseen_is_told_in_the_log_and_begins_again(self) -> None:
        self.addCleanup(logging.disable, logging.root.manager.disable)
        logging.disable(logging.NOTSET)
        begun: list[int] = []

        async def work() -> None:
            begun.append(len(begun))
            if len(begun) < 2:
                raise KeyError("not foreseen")

        with self.assertLogs(background.log, "ERROR") as logs:
            async with asyncio.timeout(120):
                await background.keep_going(work)
        self.assertEqual(begun, [0, 1])
        self.assertIn("not foreseen", logs.output[0])


if __name__ == "__main__":
    unittest.main()
