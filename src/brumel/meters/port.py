"""A simulated meter on a TCP port: it speaks the link's protocol and shows what it is told the probes stand in."""

from __future__ import annotations

import socketserver
from collections.abc import Callable, Sequence

from brumel.meters import sdi12

Addresses = Callable[[], Sequence[str]]


def serve(host: str, port: int, addresses: Addresses, sense: sdi12.Sense) -> socketserver.ThreadingTCPServer:
    """A server ready to run with `serve_forever`; port 0 takes a free one."""

    class Line(socketserver.BaseRequestHandler):
        """One plugged-in cable."""

        def handle(self) -> None:
            """Answer commands until the cable is pulled."""
            waiting, meter = "", sdi12.Meter((), sense)
            while data := self.request.recv(256):
                waiting = (waiting + data.decode("ascii", "replace"))[-4 * sdi12.LONGEST :]
                while "!" in waiting:
                    command, _, waiting = waiting.partition("!")
                    meter.addresses = addresses()
                    answer = meter.respond(command.lstrip() + "!")
                    if answer:
                        self.request.sendall(answer.encode("ascii"))

    class Port(socketserver.ThreadingTCPServer):
        """Cables may be pulled and plugged in again at once."""

        allow_reuse_address = True
        daemon_threads = True

    return Port((host, port), Line)
