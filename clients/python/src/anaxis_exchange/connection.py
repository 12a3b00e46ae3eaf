"""The connection to a server, kept by a thread of its own: made, said hello on, made again where it was lost."""

from __future__ import annotations

import json
import queue
import threading
import time
from contextlib import suppress
from typing import Any, Callable

from websockets.exceptions import ConnectionClosed, WebSocketException
from websockets.sync.client import ClientConnection, connect

from anaxis_exchange.wire import unwired, wired

_OPEN_WITHIN_S, _WELCOME_WITHIN_S = 5.0, 15.0
_LEAST_WAIT_S, _MOST_WAIT_S = 0.1, 2.0


class Connection:
    """``heard`` is filled with messages, a welcome first after each connection. ``state`` is "connected" or "away", ``said`` why."""

    def __init__(self, server: str, hello: Callable[[], dict[str, Any]]) -> None:
        base = server.rstrip("/").replace("http://", "ws://", 1).replace("https://", "wss://", 1)
        self.address, self.heard = f"{base}/exchange/v1", queue.Queue[dict]()
        self.state, self.said = "away", ""
        # Nothing is sent on a new connection before its welcome was heard, so that what is sent again goes first.
        self.greeted = False
        self._hello = hello
        self._socket: ClientConnection | None = None
        self._error = ""
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._run, name="anaxis exchange", daemon=True)

    def start(self) -> None:
        self._thread.start()

    def close(self) -> None:
        self._over.set()
        self.cut()
        if self._thread.is_alive():
            self._thread.join(_OPEN_WITHIN_S)

    def cut(self) -> None:
        """End this connection; another is made."""
        socket = self._socket
        if socket is not None:
            socket.close()

    def send(self, message: dict[str, Any]) -> None:
        """Sent where there is a connection: what must not be lost is sent again from the journal when there is one."""
        socket = self._socket
        if socket is not None and self.greeted:
            with suppress(ConnectionClosed, OSError):  # the reader finds the same
                socket.send(wired(message))

    def _run(self) -> None:
        wait_s = _LEAST_WAIT_S
        while not self._over.is_set():
            began = time.monotonic()
            try:
                self._connected()
            except (OSError, TimeoutError, ValueError, WebSocketException) as error:
                self.said = self._error or str(error)[:300]
            self._socket, self.state = None, "away"
            lasted = time.monotonic() - began > _OPEN_WITHIN_S
            wait_s = _LEAST_WAIT_S if lasted else min(_MOST_WAIT_S, wait_s * 2)
            self._over.wait(wait_s)

    def _connected(self) -> None:
        with connect(self.address, max_size=None, open_timeout=_OPEN_WITHIN_S, compression=None) as socket:
            socket.send(json.dumps(self._hello()))
            welcome = unwired(socket.recv(_WELCOME_WITHIN_S))
            if welcome["type"] != "welcome":
                self.heard.put(welcome)
                raise OSError(welcome.get("sentence", "the server did not say welcome"))
            self.greeted = False
            self._socket, self.state, self.said, self._error = socket, "connected", "", ""
            self.heard.put(welcome)
            for data in socket:
                message = unwired(data)
                if message["type"] == "error":  # why the server ends the connection, where it does
                    self._error = str(message.get("sentence", ""))[:300]
                self.heard.put(message)
