"""Text in a film: the comment extension of GIF89a (specification of 1990, section 24)."""

from __future__ import annotations

from pathlib import Path

_HEADER = 13
"""Bytes of the signature and the description of the screen."""
_BLOCK = 255


def put_comment(path: Path, text: str) -> None:
    """Put a comment in front of the frames of a film."""
    content = path.read_bytes()
    packed = content[10]
    colours = 3 << ((packed & 7) + 1) if packed & 0x80 else 0
    start = _HEADER + colours
    data = text.encode()
    blocks = (data[at : at + _BLOCK] for at in range(0, len(data), _BLOCK))
    comment = (
        b"!\xfe" + b"".join(bytes([len(block)]) + block for block in blocks) + b"\0"
    )
    path.write_bytes(b"GIF89a" + content[6:start] + comment + content[start:])


def find_comment(path: Path) -> str | None:
    """Return the comment that `put_comment` has put into a film; None where there is none."""
    content = path.read_bytes()
    if content[:3] != b"GIF" or len(content) < _HEADER:
        return None
    packed = content[10]
    at = _HEADER + (3 << ((packed & 7) + 1) if packed & 0x80 else 0)
    if content[at : at + 2] != b"!\xfe":
        return None
    at += 2
    parts = []
    while at < len(content) and content[at]:
        parts.append(content[at + 1 : at + 1 + content[at]])
        at += 1 + content[at]
    return b"".join(parts).decode("utf-8", "replace")
