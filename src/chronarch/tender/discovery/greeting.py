"""Says hello to a machine that has not joined yet: what is at its link, a code on its display, its own click."""

from __future__ import annotations

import asyncio
import time
from dataclasses import replace

from chronarch.core.control.firmware_info import remarks
from chronarch.core.control.line_protocol import QUESTION
from chronarch.core.machines.address import Address, NotAnAddress, parse_address
from chronarch.core.plain import plain
from chronarch.tender.discovery.probe import probe_line
from chronarch.tender.transports.device_lock import DeviceInUse, hold
from chronarch.tender.transports.opening import WAYS
from chronarch.tender.transports.serial_port import find_speed
from chronarch.wire.machines.finding import Found, Look, Looked

ANSWER_S = 5.0
NAMES, MODELS, SERIALS = ("MACHINE_NAME",), ("MACHINE_TYPE",), ("UUID", "SERIAL")
"""Words of the answer to M115."""


async def say_hello(look: Look) -> Looked:
    """Do what is asked at one link; what went wrong is in the answer."""
    try:
        address = parse_address(look.link)
    except NotAnAddress as error:
        return Looked(problem=str(error))
    if address.kind not in WAYS:
        return Looked(problem="A machine behind a broker tells of itself; it is found by looking at the broker.")
    try:
        with hold(address, "somebody who looks for machines"):
            return await (_greet(address) if look.kind == "greet" else _show(address, look))
    except DeviceInUse as error:
        return Looked(problem=f"{error}; a device has one link.")
    except (OSError, TimeoutError) as error:
        return Looked(problem=plain(f"{address.shown} cannot be reached: {error or 'no answer'}.")[:500])


async def _greet(address: Address) -> Looked:
    finding = await probe_line(address, lambda _: None)
    words = finding.contact.words
    link = address.text
    if finding.speed and not address.speed:
        link = f"{link}{'&' if '?' in link else '?'}speed={finding.speed}"
    found = Found(
        link=link, how="address", speed=finding.speed, contact=finding.contact,
        name=_word(words, NAMES), model=_word(words, MODELS), serial=_word(words, SERIALS),
        about=plain(finding.contact.firmware)[:200], remarks=[plain(text)[:200] for text in remarks(finding)],
    )  # fmt: skip
    return Looked(found=[found])


def _word(words: dict[str, str], names: tuple[str, ...]) -> str:
    return next((plain(words[name])[:60] for name in names if words.get(name)), "")


async def _show(address: Address, look: Look) -> Looked:
    """Have the display show a text; for a click, until the machine says ok. Raises OSError, TimeoutError."""
    if WAYS[address.kind].has_speed and not address.speed:
        address = replace(address, speed=await asyncio.to_thread(find_speed, address, lambda *_: None))
    heard, more = bytearray(), asyncio.Event()

    def on_data(data: bytes) -> None:
        heard.extend(data)
        more.set()

    line = await WAYS[address.kind].open(address, on_data, more.set)

    async def answered(command: bytes, within_s: float) -> bool:
        heard.clear()
        line.write(command + b"\n")
        until = time.monotonic() + within_s
        while time.monotonic() < until:
            if any(part.startswith(b"ok") for part in bytes(heard).splitlines()):
                return True
            more.clear()
            try:
                async with asyncio.timeout(max(0.0, until - time.monotonic())):
                    await more.wait()
            except TimeoutError:
                break
        return False

    try:
        await answered(QUESTION, ANSWER_S)
        if look.kind == "show":
            return Looked(problem="" if await answered(b"M117 " + look.text.encode(), ANSWER_S) else SILENT)
        clicked = False
        try:
            clicked = await answered(b"M0 " + look.text.encode(), look.within_s)
        finally:
            if not clicked:
                line.write(b"M108\n")  # it need not wait any longer
                await asyncio.sleep(0.2)
        return Looked(problem="" if clicked else "Nobody clicked at the machine in time.")
    finally:
        line.close()


SILENT = "The machine did not take the text for its display; confirm by its click instead."
