"""Clients that send slowly or nothing, by the hundred, while somebody asks for health."""

from __future__ import annotations

import resource
import socket
import ssl
import statistics
import threading
import time
import urllib.request
from collections.abc import Sequence
from dataclasses import dataclass, field

DRIP_S = 2.0


@dataclass
class Crowd:
    """Connections to ``port`` that drip: half of them headers, half of them bodies; and streams of a sign-in."""

    port: int
    host: str = "127.0.0.1"
    sockets: list[socket.socket] = field(default_factory=list)
    streams: list[socket.socket] = field(default_factory=list)
    over: threading.Event = field(default_factory=threading.Event)

    def _connect(self) -> socket.socket:
        one = socket.create_connection((self.host, self.port), timeout=5)
        one.settimeout(0.5)
        return one

    def gather(self, slow: int, streams: int, cookies: Sequence[str], visit: str) -> None:
        """Connect all of them, the streams by turns of these sign-ins, and have them drip on a thread of their own."""
        soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
        wanted = slow + streams + 512
        if soft < wanted:
            resource.setrlimit(resource.RLIMIT_NOFILE, (min(wanted, hard), hard))
        for number in range(streams):
            one = self._connect()
            one.sendall(
                f"GET /api/live?visit={visit} HTTP/1.1\r\nHost: {self.host}:{self.port}\r\n"
                f"Cookie: {cookies[number % len(cookies)]}\r\n\r\n".encode()
            )
            self.streams.append(one)
        for number in range(slow):
            one = self._connect()
            head = f"POST /api/session HTTP/1.1\r\nHost: {self.host}:{self.port}\r\n"
            body = "Content-Type: application/json\r\nContent-Length: 20000\r\n\r\n{"
            one.sendall((head + (body if number % 2 else "X-Slow: ")).encode())
            self.sockets.append(one)
        threading.Thread(target=self._drip, daemon=True).start()

    def _drip(self) -> None:
        while not self.over.wait(DRIP_S):
            for number, one in enumerate(self.sockets):
                try:
                    one.send(b" ")
                except OSError:  # it was shut: a client of bad faith comes again
                    try:
                        self.sockets[number] = self._connect()
                        self.sockets[number].sendall(b"POST /api/session HTTP/1.1\r\nX-Slow: ")
                    except OSError:
                        continue

    def served(self) -> int:
        """How many of the streams were begun."""
        count = 0
        for one in self.streams:
            try:
                count += one.recv(64, socket.MSG_PEEK).startswith(b"HTTP/1.1 200")
            except OSError:
                continue
        return count

    def leave(self) -> None:
        """Hang up, all of them."""
        self.over.set()
        for one in (*self.sockets, *self.streams):
            one.close()


def health_times(address: str, times: int, every_s: float, timeout_s: float = 10) -> list[float]:
    """Ask for health again and again; return the seconds each answer took. Raises OSError where none comes."""
    out = []
    context = ssl._create_unverified_context() if address.startswith("https") else None
    for _ in range(times):
        began = time.monotonic()
        with urllib.request.urlopen(f"{address}/api/health", timeout=timeout_s, context=context) as answer:
            assert answer.status == 200
        out.append(time.monotonic() - began)
        time.sleep(every_s)
    return out


def p95(seconds: list[float]) -> float:
    """The time within which nineteen of twenty were answered."""
    return statistics.quantiles(seconds, n=20)[-1]
