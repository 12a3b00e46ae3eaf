"""A change that was made from an old state: what changed meanwhile, by whom, and the choice what to do."""

from __future__ import annotations

import re

from fastapi import Request, Response

from anaxis.app.cameras.presence import may_go_on_top, steps_since
from anaxis.app.context import Context
from anaxis.store.models import Camera
from anaxis.store.queries import get_version
from anaxis.store.rows import NotFound
from anaxis.web.pages import page, row_number

# Where a form was, not what it asked for.
_PLACE = ("head", "version", "station", "to")


def conflict(request: Request, sentence: str) -> Response | None:
    """The page of a conflict about a camera; None where the request is not a form of one."""
    typed: list[tuple[str, str]] | None = getattr(request.state, "typed", None)
    at = re.match(r"/cameras/(\d{1,9})/", request.url.path)
    if typed is None or at is None or request.headers.get("hx-request"):
        return None
    form = dict(typed)
    seen = form.get("head") or form.get("version") or ""
    if row_number(seen) is None or row_number(form.get("version") or seen) is None:
        return None
    with Context(request.app.state.engine, request.state.actor) as store:
        camera = store.get(Camera, int(at[1]))
        if camera is None or camera.head_id is None:
            return None
        try:
            before = get_version(store, camera.id, int(form.get("version") or seen))
        except NotFound:
            return None
        again = [(k, str(camera.head.number) if k in ("head", "version") else v) for k, v in typed]
        answer: Response = page(
            request, "conflict/index.html", 409, sentence=sentence, camera=camera, steps=steps_since(store, camera, int(seen)), again=again,
            asked=[(k, v) for k, v in typed if k not in _PLACE and v], on_top=may_go_on_top(before, camera.head, form.get("index")),
            station=form.get("station") or "clean", address=request.url.path,
        )  # fmt: skip
    return answer
