"""Text in tables that a table program opens."""

from __future__ import annotations


def text_cell(text: str) -> str:
    """Text that a table program would take for a formula, with an apostrophe in front: it stays text."""
    return f"'{text}" if text[:1] in ("=", "+", "-", "@", "\t", "\r") else text
