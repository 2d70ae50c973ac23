"""How requests come in and answers go out: pages in a few threads, live answers and slow senders in none.

A request is read whole before a thread takes it, so whoever sends it slowly, or never sends the rest, holds up nobody.
Answers that are written as things happen (`brumel.web.held`) are kept by the event loop and only looked at in a thread.
"""

from __future__ import annotations

import asyncio
import tempfile
import time
from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from typing import IO, Any

from a2wsgi import WSGIMiddleware

from brumel.web.held import SLOT, Held

#: Threads a worker for pages; and for looking at what is live, which waits in line behind the pages' use of the processor.
PAGE_THREADS = 16
LOOK_THREADS = 1
#: So many requests may wait for a thread before the next is asked to come again later.
MOST_WAITING = 400
#: How long a request may take to arrive whole [s].
LONGEST_ARRIVAL_S = 60.0
#: What is larger than this is kept on disk until it is whole [bytes].
IN_MEMORY = 200_000
#: The largest body of any route; each has a limit of its own besides.
LARGEST_BODY = 42_000_000
#: What a stranger, who shows neither a session nor a token, may send.
LARGEST_OF_A_STRANGER = 1_100_000
_CHUNK = 65_536


class _Refusal(Exception):
    """The request is answered here, without a page: status and sentence."""

    def __init__(self, status: int, sentence: str) -> None:
        self.status, self.sentence = status, sentence


class Doors:
    """The application as an asynchronous server runs it (ASGI)."""

    def __init__(self, pages: Any, page_threads: int = PAGE_THREADS) -> None:
        # Whatever a page sends is taken off its thread at once; a slow reader holds none.
        self._pages = WSGIMiddleware(pages, workers=page_threads, send_queue_size=0)
        self._lookers = ThreadPoolExecutor(LOOK_THREADS, thread_name_prefix="live")
        self._under_way, self._room = 0, MOST_WAITING + page_threads

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        if scope["type"] != "http":
            await self._pages(scope, receive, send)
            return
        try:
            clean = _cleaned(scope)
            with tempfile.SpooledTemporaryFile(max_size=IN_MEMORY) as body:
                length = await _arrived(clean, receive, body)
                if self._under_way >= self._room:
                    raise _Refusal(
                        503, "Too many ask at once. What was accepted before is safe; try again in a moment."
                    )
                self._under_way += 1
                try:
                    await self._answer(_of_length(clean, length), body, receive, send)
                finally:
                    self._under_way -= 1
        except _Refusal as refusal:
            await _refuse(send, refusal)
        except ConnectionError:
            return  # whoever asked has gone

    async def _answer(self, scope: Any, body: IO[bytes], receive: Any, send: Any) -> None:
        taken_over: list[Held] = []
        scope[SLOT] = taken_over

        async def read() -> Any:
            chunk = body.read(_CHUNK)
            return {"type": "http.request", "body": chunk, "more_body": len(chunk) == _CHUNK}

        async def pass_on(message: Any) -> None:
            is_end = message["type"] == "http.response.body" and not message.get("more_body", False)
            if not (taken_over and is_end):
                await send(message)

        await self._pages(scope, read, pass_on)
        if taken_over:
            self._under_way -= 1  # it waits for nothing of ours
            try:
                await self._hold(taken_over[0], receive, send)
            finally:
                self._under_way += 1

    async def _hold(self, held: Held, receive: Any, send: Any) -> None:
        loop, woken = asyncio.get_running_loop(), asyncio.Event()
        gone = loop.create_task(_until_gone(receive))
        end = loop.time() + held.longest_s
        try:
            with held.hub.watch(lambda: loop.call_soon_threadsafe(woken.set), *held.names):
                while not gone.done() and loop.time() < end:
                    woken.clear()
                    text, is_over = await loop.run_in_executor(self._lookers, _with_breath, held.look)
                    if text:
                        await send({"type": "http.response.body", "body": text, "more_body": True})
                    if is_over:
                        break
                    news = loop.create_task(woken.wait())
                    await asyncio.wait({news, gone}, timeout=held.idle_s, return_when=asyncio.FIRST_COMPLETED)
                    news.cancel()
            await send({"type": "http.response.body", "body": b"", "more_body": False})
        finally:
            gone.cancel()


def _with_breath(look: Callable[[], tuple[bytes, bool]]) -> tuple[bytes, bool]:
    """Look, then leave the processor to the pages for as long: many who watch are told less often, and nobody else waits."""
    begun = time.thread_time()
    seen = look()
    time.sleep(time.thread_time() - begun)
    return seen


async def _until_gone(receive: Any) -> None:
    while (await receive())["type"] != "http.disconnect":
        pass


def _cleaned(scope: Any) -> Any:
    """The request without what could be read in two ways. Raises _Refusal."""
    try:
        scope["query_string"].decode("ascii")
    except UnicodeDecodeError:
        raise _Refusal(400, "The request could not be read.") from None
    # A header with an underscore looks to the application like the one with a hyphen, which a proxy has written.
    return {**scope, "headers": [(name, value) for name, value in scope["headers"] if b"_" not in name]}


def _of_length(scope: Any, length: int) -> Any:
    others = [(n, v) for n, v in scope["headers"] if n not in (b"content-length", b"transfer-encoding")]
    return {**scope, "headers": [*others, (b"content-length", b"%d" % length)] if length else others}


async def _arrived(scope: Any, receive: Any, body: IO[bytes]) -> int:
    """Wait until the request is whole; returns the length of its body. Raises _Refusal, ConnectionError if it breaks off."""
    headers = dict(scope["headers"])
    may = LARGEST_BODY if {b"cookie", b"authorization"} & headers.keys() else LARGEST_OF_A_STRANGER
    declared = headers.get(b"content-length", b"0")
    if not declared.isdigit() or int(declared[:12]) > may:
        raise _Refusal(413, "That is too much to send at once.")
    length = 0
    try:
        async with asyncio.timeout(LONGEST_ARRIVAL_S):
            while True:
                message = await receive()
                if message["type"] == "http.disconnect":
                    raise ConnectionResetError
                chunk = message.get("body", b"")
                length += len(chunk)
                if length > may:
                    raise _Refusal(413, "That is too much to send at once.")
                body.write(chunk)
                if not message.get("more_body", False):
                    break
    except TimeoutError:
        raise _Refusal(408, "The request did not arrive whole in time. Send it again.") from None
    body.seek(0)
    return length


async def _refuse(send: Any, refusal: _Refusal) -> None:
    sentence = refusal.sentence.encode()
    headers: Iterable[tuple[bytes, bytes]] = [
        (b"content-type", b"text/plain; charset=utf-8"),
        (b"content-length", b"%d" % len(sentence)),
        (b"x-content-type-options", b"nosniff"),
        (b"cache-control", b"no-store"),
        (b"connection", b"close"),
        *([(b"retry-after", b"5")] if refusal.status == 503 else []),
    ]
    await send({"type": "http.response.start", "status": refusal.status, "headers": headers})
    await send({"type": "http.response.body", "body": sentence, "more_body": False})
