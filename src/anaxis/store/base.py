"""What all tables have in common: the types of columns, the way to a row's show, and names that can be seen."""

from __future__ import annotations

from datetime import datetime
from typing import Any, ClassVar

from sqlalchemy import DateTime, LargeBinary, Text
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import DeclarativeBase, validates

from anaxis.core.names import visible_name


class Base(DeclarativeBase):
    type_annotation_map = {  # noqa: RUF012  (SQLAlchemy reads it off the class)
        str: Text,
        bytes: LargeBinary,
        datetime: DateTime(timezone=True),
        dict[str, Any]: JSONB,
        list[Any]: JSONB,
    }

    # The relationship to the row that a row of a show belongs to, and through it to its show; "" for what is of no show.
    # Roles, what is seen and the history go by it.
    belongs_to: ClassVar[str] = ""

    @validates("name")
    def _visible_name(self, key: str, name: str) -> str:
        """Raises BadInput for a name with characters that cannot be seen, whatever it is the name of."""
        return visible_name(name) if isinstance(name, str) else name
