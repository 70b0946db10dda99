"""A chat server on loopback for tests: Debian's Prosody, set up on its own, and people who chat through it."""

from __future__ import annotations

import asyncio
import shutil
import socket
import subprocess
import threading
import time
from collections.abc import Coroutine
from pathlib import Path
from typing import Any

from slixmpp import JID, ClientXMPP

from chronarch.records.ports import free_port
from chronarch.records.server import die_with_parent
from chronarch.service.notices.channels.chat_line import end_stream

HOST, ROOMS, FILES = "chat.shop.example", "rooms.chat.shop.example", "files.chat.shop.example"
WITHIN_S = 60.0
CONFIG = """
run_as_root = true
pidfile = "{folder}/prosody.pid"
data_path = "{folder}/data"
log = {{ info = "{folder}/prosody.log" }}
plugin_paths = {{}}
modules_enabled = {{ "roster", "saslauth", "tls", "disco", "ping", "offline", "carbons" }}
modules_disabled = {{ "s2s", "posix"{without} }}
authentication = "internal_hashed"
c2s_require_encryption = {tls}
allow_unencrypted_plain_auth = true
interfaces = {{ "127.0.0.1" }}
c2s_ports = {{ {port} }}
http_ports = {{ {http_port} }}
http_interfaces = {{ "127.0.0.1" }}
https_ports = {{}}
http_external_url = "http://127.0.0.1:{http_port}/"
{certificate}
VirtualHost "{host}"
Component "{rooms}" "muc"
  modules_enabled = {{ "muc_mam" }}
  restrict_room_creation = false
Component "{files}" "http_file_share"
  http_host = "127.0.0.1"
"""


class ChatServer:
    """One server in a folder; `certificate` and `key` are PEM files, with which it wants STARTTLS."""

    def __init__(self, folder: Path, certificate: str = "", key: str = "") -> None:
        self.folder, self.port = folder, free_port()
        (folder / "data").mkdir(parents=True, exist_ok=True)
        self._config = folder / "prosody.cfg.lua"
        ssl = f'ssl = {{ certificate = "{certificate}", key = "{key}" }}' if certificate else ""
        self._config.write_text(
            CONFIG.format(
                folder=folder, port=self.port, http_port=free_port(), host=HOST, rooms=ROOMS, files=FILES,
                certificate=ssl, without="" if certificate else ', "tls"', tls="true" if certificate else "false",
            )
        )  # fmt: skip
        self._process: subprocess.Popen[bytes] | None = None

    def add(self, user: str, password: str) -> str:
        """An account; returns its address."""
        subprocess.run(
            [_program("prosodyctl"), "--root", "--config", str(self._config), "register", user, HOST, password],
            check=True, capture_output=True,
        )  # fmt: skip
        return f"{user}@{HOST}"

    def start(self) -> None:
        self._process = subprocess.Popen(
            [_program("prosody"), "-F", "--root", "--config", str(self._config)],
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, preexec_fn=die_with_parent,
        )  # fmt: skip
        until = time.monotonic() + WITHIN_S
        while time.monotonic() < until:
            try:
                socket.create_connection(("127.0.0.1", self.port), 1).close()
                return
            except OSError:
                time.sleep(0.05)
        raise AssertionError(f"prosody does not answer: {(self.folder / 'prosody.log').read_text()[-2000:]}")

    def is_there(self, user: str) -> bool:
        """Whether somebody is signed in, by what the server's log says of its sessions."""
        here: set[str] = set()
        for line in (self.folder / "prosody.log").read_text().splitlines():
            session = next((word for word in line.split() if word.startswith("c2s")), "")
            if f"Authenticated as {user}@" in line:
                here.add(session)
            elif "Client disconnected" in line:
                here.discard(session)
        return bool(here)

    def stop(self) -> None:
        if self._process is not None:
            self._process.kill()
            self._process.wait()
            self._process = None


class Chatter:
    """Somebody who chats, in a thread of their own. `heard` is what they were told: from whom, text, and the link of a
    picture."""

    def __init__(self, address: str, password: str, port: int) -> None:
        self.address, self._password, self._port = address, password, port
        self.heard: list[tuple[str, str, str]] = []
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._loop.run_forever, daemon=True)
        self._thread.start()
        self._client: ClientXMPP | None = None
        self._do(self._sign_in())

    def _do(self, work: Coroutine[Any, Any, Any]) -> Any:
        return asyncio.run_coroutine_threadsafe(work, self._loop).result(WITHIN_S)

    async def _sign_in(self) -> None:
        client = self._client = ClientXMPP(self.address, self._password)
        client.enable_direct_tls, client.enable_starttls, client.enable_plaintext = False, False, True
        client.plugin["feature_mechanisms"].unencrypted_scram = True
        for plugin in ("xep_0045", "xep_0066", "xep_0199"):
            client.register_plugin(plugin)
        client.add_event_handler("message", self._note)
        there = self._loop.create_future()
        client.add_event_handler("session_start", lambda _: there.done() or there.set_result(None))
        client.connect("127.0.0.1", self._port)
        await asyncio.wait_for(there, WITHIN_S)
        client.send_presence()

    def _note(self, message: Any) -> None:
        if message["body"] and message["type"] != "error":
            self.heard.append((str(message["from"]), str(message["body"]), str(message["oob"]["url"])))

    def say(self, to: str, text: str) -> None:
        async def saying() -> None:
            assert self._client is not None
            self._client.send_message(JID(to), text, mtype="chat")

        self._do(saying())

    def make_room(self, room: str) -> None:
        """A new room with the usual settings (XEP-0045, 10.1.2), and come into it."""

        async def making() -> None:
            assert self._client is not None
            muc = self._client.plugin["xep_0045"]
            await muc.join_muc_wait(JID(room), "Maud", timeout=WITHIN_S)
            form = await muc.get_room_config(JID(room))
            form["type"] = "submit"
            form.set_values({"muc#roomconfig_persistentroom": True})
            await muc.set_room_config(JID(room), form)

        self._do(making())

    def again(self) -> None:
        """Sign in once more: the server was away."""
        self._do(self._sign_out())
        self._do(self._sign_in())

    async def _sign_out(self) -> None:
        assert self._client is not None
        end_stream(self._client)
        await asyncio.sleep(0)

    def close(self) -> None:
        self._do(self._sign_out())
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(WITHIN_S)


def _program(name: str) -> str:
    found = shutil.which(name, path="/usr/bin:/usr/sbin")
    assert found, f"{name} is not installed; `make setup` installs it (package prosody)"
    return found
