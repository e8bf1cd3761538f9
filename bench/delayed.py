"""A slow link: carries connections to another address, and holds back all that passes for so many seconds each way.

Called as ``python -m bench.delayed PORT ADDRESS PORT SECONDS``; writes a line as soon as it listens.
"""

from __future__ import annotations

import asyncio
import sys
from contextlib import suppress


async def _carry(reader: asyncio.StreamReader, writer: asyncio.StreamWriter, seconds: float) -> None:
    loop = asyncio.get_running_loop()
    held: asyncio.Queue[tuple[float, bytes]] = asyncio.Queue()

    async def hand_on() -> None:
        while True:
            at, piece = await held.get()
            await asyncio.sleep(max(0.0, at - loop.time()))
            if not piece:
                writer.close()
                return
            writer.write(piece)

    handing = asyncio.create_task(hand_on())
    with suppress(OSError):
        while piece := await reader.read(1 << 16):
            held.put_nowait((loop.time() + seconds, piece))
    held.put_nowait((loop.time() + seconds, b""))
    await handing


async def _serve(port: int, address: str, far_port: int, seconds: float) -> None:
    async def one(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        far_reader, far_writer = await asyncio.open_connection(address, far_port)
        await asyncio.gather(
            _carry(reader, far_writer, seconds), _carry(far_reader, writer, seconds), return_exceptions=True
        )

    server = await asyncio.start_server(one, "127.0.0.1", port)
    print("listens", flush=True)
    await server.serve_forever()


if __name__ == "__main__":
    asyncio.run(_serve(int(sys.argv[1]), sys.argv[2], int(sys.argv[3]), float(sys.argv[4])))
