"""Writes docs/exchange.schema.json anew from the messages of the exchange."""

from __future__ import annotations

import json
from pathlib import Path

from anaxis.app.exchange.messages import schema

TARGET = Path(__file__).resolve().parent.parent / "docs" / "exchange.schema.json"


def main() -> None:
    TARGET.write_text(json.dumps(schema(), indent=1) + "\n")


if __name__ == "__main__":
    main()
