"""A web server that has files, as a customer's or a colleague's does."""

from __future__ import annotations

import threading
from collections.abc import Mapping
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer


class FileHost:
    """Serves `answers`: by path, what is answered: status, headers, and bytes. Close it."""

    def __init__(self, answers: Mapping[str, tuple[int, Mapping[str, str], bytes]]) -> None:
        self.logins: list[str] = []
        """What was said in `Authorization`, one for each request."""

        class Answers(BaseHTTPRequestHandler):
            def do_GET(own) -> None:
                self.logins.append(own.headers.get("Authorization", ""))
                status, headers, body = answers.get(own.path, (404, {}, b""))
                own.send_response(status)
                for name, value in {"Content-Length": str(len(body)), **headers}.items():
                    own.send_header(name, value)
                own.end_headers()
                own.wfile.write(body)

            def log_message(own, *words: object) -> None:
                """Says nothing."""

        self._server = ThreadingHTTPServer(("127.0.0.1", 0), Answers)
        self._thread = threading.Thread(target=self._server.serve_forever, daemon=True)
        self._thread.start()

    def at(self, path: str) -> str:
        """The address of what is at a path."""
        return f"http://127.0.0.1:{self._server.server_port}{path}"

    def close(self) -> None:
        self._server.shutdown()
        self._server.server_close()
        self._thread.join()
