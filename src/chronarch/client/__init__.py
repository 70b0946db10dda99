"""The client library: `Client` for plain programs, `AsyncClient` for asyncio; both raise what `errors` lists."""

from chronarch.client.calls import AsyncClient, Client
from chronarch.client.errors import ClientError, RefusedByService, Unreachable, WrongAccess

__all__ = ["AsyncClient", "Client", "ClientError", "RefusedByService", "Unreachable", "WrongAccess"]
