"""Where a derived camera comes from: its inputs, in their roles, on the left; itself on the right."""

from __future__ import annotations

from collections.abc import Sequence

from markupsafe import Markup

from anaxis.app.derived.derive import OutdatedInput
from anaxis.store.models import Version
from anaxis.web.drawings.svg import drawing, drawn

_MOST, _ROW, _BOX, _WIDTH = 8, 34.0, 26.0, 330.0


@drawing
def made_from_svg(version: Version, inputs: Sequence[tuple[str, Version]], late: Sequence[OutdatedInput]) -> Markup:
    """An arrow from each input; one that has a newer version says which."""
    newer = {b.role: b for b in late}
    # Those that have a newer version are always among the ones drawn.
    ordered = sorted(inputs, key=lambda i: i[0] not in newer)[:_MOST]
    rows = []
    for i, (role, used) in enumerate(ordered):
        newest = newer.get(role)
        name = f"{used.camera.shot.name} {used.camera.name}"
        rows.append(
            {
                "y": 4 + i * _ROW, "middle": 4 + i * _ROW + _BOX / 2, "href": f"/cameras/{used.camera_id}?version={used.number}",
                "name": name, "label": used.label, "newest": newest.newest.label if newest and newest.newest.id != used.id else "",
                "itself": bool(newest and newest.itself), "role": role if role != name else "",
            }
        )  # fmt: skip
    more = len(inputs) - len(rows)
    height = 8 + _ROW * len(rows) + (18 if more else 0)
    return drawn(
        "made_from", rows=rows, width=_WIDTH, height=height, box=_BOX, middle=(4 + _ROW * len(rows)) / 2, more=more,
        camera=version.camera.name, label=version.label, late=len(newer),
    )  # fmt: skip
