#!/usr/bin/env python3
"""Draws icon.ico: four layers, of which one is odd. usage: draw.py"""
import pathlib
import struct
import zlib

LAYERS = [(0.16, 0.0, (0x2B, 0x6C, 0xB0)), (0.36, 0.10, (0xE8, 0x8D, 0x2A)), (0.56, 0.0, (0x2B, 0x6C, 0xB0)), (0.76, 0.0, (0x1F, 0x4E, 0x80))]
FINER = 4


def covered(x, y):
    """The colour at a point of the unit square, or none."""
    for top, shift, colour in LAYERS:
        left, right, bottom = 0.10 + shift, 0.80 + shift, top + 0.13
        if top <= y <= bottom:
            # Rounded ends.
            radius = 0.065
            middle = (top + bottom) / 2
            near = min(max(x, left + radius), right - radius)
            if (x - near) ** 2 + (y - middle) ** 2 <= radius**2:
                return colour
    return None


def png(size):
    rows = []
    for row in range(size):
        line = bytearray([0])
        for column in range(size):
            found = [
                covered((column + (i + 0.5) / FINER) / size, (row + (j + 0.5) / FINER) / size)
                for i in range(FINER)
                for j in range(FINER)
            ]
            hits = [colour for colour in found if colour]
            if hits:
                line += bytes(sum(colour[k] for colour in hits) // len(hits) for k in range(3))
            else:
                line += bytes(3)
            line.append(255 * len(hits) // len(found))
        rows.append(bytes(line))
    chunk = lambda kind, data: struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))
    head = struct.pack(">IIBBBBB", size, size, 8, 6, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(b"".join(rows), 9)) + chunk(b"IEND", b"")


images = [(size, png(size)) for size in (16, 32, 48, 64, 256)]
entries, at = b"", 6 + 16 * len(images)
for size, data in images:
    entries += struct.pack("<BBBBHHII", size % 256, size % 256, 0, 0, 1, 32, len(data), at)
    at += len(data)
folder = pathlib.Path(__file__).resolve().parent
(folder / "icon.ico").write_bytes(struct.pack("<HHH", 0, 1, len(images)) + entries + b"".join(data for _, data in images))
