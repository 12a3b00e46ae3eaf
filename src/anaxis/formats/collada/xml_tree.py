"""COLLADA's XML side: a parser that opens nothing, ids, sids, float arrays, samplers."""

from __future__ import annotations

import re
from collections import deque
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
from lxml import etree

from anaxis.core.errors import BadInput
from anaxis.core.typing import Floats
from anaxis.formats.text_numbers import numbers_in

# A parser for files that cannot be trusted: no entities, no network, no outside DTD.
_OPTIONS: dict[str, Any] = {
    "resolve_entities": False,
    "no_network": True,
    "load_dtd": False,
    "huge_tree": True,
    "remove_comments": True,
    "remove_pis": True,
}
_MAX_DEPTH = 512


class Sampler(NamedTuple):
    """An animation curve as written: ``seconds`` (k,), ``values`` (k, c), kinds (k,), tangents or None.

    Tangents are (k, c, 2): time in seconds and value of each component's handle.
    """

    seconds: Floats
    values: Floats
    kinds: list[str]
    incoming: Floats | None
    outgoing: Floats | None


class Document:
    """A parsed file with its ids; raises BadInput where it is not COLLADA that can be read."""

    def __init__(self, path: Path) -> None:
        self.name = path.name
        try:
            tree = etree.parse(str(path), etree.XMLParser(**_OPTIONS))
        except (etree.XMLSyntaxError, OSError) as error:
            where = f" (line {error.lineno})" if isinstance(error, etree.XMLSyntaxError) else ""
            raise BadInput(
                f"{self.name} cannot be read as XML{where}: it is damaged or incomplete. Export it again."
            ) from error
        self.root = tree.getroot()
        if tree.docinfo.doctype or tree.docinfo.internalDTD is not None:
            raise BadInput(f"{self.name} declares a document type, which COLLADA does not need: remove the DOCTYPE.")
        if local(self.root) != "COLLADA":
            raise BadInput(f"{self.name} is XML but not COLLADA: its root is '{local(self.root)}'; export it again.")
        if not str(self.root.get("version", "")).startswith("1."):
            raise BadInput(f"{self.name} states no COLLADA 1 version: export it as COLLADA 1.4.")
        self.ids: dict[str, Any] = {}
        for element in self.root.iter(etree.Element):
            if element.get("id"):
                self.ids.setdefault(element.get("id"), element)

    def by_url(self, url: str | None) -> Any | None:
        """The element of a local reference (#id); None for one that leads elsewhere or nowhere."""
        return self.ids.get(url[1:]) if url and url.startswith("#") else None

    def by_target(self, target: str) -> tuple[Any | None, str]:
        """The element a channel animates and the member of it: ``node/rotateX.ANGLE``, ``node/matrix(3)(0)``."""
        address, member = re.fullmatch(r"([^.(]*)(.*)", target, re.S).groups()  # type: ignore[union-attr]
        # An id may itself hold dots: take the longest address that is known.
        first, _, rest = target.partition("/")
        if first in self.ids and rest:
            address, member = re.fullmatch(r"([^.(]*)(.*)", rest, re.S).groups()  # type: ignore[union-attr]
            parts = [first, *address.split("/")]
        else:
            parts = address.split("/")
        here = self.ids.get(parts[0])
        for sid in parts[1:]:
            if here is None:
                return None, ""
            here = _by_sid(here, sid)
        return here, member.strip()

    def sampler(self, element: Any) -> Sampler:
        """A <sampler> as arrays; raises BadInput where its pieces do not fit each other."""
        inputs = {i.get("semantic"): self.by_url(i.get("source")) for i in children(element, "input")}
        times, values = (self._floats(inputs.get(k), k) for k in ("INPUT", "OUTPUT"))
        count = len(times)
        if not count or (np.diff(times[:, 0]) < 0).any() or not np.isfinite(times).all():
            raise BadInput(f"{self.name}: the sample times of '{element.get('id')}' do not rise; export it again.")
        if values.size % count:
            raise BadInput(
                f"{self.name}: '{element.get('id')}' has {count} sample times and {values.size} values; export it again."
            )
        values = values.reshape(count, -1)
        kinds = self._names(inputs.get("INTERPOLATION"), count)
        tangents = [
            self._tangents(inputs.get(k), times[:, 0], values, side)
            for k, side in (("IN_TANGENT", -1), ("OUT_TANGENT", 1))
        ]
        # Two keys at one time mean a jump: the later one holds from there on.
        keep = np.append(np.diff(times[:, 0]) > 0, True)
        incoming, outgoing = (t[keep] if t is not None else None for t in tangents)
        return Sampler(
            times[keep, 0],
            values[keep],
            [k for k, is_kept in zip(kinds, keep, strict=True) if is_kept],
            incoming,
            outgoing,
        )

    def _floats(self, source: Any | None, what: str) -> Floats:
        """A <source>'s float array as (count, stride)."""
        array = None if source is None else child(source, "float_array")
        if array is None:
            raise BadInput(f"{self.name}: an animation has no {what} values; export it again.")
        assert source is not None
        accessor = source.find("{*}technique_common/{*}accessor")
        stride = int(accessor.get("stride", 1)) if accessor is not None else 1
        values = numbers(array, self.name)
        return values[: len(values) // max(1, stride) * max(1, stride)].reshape(-1, max(1, stride))

    def _names(self, source: Any | None, count: int) -> list[str]:
        array = None if source is None else child(source, "Name_array")
        names = (array.text or "").split() if array is not None else []
        return names if len(names) == count else ["LINEAR"] * count

    def _tangents(self, source: Any | None, seconds: Floats, values: Floats, side: int) -> Floats | None:
        """Handles as (k, c, 2). Some writers give no times: those handles lie a third of the way."""
        array = None if source is None else child(source, "float_array")
        if array is None:
            return None
        count, width = values.shape
        raw = numbers(array, self.name)
        if raw.size == count * width * 2:
            return raw.reshape(count, width, 2)
        if raw.size == count * (width + 1):
            shared = raw.reshape(count, width + 1)
            return np.stack([np.repeat(shared[:, :1], width, axis=1), shared[:, 1:]], axis=2)
        if raw.size == count * width:
            gap = np.diff(seconds, prepend=seconds[0]) if side < 0 else np.diff(seconds, append=seconds[-1])
            at = np.repeat((seconds + side * gap / 3)[:, None], width, axis=1)
            return np.stack([at, raw.reshape(count, width)], axis=2)
        return None


def local(element: Any) -> str:
    return str(etree.QName(element).localname)


def children(element: Any, name: str) -> list[Any]:
    return [c for c in element if local(c) == name]


def child(element: Any, name: str) -> Any | None:
    return next(iter(children(element, name)), None)


def numbers(element: Any, where: str) -> Floats:
    """The numbers in an element's text, (k,); raises BadInput for text that is none."""
    text = element.text or ""
    try:
        values = numbers_in(text)
    except ValueError as error:
        raise BadInput(
            f"{where}, line {element.sourceline}: '{local(element)}' has a value that is not a number: export it again."
        ) from error
    return values


def check_depth(depth: int, name: str) -> None:
    if depth > _MAX_DEPTH:
        raise BadInput(
            f"{name} nests nodes over {_MAX_DEPTH} deep, or in a loop: export only the camera with its parents."
        )


def _by_sid(element: Any, sid: str) -> Any | None:
    """The nearest element below with this sid, breadth first."""
    waiting = deque(element)
    while waiting:
        here = waiting.popleft()
        if here.get("sid") == sid:
            return here
        waiting.extend(here)
    return None
