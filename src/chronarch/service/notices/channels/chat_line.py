"""The shop's one chat connection: XMPP (RFC 6120, 6121), to people and rooms, and what people write to it."""

from __future__ import annotations

import asyncio
import io
import logging
import ssl
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager, suppress
from dataclasses import dataclass, field
from typing import Annotated, Any
from weakref import WeakValueDictionary

from slixmpp import JID, ClientXMPP
from slixmpp.exceptions import IqError, IqTimeout, PresenceError, XMPPError
from slixmpp.plugins import xep_0030, xep_0045, xep_0066, xep_0199, xep_0203, xep_0363

from chronarch.service.context import ShopName, part
from chronarch.service.notices.channels.sending import NotSent, Refused, Unsure
from chronarch.wire.notices.channels import ChatAccountView

WITHIN_S = 20.0
SURE_EVERY_S = 60.0
"""How often a quiet connection is asked whether it still stands."""
MOST_AT_ONCE = 20
"""So many answers are being made at the same time; what comes beyond them is not answered."""
MADE_NOW = 201
"""What a room says to who has just made it by coming in (XEP-0045, 10.1)."""
PLUGINS = (xep_0030, xep_0045, xep_0066, xep_0199, xep_0203, xep_0363)
"""Imported with this module, because that takes a while."""
BETTER_S = 0.3
"""How long it may still be said what is behind that."""
NO_SIGN_IN = "it offers no way to sign in that keeps the password secret; is the way to it protected?"
REFUSED = "it does not let the shop's account in: address or password is wrong"
log = logging.getLogger("chronarch.chat")
logging.getLogger("slixmpp").setLevel(logging.CRITICAL)  # what goes wrong is said by us, once
Heard = Callable[[str, str, bool], Awaitable[tuple[str, bytes] | None]]
"""Takes somebody's address, what they wrote, and whether that was while we were away; gives what is answered with a
picture, None for nothing."""


@dataclass
class ChatLine:
    """It is opened when it is needed, and again when it has broken. `problem` says why it is not open."""

    shop: ShopName
    heard: Heard
    problem: str = ""
    _client: ClientXMPP | None = None
    _account: tuple[ChatAccountView, str] | None = None
    _opening: asyncio.Lock = field(default_factory=asyncio.Lock)
    _answering: set[asyncio.Task[None]] = field(default_factory=set)
    _waited_for: dict[str, asyncio.Future[str]] = field(default_factory=dict)
    """By the number of a message that was sent: what came of it, empty when it was taken."""
    _turns: WeakValueDictionary[str, asyncio.Lock] = field(default_factory=WeakValueDictionary)
    """By address: whose turn it is to be answered."""
    _sure_s: float = 0.0

    def stands(self, account: ChatAccountView) -> str:
        """Why an account is not in the chat; empty when it is."""
        if self._client is not None and self._client.is_connected() and self._account and self._account[0] == account:
            return ""
        return self.problem or "it is not signed in yet"

    async def open(self, account: ChatAccountView, password: str) -> ClientXMPP:
        """The connection, signed in. Raises NotSent."""
        async with self._opening:
            if self._client is not None and self._account == (account, password) and self._client.is_connected():
                return self._client
            self._drop()
            try:
                self._client = await self._connected(account, password)
            except NotSent as error:
                self.problem = str(error)
                raise
            self._account, self.problem = (account, password), ""
            self._sure_s = asyncio.get_running_loop().time()
            return self._client

    async def _connected(self, account: ChatAccountView, password: str) -> ClientXMPP:
        trusted = await asyncio.to_thread(ssl.create_default_context)
        client = ClientXMPP(account.address, password, ssl_context=trusted)
        for plugin in PLUGINS:
            client.register_plugin(plugin.__name__.rpartition(".")[2])
        client.enable_direct_tls = account.security == "tls"
        client.enable_starttls = account.security == "starttls"
        client.enable_plaintext = account.security == "none"
        if account.security == "none":
            for how in ("unencrypted_plain", "unencrypted_scram"):
                setattr(client.plugin["feature_mechanisms"], how, True)
        loop = asyncio.get_running_loop()
        there: asyncio.Future[str] = loop.create_future()

        def settle(why: str) -> None:
            if not there.done():
                there.set_result(why)

        client.add_event_handler("session_start", lambda _: settle(""))
        client.add_event_handler("connection_failed", lambda error: settle(str(error) or "it cannot be reached"))
        client.add_event_handler("no_auth", lambda _: settle(NO_SIGN_IN))
        client.add_event_handler("ssl_invalid_chain", lambda _: settle("its certificate is not one that is trusted"))
        for event, why in (("failed_all_auth", REFUSED), ("disconnected", "it has cut the connection")):
            client.add_event_handler(event, lambda _, why=why: loop.call_later(BETTER_S, settle, why))
        client.add_event_handler("message", self._message)
        client.add_event_handler("message_error", self._bounced)
        client.add_event_handler("groupchat_message", self._said_in_room)
        client.connect(account.host or None, account.port if account.host else None)
        try:
            async with asyncio.timeout(WITHIN_S):
                why = await there
        except TimeoutError:
            why = f"no answer within {WITHIN_S:.0f} s"
        if why:
            end_stream(client)
            raise NotSent(f"the chat server of {account.address}: {why}"[:250])
        client.send_presence()
        return client

    async def keep(self, account: ChatAccountView, password: str) -> None:
        """Open it unless it is open, so that people are heard. Raises NotSent."""
        client = await self.open(account, password)
        now_s = asyncio.get_running_loop().time()
        if now_s - self._sure_s > SURE_EVERY_S:
            await self._sure(client)

    async def say(self, client: ClientXMPP, to: str, number: str, text: str, picture: bytes) -> None:
        """Tell a person something. It counts as taken once the server has answered a ping that came after it on the
        same stream (XEP-0199): what one stream says is handled in order. Raises Refused, Unsure."""
        async with self._said(client, to, "chat", number, text, picture) as bounced:
            await self._sure(client)
            if bounced.done():
                raise Refused(f"{to} cannot be reached: {bounced.result()}"[:250])

    async def say_in_room(self, client: ClientXMPP, room: str, number: str, text: str, picture: bytes) -> None:
        """Tell a room something. It counts as taken once the room has sent it back to us as to everybody. Raises
        NotSent, Refused, Unsure."""
        await self._enter(client, room)
        async with self._said(client, room, "groupchat", number, text, picture) as back:
            try:
                async with asyncio.timeout(WITHIN_S):
                    refused = await back
            except TimeoutError:
                self._drop()
                raise Unsure(f"the room {room} did not say it; whether it was told is not known") from None
        if refused:
            raise Refused(f"the room {room} does not take it: {refused}"[:250])

    @asynccontextmanager
    async def _said(
        self, client: ClientXMPP, to: str, kind: Any, number: str, text: str, picture: bytes
    ) -> AsyncIterator[asyncio.Future[str]]:
        """Say something; what comes of it is heard meanwhile."""
        link = await self._kept(client, picture)
        came = self._waited_for[number] = asyncio.get_running_loop().create_future()
        try:
            self._put(client, to, kind, number, text)
            if link:
                self._put(client, to, kind, f"{number}-picture", link, is_link=True)
            yield came
        finally:
            self._waited_for.pop(number, None)

    async def _enter(self, client: ClientXMPP, room: str) -> None:
        """Come into a room, or say once more that we are there. Raises NotSent."""
        try:
            rooms, name = client.plugin["xep_0045"], self.shop.name
            there = await rooms.join_muc_wait(JID(room), name, maxstanzas=0, timeout=WITHIN_S)
        except PresenceError as error:
            raise NotSent(f"the room {room} does not let us in: {error.condition}"[:250]) from None
        except TimeoutError:
            self._drop()
            raise NotSent(f"the room {room} does not answer") from None
        if MADE_NOW in there[0]["muc"]["status_codes"]:
            rooms.leave_muc(JID(room), name)
            raise NotSent(f"there is no room {room}; somebody has to make it first")

    async def _sure(self, client: ClientXMPP) -> None:
        """Have the server say that it has come as far as this. Raises Unsure."""
        try:
            await client.plugin["xep_0199"].ping(JID(client.boundjid.host), timeout=WITHIN_S)
        except IqError:
            pass  # it answers that it answers no pings: it has taken what came before
        except (IqTimeout, XMPPError, TimeoutError, OSError) as error:
            self._drop()
            raise Unsure(f"the chat server did not say whether it took it ({type(error).__name__})") from None
        self._sure_s = asyncio.get_running_loop().time()

    @staticmethod
    def _put(client: ClientXMPP, to: str, kind: Any, number: str, text: str, *, is_link: bool = False) -> None:
        message = client.make_message(mto=JID(to), mbody=text, mtype=kind)
        message["id"] = number
        if is_link:
            message["oob"]["url"] = text  # XEP-0066: shown as a picture where it can be
        message.send()

    async def _kept(self, client: ClientXMPP, picture: bytes) -> str:
        """Where the server keeps a picture for those that it is shown to (XEP-0363); empty where it keeps none."""
        if not picture:
            return ""
        try:
            async with asyncio.timeout(WITHIN_S):
                link: str = await client.plugin["xep_0363"].upload_file(
                    "picture.jpg", size=len(picture), content_type="image/jpeg", input_file=io.BytesIO(picture)
                )
                return link
        except Exception as error:
            log.info("the chat server takes no picture: %s", error or type(error).__name__)
            return ""

    def _bounced(self, message: Any) -> None:
        self._settle(str(message["id"]), str(message["error"]["text"] or message["error"]["condition"]))

    def _said_in_room(self, message: Any) -> None:
        self._settle(str(message["id"]), "")

    def _settle(self, number: str, refused: str) -> None:
        waiting = self._waited_for.get(number)
        if waiting is not None and not waiting.done():
            waiting.set_result(refused)

    def _message(self, message: Any) -> None:
        """Somebody has written to us alone. What rooms say among themselves is theirs."""
        if message["type"] not in ("chat", "normal") or not message["body"] or len(self._answering) >= MOST_AT_ONCE:
            return
        task = asyncio.create_task(self._answer(message))
        self._answering.add(task)
        task.add_done_callback(self._answering.discard)

    async def _answer(self, message: Any) -> None:
        address = str(message["from"].bare)
        turn = self._turns.setdefault(address, asyncio.Lock())
        late = message.get_plugin("delay", check=True) is not None  # the server has kept it for us (XEP-0203)
        try:
            async with turn:  # one after another: a second word belongs to the first
                answered = await self.heard(address, str(message["body"]), late)
            client = self._client
            if answered is None or client is None:
                return
            text, picture = answered
            link = await self._kept(client, picture)
            message.reply(text).send()
            if link:
                self._put(client, str(message["from"]), "chat", f"{message['id']}-picture", link, is_link=True)
        except Exception:
            log.exception("a chat message could not be answered")

    def _drop(self) -> None:
        client, self._client = self._client, None
        if client is not None:
            end_stream(client)

    async def close(self) -> None:
        """Say goodbye."""
        for task in self._answering:
            task.cancel()
        client, self._client, self.problem = self._client, None, ""
        if client is not None:
            with suppress(Exception):
                await client.disconnect(wait=1.0)
            end_stream(client)


def end_stream(client: ClientXMPP) -> None:
    """Let go of a connection and of all that works for it."""
    client.cancel_connection_attempt()
    client.abort()
    writer = client._run_out_filters  # it would hold the client, and wait for ever
    if writer is not None:
        writer.cancel()


TheChatLine = Annotated[ChatLine, part(ChatLine)]
