"""Whether a camera's address may be asked at all."""

from __future__ import annotations

from chronarch.core.watching.camera_address import parse_camera_address
from chronarch.service.config import Config
from chronarch.service.machines.reach import check_reach
from chronarch.wire.watching.cameras import CameraAccess


async def check_access(config: Config, asked: CameraAccess) -> None:
    """Refuse (422) an address where there is no camera: this service, its database, a cloud's metadata. The tender
    looks again when it connects, because a name may lead elsewhere by then."""
    address = parse_camera_address(asked.address)
    if address.host:
        await check_reach(config, address.host, address.port, "camera")
