"""Profiles as files: what cannot be read is said."""

from __future__ import annotations

import pytest

from anaxis.core.errors import BadInput
from anaxis.packages.model import profile_from_text


@pytest.mark.parametrize("data", [b'{"key": ' + b"9" * 5000 + b"}", b"[" * 100_000, b"\xff\xfe", b"{"])
def test_what_is_no_json_is_said_so(data: bytes) -> None:
    """A number of more digits than Python takes is one of them."""
    with pytest.raises(BadInput, match="cannot be read as a profile"):
        profile_from_text(data, "x.json")
