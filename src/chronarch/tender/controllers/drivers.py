"""Which driver minds a machine, by the kind of its address.

A new kind is a row here, one in `core/machines/address.py` and, if it is fed by lines, one in `transports/opening.py`.
"""

from __future__ import annotations

from chronarch.core.machines.address import parse_address
from chronarch.tender.checkpoints import MachineCheckpoint
from chronarch.tender.controllers.driver import DriverContext, MachineDriver
from chronarch.tender.controllers.stored_file_driver import StoredFileDriver
from chronarch.tender.controllers.streaming_driver import StreamingDriver
from chronarch.wire.control.upstream import MachineConfig

DRIVERS: dict[str, type[StreamingDriver] | type[StoredFileDriver]] = {
    "tcp": StreamingDriver,
    "serial": StreamingDriver,
    "rfc2217": StreamingDriver,
    "mqtt": StoredFileDriver,
    "mqtts": StoredFileDriver,
}


def make_driver(config: MachineConfig, context: DriverContext, standing: MachineCheckpoint | None) -> MachineDriver:
    """The driver of a machine. Raises NotAnAddress."""
    return DRIVERS[parse_address(config.link).kind](config, context, standing)
