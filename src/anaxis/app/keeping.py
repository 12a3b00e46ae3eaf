"""For how many days each kind of thing that can be made again is kept: settings."""

from __future__ import annotations

import os
from datetime import UTC, datetime, timedelta

from anaxis.core.errors import BadInput

# Days by setting; a setting of 0 keeps for ever.
SETTINGS = {
    "ANAXIS_KEEP_MADE_DAYS": ("zips and other made files", 14),
    "ANAXIS_KEEP_PROXIES_DAYS": ("unused plate proxies", 30),
    "ANAXIS_KEEP_UPLOADS_DAYS": ("uploads that were not saved", 7),
    "ANAXIS_KEEP_NOTICES_DAYS": ("notices that were read", 90),
    "ANAXIS_KEEP_CHANGES_DAYS": ("old changes from packages; the cameras stay", 30),
}


def days_of(setting: str) -> int:
    """Raises BadInput for a setting that is not a number of days."""
    given = os.environ.get(setting, "").strip()
    if not given:
        return SETTINGS[setting][1]
    if not given.isdigit() or int(given) > 36_500:
        raise BadInput(f"{setting} is '{given[:40]}': write a number of days, 0 to keep always.")
    return int(given)


def kept_from(setting: str) -> datetime:
    """The moment before which things of this kind are taken away; 1970 where all are kept."""
    days = days_of(setting)
    return datetime.now(UTC) - timedelta(days=days) if days else datetime(1970, 1, 1, tzinfo=UTC)
