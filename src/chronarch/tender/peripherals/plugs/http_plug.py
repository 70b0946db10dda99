"""A plug that is asked over HTTP and answers with JSON."""

from __future__ import annotations

import httpx

from chronarch.core.machines.plugs import MOST_REPORT, PlugFault, PlugReport, read_report
from chronarch.tender.peripherals.plugs.plug import ANSWER_S, PlugConnection
from chronarch.tender.peripherals.reach import NoDevice, find_host
from chronarch.wire.machines.power import PlugSetup

RESTS_S = 2.0
"""A connection that rests for so long is not used again: a plug may close it just as it is asked."""


class HttpPlug(PlugConnection):
    def __init__(self, setup: PlugSetup, keep_away: tuple[str, int]) -> None:
        super().__init__(setup, keep_away)
        auth = httpx.BasicAuth(self.login, self.password) if self.login else None
        # plugs sign their own certificates, and no proxy stands between
        limits = httpx.Limits(keepalive_expiry=RESTS_S)
        self._http = httpx.AsyncClient(timeout=ANSWER_S, verify=False, trust_env=False, auth=auth, limits=limits)

    async def read(self) -> PlugReport:
        return read_report(self.profile, await self._ask("GET", self.fill(self.profile.report)))

    async def turn(self, on: bool) -> None:
        p = self.profile
        await self._ask(p.method, self.fill(p.turn, on=on), self.fill(p.on if on else p.off, on=on))

    async def _ask(self, method: str, path: str, body: str = "") -> bytes:
        try:
            host = await find_host(self.address.host, self.address.port, self.keep_away, "plug")
            # the path is not joined: it cannot lead to another host or port
            place = httpx.URL(f"{self.address.scheme}://{self.address.host}:{self.address.port}").copy_with(
                raw_path=path.encode("ascii", "replace")
            )
            heads = {"Host": place.netloc.decode(), **({"Content-Type": "application/json"} if body else {})}
            request = self._http.build_request(
                method, place.copy_with(host=host), headers=heads, content=body or None,
                extensions={"sni_hostname": self.address.host},
            )  # fmt: skip
            response = await self._http.send(request, stream=True, follow_redirects=False)
            try:
                return await self._body(response, path)
            finally:
                await response.aclose()
        except NoDevice as error:
            raise PlugFault(str(error)) from None
        except httpx.TimeoutException:
            raise PlugFault(f"it did not answer within {ANSWER_S:.0f} s; is it on the network?") from None
        except (httpx.HTTPError, httpx.InvalidURL, OSError) as error:
            raise PlugFault(f"it cannot be reached: {str(error) or type(error).__name__}") from None

    @staticmethod
    async def _body(response: httpx.Response, path: str) -> bytes:
        if response.status_code == 401:
            raise PlugFault("it answers 401: it wants a login and a password; give them")
        if not response.is_success:
            raise PlugFault(f"it answers {response.status_code} at {path}; look at the profile's paths")
        found = b""
        async for piece in response.aiter_bytes():
            found += piece
            if len(found) > MOST_REPORT:
                raise PlugFault(f"it sends more than {MOST_REPORT // 1000} kB; a plug has a few hundred bytes to say")
        return found

    async def close(self) -> None:
        await self._http.aclose()
