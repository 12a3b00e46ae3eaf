"""Names that people give: what may stand in one, and how it is written where a file or a package takes less."""

from __future__ import annotations

import unicodedata
from collections.abc import Sequence

from anyascii import anyascii

from anaxis.core.errors import BadInput

# Joiners change how letters of some scripts are drawn; every other character that cannot be seen is refused.
_JOINERS = "\u200c\u200d"
_UNSEEN = ("Cc", "Cf", "Cs", "Zl", "Zp")
_MOST_BYTES = 200


def visible_name(name: str) -> str:
    """A name in Unicode's composed form (NFC). Raises BadInput for characters that cannot be seen: controls, and those that
    turn the direction of writing."""
    unseen = next((c for c in name if unicodedata.category(c) in _UNSEEN and c not in _JOINERS), None)
    if unseen is not None:
        raise BadInput(
            f"The name has the character U+{ord(unseen):04X}, which is invisible: type the name again without it.",
            "bad_name",
        )
    return unicodedata.normalize("NFC", name)


def without_unseen(name: str) -> str:
    """A name that came with a file, with _ for every character that :func:`visible_name` refuses."""
    return "".join("_" if unicodedata.category(c) in _UNSEEN and c not in _JOINERS else c for c in name)


def file_stem_of(text: str) -> str:
    """What a file can be called: letters and digits of every script, and . _ -; _ for anything else; "" where nothing is left."""
    kept = "".join(c if c.isalnum() or c in "._-" or unicodedata.category(c) in ("Mn", "Mc") else " " for c in text)
    joined = "_".join(unicodedata.normalize("NFC", kept).split()).strip("._")
    return joined.encode()[:_MOST_BYTES].decode(errors="ignore")


def spelled(text: str) -> str:
    """A name in the letters of ASCII, transliterated by sound, for what takes no others."""
    return anyascii(unicodedata.normalize("NFC", text))


def listed(names: Sequence[str], most: int = 6, between: str = ", ") -> str:
    """The first ``most`` of some names or sentences, and how many more there are."""
    more = f" and {len(names) - most} more" if len(names) > most else ""
    return between.join(names[:most]) + more


# What people take for each other although Unicode does not call it confusable with the same letter.
_ALSO_ALIKE = str.maketrans({"1": "l", "|": "l", "i": "l", "0": "o"})


def looks_like(name: str) -> str:
    """The same for names that people take for each other: case, accents, look-alikes of other scripts, 0 and o, 1, i and l."""
    plain = "".join(
        c for c in unicodedata.normalize("NFKD", name) if not unicodedata.combining(c) and c not in _JOINERS
    )
    latin = "".join(_latin(c) for c in plain).casefold()
    return " ".join(latin.translate(_ALSO_ALIKE).replace("rn", "m").replace("vv", "w").split())


def _latin(character: str) -> str:
    """The letter of ASCII that a character is confusable with (Unicode Technical Standard 39), or the character."""
    if character.isascii():
        return character
    from confusable_homoglyphs.confusables import confusables_data  # a large table: loaded for names beyond ASCII alone

    alike = (other["c"] for other in confusables_data.get(character, ()))
    return next((c for c in alike if c.isascii() and c.isalnum()), character)
