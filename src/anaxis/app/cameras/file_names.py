"""What a file's name says: show, shot, camera and version, by a rule that a person writes, or by a guess.

Both are held against the shots that the show has: where a name can be read in several ways, a shot that is there decides.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator
from pathlib import PurePosixPath
from typing import NamedTuple

from anaxis.core.errors import BadInput

FIELDS = ("show", "shot", "camera", "version")
_MOST, _MOST_WAYS = 200, 400
# A date, a range of frames or a size in a name: no part of a shot.
_NO_SHOT = re.compile(
    r"(?<!\d)((19|20)\d{2}[-_.]?(0[1-9]|1[0-2])[-_.]?([0-2]\d|3[01])|\d{3,6}-\d{3,6}|\d{3,5}x\d{3,5}|\d{1,2}k|\d{2,3}(fps|p))(?![\dA-Za-z])",
    re.I,
)
_VERSION = re.compile(r"^(?:v|ver|version|rev|take)(\d{1,6})$", re.I)
# A camera, and what tells it from another one of its shot.
_CAMERA = re.compile(
    r"^(?:shot|render|hero|main|witness)?cam(?:era)?(?P<which>[a-z]|\d{1,3}|left|right|main|hero)?$", re.I
)
# Words for what a file is of or how far it is, with a number or without.
_WORDS = re.compile(
    r"^(?:anim|animation|lay|layout|track|tracked|tracking|mm|matchmove|solve|solved|prev|previs|postvis|comp|light|lighting|lgt|fx|render|"
    r"final|wip|fix|fixed|test|old|new|copy|tmp|temp|bake|baked|export|exported|pub|publish|published|main|left|right|hero|witness|proj|"
    r"projection|scene|plate|bg|fg|geo|master|approved|delivery|out|from|for|to|the|by)\d{0,3}[a-z]?$",
    re.I,
)
# A part of a shot's name: a number with letters before or behind it.
_NUMBERED = re.compile(r"^[A-Za-z]*\d+[A-Za-z]{0,2}$")


class Named(NamedTuple):
    """What a name says; "" of what it does not say, None where it has no version number."""

    show: str = ""
    shot: str = ""
    camera: str = ""
    version: int | None = None


def guessed(name: str, shots: Collection[str] = ()) -> Named:
    """Without a rule: sq010_sh0040 and 4 of sq010_sh0040_cam_v004.usd, camB of TW010_camB_v002.usd; else its stem as the shot.

    A shot of ``shots`` that the name begins with is taken, where the guess does not say more.
    """
    stem = PurePosixPath(name).stem
    tokens = [(m.group(), m.start(), m.end()) for m in re.finditer(r"[^\W_]+", stem)]
    barred = [m.span() for m in _NO_SHOT.finditer(stem)]
    version = next((int(v[1]) for text, _, _ in reversed(tokens) if (v := _VERSION.match(text))), None)
    camera = next((text for text, _, _ in tokens if (cam := _CAMERA.match(text)) and cam["which"]), "")
    shot = ""
    begin = end = last = -1
    words: tuple[int, int] | None = None
    for text, low, high in tokens:
        stops = any(p.match(text) for p in (_VERSION, _CAMERA, _WORDS)) or any(a <= low < b for a, b in barred)
        if stops and end >= 0:
            break
        if stops:
            words = words or ((begin, last) if begin >= 0 else None)
            begin = -1
        elif _NUMBERED.match(text):
            begin, end = (low if begin < 0 else begin), high
        elif end >= 0:
            break  # a word behind the shot's numbers
        elif begin < 0:
            begin = low
        last = high
    if end >= 0:
        shot = stem[begin:end]
    elif (old := re.match(r"([A-Za-z]+[_-]?\d{2,5})", stem)) is not None:
        shot = old[1]
    elif words:
        shot = stem[words[0] : words[1]]
    known = _begun_with(stem, shots)
    told = known if known and not any(c.isdigit() for c in shot) else max(known, shot, key=len)
    return Named(shot=told or stem[:40], camera=camera, version=version)


def _begun_with(stem: str, shots: Collection[str]) -> str:
    """The longest of the shots that a name begins with, as it is written there; "" for none."""
    begun = _beginnings(stem)
    return max((s for s in shots if s.lower() in begun), key=len, default="")


def _beginnings(stem: str) -> set[str]:
    """All that a name begins with and that ends where a word ends, in lower case."""
    return {stem[:end].lower() for end in range(1, len(stem) + 1) if not stem[end : end + 1].isalnum()}


def possible_shots(name: str, rule: str = "") -> set[str]:
    """Every shot, in lower case, that makes a difference to :func:`named` where the show has it. Raises BadInput."""
    ways = _ways_of(name, rule) if rule.strip() else []
    return _beginnings(PurePosixPath(name).stem) | {way.shot.lower() for way in ways}


class NamePart(NamedTuple):
    """A piece of a rule: a ``field``, or else ``text`` as it stands, or * for anything."""

    field: str = ""
    text: str = ""


def parts_of(rule: str) -> list[NamePart]:
    """A rule such as ``{show}/{shot}_{camera}_v{version}`` in pieces; ``*`` stands for anything that is not wanted.

    A rule without a slash is held against the file's name, one with slashes against as many folders above it.
    Raises BadInput for a rule that names no shot, or something that is no field.
    """
    rule = rule.strip()
    if not rule or len(rule) > _MOST:
        raise BadInput(f"A rule has 1 to {_MOST} characters, such as {{shot}}_{{camera}}_v{{version}}.")
    parts: list[NamePart] = []
    for field, star, other in re.findall(r"\{([^}]*)\}|(\*)|([^{*]+|\{)", rule):
        if star or other:
            parts.append(NamePart(text=star or other))
        elif field not in FIELDS or NamePart(field) in parts:
            raise BadInput(
                f"'{{{field[:40]}}}' {'stands twice' if NamePart(field) in parts else 'is not a field'} in the rule '{rule[:80]}': use "
                f"{', '.join(f'{{{f}}}' for f in FIELDS)}, each once."
            )
        else:
            parts.append(NamePart(field))
    if NamePart("shot") not in parts:
        raise BadInput(f"The rule '{rule[:80]}' has no {{shot}}: write where the shot name is in the file name.")
    return parts


def named(name: str, rule: str = "", shots: Collection[str] = ()) -> Named:
    """What a file's path, with forward slashes, says by a rule; without one it is guessed.

    Where the rule splits the name in several ways, the way is taken whose shot is one of ``shots``, or the one that would be
    guessed. Raises BadInput where the rule does not fit, and where it splits the name in several ways and nothing tells which.
    """
    if not rule.strip():
        return guessed(name, shots)
    ways = _ways_of(name, rule)
    found = [w for w in ways if w.shot in shots] or ways
    guess = guessed(name, shots).shot
    if len({w.shot for w in found}) > 1:
        found = [w for w in found if w.shot == guess] or found
    if len({(w.show, w.shot) for w in found}) > 1:
        listed = ", ".join(f"'{s}'" for s in list(dict.fromkeys(w.shot for w in found))[:4])
        raise BadInput(
            f"{name[-120:]} matches the rule '{rule[:80]}' in several ways: the shot may be {listed}. Add fixed text to the rule, such as"
            " {shot}_camera_v{version}.",
            "rule_splits",
        )
    return max(found, key=lambda w: (len(w.camera), w.version or -1))


def _ways_of(name: str, rule: str) -> list[Named]:
    """The ways in which a rule splits a file's path. Raises BadInput where there is none."""
    pieces = str(PurePosixPath(name).with_suffix("")).split("/")
    wanted = "/".join(pieces[-(rule.count("/") + 1) :])
    ways: list[Named] = []
    for way in _ways(parts_of(rule), wanted):
        if way not in ways:
            ways.append(way)
        if len(ways) > _MOST_WAYS:
            break
    if not ways:
        raise BadInput(f"{name[-120:]} does not match the rule '{rule[:80]}': change the name or the rule.", "rule")
    return ways


def _ways(parts: list[NamePart], text: str) -> Iterator[Named]:
    """Every way in which a rule's pieces make up a text; a field ends where a word ends, or where the rule's next text begins."""
    if not parts:
        if not text:
            yield Named()
        return
    (field, literal), rest = parts[0], parts[1:]
    if field == "version":
        digits = re.match(r"\d{1,9}(?!\d)", text)
        if digits:
            yield from (w._replace(version=int(digits[0])) for w in _ways(rest, text[digits.end() :]))
        return
    if literal and literal != "*":
        if text.startswith(literal):
            yield from _ways(rest, text[len(literal) :])
        return
    for i in range(0 if literal else 1, len(text) + 1):
        if "/" in text[:i]:
            return
        whole_word = i == len(text) or i == 0 or not (text[i - 1].isalnum() and text[i].isalnum())
        if whole_word or (rest and rest[0].text not in ("", "*")):
            ways = _ways(rest, text[i:])
            yield from ways if literal else (w._replace(**{field: text[:i]}) for w in ways)  # type: ignore[arg-type]


def named_if(name: str, rule: str) -> Named:
    """The same, with nothing said where the rule does not fit or is none."""
    try:
        return named(name, rule)
    except BadInput:
        return Named()
