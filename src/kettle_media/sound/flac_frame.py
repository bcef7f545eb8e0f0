"""The head of a FLAC frame: which samples it holds, without decoding it (RFC 9639, section 9.1)."""

_SIZES = {1: 192, **{n: 576 << (n - 2) for n in range(2, 6)}, **{n: 1 << n for n in range(8, 16)}}
HEAD_BYTES = 16


def flac_samples(head: bytes, block_samples: int) -> tuple[int, int] | None:
    """First sample and number of samples of a frame; None if this is no FLAC frame.

    Parameters
    ----------
    head : the frame's first `HEAD_BYTES` bytes or more
    block_samples : size of all blocks but the last, where the stream has one size

    Examples
    --------
    >>> flac_samples(bytes([0xFF, 0xF8, 0xC9, 0x18, 0x02, 0xC2] + [0] * 10), 4096)
    (8192, 4096)
    """
    if len(head) < HEAD_BYTES or head[0] != 0xFF or head[1] & 0xFE != 0xF8:
        return None
    number, at = _coded_number(head)
    code = head[2] >> 4
    if code == 6:
        samples = head[at] + 1
    elif code == 7:
        samples = int.from_bytes(head[at : at + 2], "big") + 1
    else:
        samples = _SIZES.get(code, 0)
    if number < 0 or not samples:
        return None
    counts_samples = head[1] & 1
    return (number if counts_samples else number * block_samples), samples


def _coded_number(head: bytes) -> tuple[int, int]:
    """The frame's number, coded like UTF-8 with up to 7 bytes, and where the head goes on."""
    first, at = head[4], 5
    if first < 0x80:
        return first, at
    more = 0
    while first & (0x80 >> more):
        more += 1
    if more == 1:
        return -1, at
    number = first & (0x7F >> more)
    for byte in head[at : at + more - 1]:
        number = number << 6 | byte & 0x3F
    return number, at + more - 1
