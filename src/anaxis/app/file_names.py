"""What a file's name says: show, shot, camera and version, by a rule that a person writes, or by a guess."""

from __future__ import annotations

import re
from pathlib import PurePosixPath
from typing import NamedTuple

from anaxis.core.errors import BadInput

FIELDS = ("show", "shot", "camera", "version")
_MOST = 200


class Named(NamedTuple):
    """What a name says; "" of what it does not say, None where it has no version number."""

    show: str = ""
    shot: str = ""
    camera: str = ""
    version: int | None = None


def guessed(name: str) -> Named:
    """Without a rule: AB_010 and 3 of AB_010_camera_v003.usd, else its stem as the shot."""
    stem = PurePosixPath(name).stem
    shot = re.match(r"([A-Za-z]+[_-]?\d{2,5})", stem)
    version = re.search(r"(?:^|[_.-])v(\d{1,6})(?!\d)", stem, re.IGNORECASE)
    return Named(shot=shot[1] if shot else stem[:40], version=int(version[1]) if version else None)


def compiled(rule: str) -> re.Pattern[str]:
    """A rule such as ``{show}/{shot}_{camera}_v{version}`` as a pattern; ``*`` stands for anything that is not wanted.

    A rule without a slash is held against the file's name, one with slashes against as many folders above it.
    Raises BadInput for a rule that names no shot, or something that is no field.
    """
    rule = rule.strip()
    if not rule or len(rule) > _MOST:
        raise BadInput(f"A rule has 1 to {_MOST} characters, such as {{shot}}_{{camera}}_v{{version}}.")
    pattern, seen = "", set()
    for field, other in re.findall(r"\{([^}]*)\}|([^{]+|\{)", rule):
        if other:
            pattern += re.escape(other).replace(r"\*", "[^/]*")
        elif field not in FIELDS or field in seen:
            raise BadInput(
                f"'{{{field[:40]}}}' {'stands twice' if field in seen else 'is no field'} in the rule '{rule[:80]}': use {', '.join(f'{{{f}}}' for f in FIELDS)}, "
                "each once."
            )
        else:
            seen.add(field)
            pattern += r"(?P<version>\d{1,9})" if field == "version" else f"(?P<{field}>[^/]+?)"
    if "shot" not in seen:
        raise BadInput(f"The rule '{rule[:80]}' names no {{shot}}: write where the shot stands in a file's name.")
    return re.compile(pattern)


def named(name: str, rule: str = "") -> Named:
    """What a file's path, with forward slashes, says by a rule; without one it is guessed. Raises BadInput where the rule
    does not fit."""
    if not rule.strip():
        return guessed(name)
    pattern = compiled(rule)
    parts = str(PurePosixPath(name).with_suffix("")).split("/")
    wanted = "/".join(parts[-(rule.count("/") + 1) :])
    found = pattern.fullmatch(wanted)
    if found is None:
        raise BadInput(f"{name[-120:]} is not named by the rule '{rule[:80]}': change one of them.", "rule")
    said = found.groupdict()
    version = said.get("version")
    return Named(said.get("show") or "", said["shot"], said.get("camera") or "", int(version) if version else None)


def named_if(name: str, rule: str) -> Named:
    """The same, with nothing said where the rule does not fit or is none."""
    try:
        return named(name, rule)
    except BadInput:
        return Named()
