#!/usr/bin/env python3
"""A line to a server that delays everything, for measuring what round trips cost.

Usage: slow-line.py PORT TO-PORT MILLISECONDS-EACH-WAY [without-closure]

With `without-closure` the interface for programs seems to be elsewhere, so that clients ask package by package.
"""
import asyncio
import sys

port, to, delay = int(sys.argv[1]), int(sys.argv[2]), float(sys.argv[3]) / 1000
hides = len(sys.argv) > 4


async def carry(reader, writer, change):
    queue = asyncio.Queue()

    async def deliver():
        while True:
            at, data = await queue.get()
            await asyncio.sleep(max(0.0, at - asyncio.get_running_loop().time()))
            if not data:
                writer.close()
                return
            writer.write(change(data))
            await writer.drain()

    delivering = asyncio.create_task(deliver())
    while data := await reader.read(1 << 16):
        queue.put_nowait((asyncio.get_running_loop().time() + delay, data))
    queue.put_nowait((asyncio.get_running_loop().time() + delay, b""))
    await delivering


async def connected(reader, writer):
    there, back = await asyncio.open_connection("127.0.0.1", to)
    hide = (lambda data: data.replace(b"api/v1", b"api/v0")) if hides else (lambda data: data)
    await asyncio.gather(
        carry(reader, back, lambda data: data), carry(there, writer, hide), return_exceptions=True
    )


async def main():
    server = await asyncio.start_server(connected, "127.0.0.1", port)
    await server.serve_forever()


asyncio.run(main())
