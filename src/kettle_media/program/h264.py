"""H.264 as it lies in MP4 and as it comes out of an encoder (ITU-T H.264 annex B, ISO 14496-15)."""

START_CODE = b"\x00\x00\x00\x01"
SPS, PPS = 7, 8


def with_start_codes(data: bytes) -> bytes:
    r"""A packet of an MP4, where each unit says its length, as an encoder gives it.

    >>> with_start_codes(b"\x00\x00\x00\x02\x65\x88").hex()
    '000000016588'
    """
    units, at = [], 0
    while at + 4 <= len(data):
        length = int.from_bytes(data[at : at + 4], "big")
        units.append(START_CODE + data[at + 4 : at + 4 + length])
        at += 4 + length
    return b"".join(units)


def headers_of(extradata: bytes) -> list[bytes]:
    """The sequence and picture headers of a stream, in either form."""
    if extradata[:1] == b"\x01":
        return _headers_in_mp4(extradata)
    units = extradata.replace(START_CODE, START_CODE[1:]).split(START_CODE[1:])
    return sorted(u for u in units if u and u[0] & 31 in (SPS, PPS))


def _headers_in_mp4(extradata: bytes) -> list[bytes]:
    found, at = [], 5
    for mask in (31, 255):
        count = extradata[at] & mask
        at += 1
        for _ in range(count):
            length = int.from_bytes(extradata[at : at + 2], "big")
            found.append(extradata[at + 2 : at + 2 + length])
            at += 2 + length
    return sorted(found)
