"""Carries out the commands of the service: one handler for each, which answers once the machine has done it."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from typing import Any

from chronarch.core.control.action_wording import adjustment
from chronarch.core.control.actions import NotPossible
from chronarch.core.machines.states import MachineState, TooLate, WrongState
from chronarch.tender.controllers.driver import MachineDriver
from chronarch.wire.control import commands as c
from chronarch.wire.control.upstream import Command, Reply

HANDS_WAIT_S = 300.0
Done = Callable[[], bool]


async def carry_out(driver: MachineDriver, command: Command) -> Reply:
    """Carry out a command. Returns once it took effect at the machine, or says why it did not."""
    body, controller = command.body, driver.controller
    if isinstance(body, c.OfBuild) and body.build is not None and controller.machine.build != body.build:
        fetching = driver.is_fetching(body.build)
        text = "this build is still being fetched" if fetching else "the machine does not have this build"
        return Reply(id=command.id, problem=text)
    if controller.machine.offline and not isinstance(body, WITHOUT_CONNECTION):
        return Reply(id=command.id, problem="there is no link to the machine")
    try:
        reply = await HANDLERS[type(body)](driver, body, command.by)
    except (WrongState, NotPossible) as error:
        reply = Reply(problem=str(error), late=isinstance(error, TooLate))
    return reply.model_copy(update={"id": command.id})


WITHOUT_CONNECTION = (c.Clear, c.TakeOut, c.PutBack, c.TurnPower, c.ReadLog)
"""Commands that need no connection to the machine."""


async def _taken(driver: MachineDriver, done: Done = lambda: True) -> Reply:
    """Send what was decided, and answer once it has taken effect."""
    driver.flush()
    return Reply(problem="" if await driver.until(done) else "it was asked, but the machine has not done it yet")


async def _pause(driver: MachineDriver, body: c.Pause, by: str) -> Reply:
    driver.controller.pause(body.reason, driver.now())
    return await _taken(driver, lambda: driver.controller.machine.state is MachineState.PAUSED)


async def _resume(driver: MachineDriver, body: c.Resume, by: str) -> Reply:
    await driver.until(lambda: driver.controller.can_resume)
    driver.controller.resume(driver.now())
    return await _taken(driver, lambda: driver.controller.machine.state is not MachineState.PAUSED)


async def _stop(driver: MachineDriver, body: c.Stop, by: str) -> Reply:
    driver.controller.stop(body.reason, driver.now())
    return await _taken(driver, lambda: driver.controller.stopping)


async def _pause_before(driver: MachineDriver, body: c.PauseBefore, by: str) -> Reply:
    driver.controller.pause_before(body.layer, driver.now())
    return await _taken(driver)


async def _no_pause_before(driver: MachineDriver, body: c.NoPauseBefore, by: str) -> Reply:
    driver.controller.no_pause_before(body.layer, driver.now())
    return await _taken(driver)


async def _change_filament(driver: MachineDriver, body: c.ChangeFilament, by: str) -> Reply:
    driver.controller.change_filament(body.reason, driver.now())
    return await _taken(driver, lambda: driver.controller.machine.state is MachineState.PAUSED)


async def _skip(driver: MachineDriver, body: c.Skip, by: str) -> Reply:
    program = await driver.context.store.program(body.sha256)
    plan = body.plan.core()
    driver.controller.skip(program, plan, body.sha256, body.from_command, body.text, by, driver.now())
    driver.replace_file(body.sha256, body.plan)
    return await _taken(driver)


async def _clear(driver: MachineDriver, body: c.Clear, by: str) -> Reply:
    driver.controller.clear(driver.now())
    return await _taken(driver)


async def _take_out(driver: MachineDriver, body: c.TakeOut, by: str) -> Reply:
    driver.controller.take_out(body.reason, driver.now())
    return await _taken(driver)


async def _put_back(driver: MachineDriver, body: c.PutBack, by: str) -> Reply:
    driver.controller.put_back(driver.now())
    return await _taken(driver)


async def _emergency_stop(driver: MachineDriver, body: c.EmergencyStop, by: str) -> Reply:
    driver.controller.emergency(driver.now())
    driver.send()  # before anything is written or told
    return await _taken(driver)


async def _act(driver: MachineDriver, body: c.Act, by: str) -> Reply:
    injected = driver.controller.act(body.action, driver.now(), by)
    driver.flush()
    if not await driver.until(lambda: injected.over, HANDS_WAIT_S):
        return Reply(problem=f"it was asked ({adjustment(body.action)}), but the machine has not done it yet")
    return Reply(problem=injected.failed, said=injected.said)


async def _ask_hands(driver: MachineDriver, body: c.AskHands, by: str) -> Reply:
    driver.controller.ask_hands(body.text, driver.now())
    return await _taken(driver)


async def _turn_power(driver: MachineDriver, body: c.TurnPower, by: str) -> Reply:
    if driver.plug is None:
        return Reply(problem="it hangs on no plug that its tender knows")
    return Reply(problem=await driver.plug.turn(body.on, force=body.force))


async def _read_log(driver: MachineDriver, body: c.ReadLog, by: str) -> Reply:
    return Reply(log=driver.line_log.tail(body.after, body.limit, body.search))


HANDLERS: dict[type, Callable[[MachineDriver, Any, str], Awaitable[Reply]]] = {
    c.Pause: _pause,
    c.Resume: _resume,
    c.Stop: _stop,
    c.PauseBefore: _pause_before,
    c.NoPauseBefore: _no_pause_before,
    c.ChangeFilament: _change_filament,
    c.Skip: _skip,
    c.Clear: _clear,
    c.TakeOut: _take_out,
    c.PutBack: _put_back,
    c.EmergencyStop: _emergency_stop,
    c.Act: _act,
    c.AskHands: _ask_hands,
    c.TurnPower: _turn_power,
    c.ReadLog: _read_log,
}
