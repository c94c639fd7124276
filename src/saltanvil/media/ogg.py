"""Ogg pages (RFC 3533) of a Vorbis file: its comments, and a first packet on a page of its own.

Of a stream whose sound fits one page decoders cannot tell what is to be cut at its start from what is to be cut at its end:
FFmpeg takes the last 128 frames off, or leaves up to 128 too many. The first packet of sound gives none by itself ("Vorbis I
specification", section 4.3.8); with that one on a page of its own, whose granule position is 0, the rest is told apart.
"""

import shutil
import struct
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

HEADER = "<4sBBqIII"
HEADER_BYTES, CRC_AT = 27, 22
LAST_PAGE = 4
#: Header packets of Vorbis, and how much of a file is looked at for them and the first page of sound.
HEADERS, HEAD_BYTES = 3, 1 << 18
COMMENT = b"\x03vorbis"
#: Bytes that fit one page.
MAX_PAGE_BYTES = 255 * 255


def _checksums() -> list[int]:
    """Of each byte: polynomial 0x04c11db7, most significant bit first (RFC 3533, section 6)."""
    table = []
    for byte in range(256):
        value = byte << 24
        for _ in range(8):
            value = (value << 1 ^ 0x04C11DB7 if value & 0x80000000 else value << 1) & 0xFFFFFFFF
        table.append(value)
    return table


CHECKSUMS = _checksums()


def checksum(data: bytes) -> int:
    value = 0
    for byte in data:
        value = (value << 8 & 0xFFFFFFFF) ^ CHECKSUMS[value >> 24 ^ byte]
    return value


@dataclass(frozen=True)
class Page:
    """lacing: lengths of the segments; a packet ends with one below 255."""

    flags: int
    granule: int
    serial: int
    number: int
    lacing: bytes
    body: bytes

    def __bytes__(self) -> bytes:
        head = struct.pack(HEADER, b"OggS", 0, self.flags, self.granule, self.serial, self.number, 0)
        whole = head + bytes([len(self.lacing)]) + self.lacing + self.body
        return whole[:CRC_AT] + struct.pack("<I", checksum(whole)) + whole[CRC_AT + 4 :]

    def packets(self) -> list[bytes]:
        """Those that end here."""
        result, start, at = [], 0, 0
        for length in self.lacing:
            at += length
            if length < 255:
                result.append(self.body[start:at])
                start = at
        return result


def pages(data: bytes) -> Iterator[Page]:
    """Those that are whole."""
    at = 0
    while at + HEADER_BYTES <= len(data):
        _, _, flags, granule, serial, number, _ = struct.unpack_from(HEADER, data, at)
        body = at + HEADER_BYTES + data[at + HEADER_BYTES - 1]
        lacing = data[at + HEADER_BYTES : body]
        at = body + sum(lacing)
        if at > len(data):
            return
        yield Page(flags, granule, serial, number, lacing, data[body:at])


def laced(packets: list[bytes]) -> bytes:
    return b"".join(bytes([255] * (len(packet) // 255) + [len(packet) % 255]) for packet in packets)


def with_tags(comment: bytes, tags: dict[str, str]) -> bytes:
    """A comment packet with other comments and the same vendor ("Vorbis I specification", section 5)."""
    (length,) = struct.unpack_from("<I", comment, len(COMMENT))
    vendor = comment[len(COMMENT) : len(COMMENT) + 4 + length]
    texts = [f"{name}={text}".encode() for name, text in tags.items()]
    listed = b"".join(struct.pack("<I", len(text)) + text for text in texts)
    return COMMENT + vendor + struct.pack("<I", len(texts)) + listed + b"\x01"


def apart(page: Page) -> list[Page]:
    """A page as two: its first packet, of which no sound comes by itself, and the others."""
    count = next(number for number, length in enumerate(page.lacing) if length < 255) + 1
    size = sum(page.lacing[:count])
    first = Page(0, 0, page.serial, page.number, page.lacing[:count], page.body[:size])
    rest = Page(page.flags, page.granule, page.serial, page.number + 1, page.lacing[count:], page.body[size:])
    return [first, rest]


def finish_vorbis(path: Path, tags: dict[str, str]) -> None:
    """Give a Vorbis file, as libvorbis writes it, its tags, and split its only page of sound. Raises OSError, which leaves it as
    it was."""
    with path.open("rb") as file:
        head = file.read(HEAD_BYTES)
        known, packets = [], 0
        for page in pages(head):
            known.append(page)
            packets += len(page.packets())
            if packets > HEADERS:
                break
        if packets <= HEADERS:
            return  # no sound
        *headers, sound = known
        alone = bool(sound.flags & LAST_PAGE)
        if not (tags or alone):
            return
        if tags and len(headers) == HEADERS - 1:
            # Comments and codebooks share the second page: as long as they fit it, the pages behind keep their numbers.
            comment, codebooks = headers[1].packets()
            both = [with_tags(comment, tags), codebooks]
            if sum(map(len, both)) + HEADER_BYTES < MAX_PAGE_BYTES:
                second = headers[1]
                headers[1] = Page(second.flags, second.granule, second.serial, second.number, laced(both), b"".join(both))
        copy = path.with_name(f"{path.name}.pages")
        try:
            with copy.open("wb") as out:
                for page in [*headers, *(apart(sound) if alone else [sound])]:
                    out.write(bytes(page))
                file.seek(sum(HEADER_BYTES + len(page.lacing) + len(page.body) for page in known))
                shutil.copyfileobj(file, out)
            copy.replace(path)
        finally:
            copy.unlink(missing_ok=True)
