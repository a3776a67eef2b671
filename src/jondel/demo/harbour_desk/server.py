"""Harbour Desk's HTTP interface, on the loopback address only."""

from __future__ import annotations

import json
import threading
from http.server import BaseHTTPRequestHandler, HTTPServer
from typing import BinaryIO

from jondel.demo.harbour_desk.desk import Desk, Refused


def make_server(desk: Desk, port: int) -> HTTPServer:
    """A server that runs ``POST /actions/NAME``, one request at a time. Port 0: any free one."""

    class Handler(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            try:
                name = self.path.removeprefix("/actions/")
                self._answer(200, {"message": desk.run(name)})
            except KeyError:
                self._answer(404, {"message": f"no such action: {self.path}"})
            except Refused as refusal:
                self._answer(409, {"message": str(refusal)})
            except Exception as error:
                self._answer(500, {"message": f"{type(error).__name__}: {error}"})

        def _answer(self, status: int, content: dict[str, str]) -> None:
            body = json.dumps(content).encode()
            self.send_response(status)
            self.send_header("Content-Type", "application/json")
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, format: str, *args: object) -> None:
            pass

    return HTTPServer(("127.0.0.1", port), Handler)


def stop_at_end_of(stream: BinaryIO, server: HTTPServer) -> None:
    """Stop the server when the stream ends, which it does when the starting process is gone."""

    def wait() -> None:
        while stream.read(1):
            pass
        server.shutdown()

    threading.Thread(target=wait, daemon=True).start()
