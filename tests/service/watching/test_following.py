"""What follows of a suspicion is tried again, but never against what a person has said meanwhile."""

from __future__ import annotations

import unittest
from contextlib import asynccontextmanager
from types import SimpleNamespace
from typing import Any
from unittest.mock import patch

from chronarch.core.machines.states import BuildState
from chronarch.core.watching.suspicion import FailureMode, Suspicion
from chronarch.core.watching.watch_rules import Follow
from chronarch.records import tables as t
from chronarch.service.problems import ApiProblem
from chronarch.service.watching import following
from chronarch.service.watching.following import Following

FOUND = Suspicion(FailureMode.TANGLE, 0.97, "block 2", 2, "There is material.", None, 10.0)


class Retries(unittest.IsolatedAsyncioTestCase):
    def setUp(self) -> None:
        self.suspicion = SimpleNamespace(right=None, followed=Follow.TELL, problem="")
        self.build = SimpleNamespace(state=BuildState.BUILDING, skips=[])
        self.tried = 0
        self.enterContext(patch.object(following, "AGAIN_S", 0.0))
        self.enterContext(patch.object(following, "have_done", self.pause))
        self.enterContext(patch.object(following, "leave_out", self.pause))

    @asynccontextmanager
    async def session(self) -> Any:
        rows = {t.Suspicion: self.suspicion, t.Build: self.build}

        async def get_one(table: type, number: int) -> Any:
            return rows[table]

        async def commit() -> None:
            pass

        yield SimpleNamespace(get_one=get_one, commit=commit)

    async def pause(self, *asked: object) -> None:
        self.tried += 1
        self.meanwhile()
        raise ApiProblem(409, "Anchor is busy; try again.")

    def meanwhile(self) -> None:
        """What happens between two tries."""

    async def follow(self, what: Follow = Follow.PAUSE) -> None:
        nothing: Any = None
        one = Following(SimpleNamespace(sessions=self.session), nothing, nothing, nothing)
        await one._follow(1, 7, FOUND, what)

    async def test_a_pause_that_fails_is_tried_again_and_then_said(self) -> None:
        await self.follow()
        self.assertEqual(self.tried, following.TRIES)
        self.assertEqual((self.suspicion.followed, self.suspicion.problem), (Follow.TELL, "Anchor is busy; try again."))

    async def test_not_once_it_was_called_a_false_alarm(self) -> None:
        self.meanwhile = lambda: setattr(self.suspicion, "right", False)
        await self.follow()
        self.assertEqual((self.tried, self.suspicion.followed, self.suspicion.problem), (1, Follow.TELL, ""))

    async def test_not_where_the_build_is_paused_already(self) -> None:
        self.meanwhile = lambda: setattr(self.build, "state", BuildState.PAUSED)
        await self.follow()
        self.assertEqual((self.tried, self.suspicion.followed, self.suspicion.problem), (1, Follow.PAUSE, ""))

    async def test_nothing_pauses_where_its_object_was_left_out_meanwhile(self) -> None:
        self.meanwhile = lambda: self.build.skips.append({"object": "block 2", "from_layer": 9})
        await self.follow(Follow.LEAVE_OUT)
        self.assertEqual((self.tried, self.suspicion.followed, self.suspicion.problem), (1, Follow.LEAVE_OUT, ""))
        self.suspicion.followed = Follow.TELL
        await self.follow()
        self.assertEqual(self.tried, 1 + following.TRIES, "what is to pause is not done by leaving out")


if __name__ == "__main__":
    unittest.main()
