"""What every screen shares: templates, the database session, form fields, how numbers are written."""

from __future__ import annotations

import math
import re
import secrets
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated, Any
from urllib.parse import quote, urlsplit

from fastapi import Depends, Request, Response, UploadFile
from fastapi.responses import RedirectResponse, StreamingResponse
from fastapi.templating import Jinja2Templates
from itsdangerous import BadData, URLSafeTimedSerializer
from markupsafe import Markup

from anaxis.app.context import Context, Sandbox
from anaxis.app.everything import Everything, sent_as_zip
from anaxis.app.form_base import base_of
from anaxis.app.notices.notices import unread
from anaxis.app.roles import VISITOR, Role
from anaxis.core.checks.times import OF_THE_SHOT
from anaxis.core.errors import BadInput
from anaxis.core.names import without_unseen
from anaxis.core.number_text import px_text
from anaxis.core.time.rates import format_frame, kept_rate, rate_label
from anaxis.core.version import __version__
from anaxis.formats.tables.layout import QUANTITIES
from anaxis.packages.sheet import decimals
from anaxis.web.drawings.blocks import KeptDrawings
from anaxis.web.rights import with_rights_said
from anaxis.web.signed import actor_of_request, signed_in_by_itself
from anaxis.web.static_files import ADDRESS

HERE = Path(__file__).parent


def length_range(values: list[float | None]) -> str:
    low, high = values
    if low is None or high is None:
        return "–"
    return f"{low:.2f} mm" if high - low < 0.005 else f"{low:.2f}–{high:.2f} mm"


def row_number(text: str) -> int | None:
    """A row's number as an address or a form says it; None for anything else."""
    return int(text) if re.fullmatch(r"[0-9]{1,9}", text) else None


def row_number_or_none(text: str, what: str) -> int | None:
    """The same from a field that may be left empty: None is "all of them", so anything else raises BadInput."""
    number = row_number(text)
    if number is None and text:
        raise BadInput(f"'{text[:40]}' is not the number of a {what}: choose one from the list. Nothing was changed.")
    return number


def when(at: datetime, seconds: bool = False) -> Markup:
    """A moment in UTC, which static/times.js rewrites in the reader's own time zone; with ``seconds`` where they matter."""
    utc = at.astimezone(UTC)
    said = f"{utc.day} {utc:%b %Y, %H:%M:%S}" if seconds else f"{utc.day} {utc:%b %Y, %H:%M}"
    attribute = Markup(" data-seconds") if seconds else ""
    iso = utc.isoformat(timespec="seconds")
    return Markup('<time datetime="{}"{} title="{}">{} UTC</time>').format(
        iso, attribute, f"{utc:%Y-%m-%d %H:%M:%S} UTC", said
    )


templates = Jinja2Templates(directory=[HERE / "templates", HERE / "screens"])
templates.env.filters |= {
    "pixels": px_text,
    "decimals": decimals,
    "log10": math.log10,
    "frame": format_frame,
    "length_range": length_range,
    "when": when,
    "rate": lambda text: rate_label(kept_rate(text)),
    # In addresses of what a browser may keep: the numbers of another store begin at 1 too.
    "stamp": lambda at: f"{at.timestamp():.0f}",
    "megabytes": lambda size: f"{size / 1e6:.2f} MB" if size >= 10_000 else f"{size / 1000:.1f} kB",
}
templates.env.globals |= {
    "app_version": __version__,
    "base_of": base_of,
    "quantities": QUANTITIES,
    "of_the_shot": OF_THE_SHOT,
    "static": ADDRESS,
}


async def _typed(request: Request) -> dict[str, str]:
    """The form as it was typed, where its fields depend on what is asked for."""
    return {k: v for k, v in (await request.form()).items() if isinstance(v, str)}


TypedForm = Annotated[dict[str, str], Depends(_typed)]


async def _head_seen(request: Request) -> int | None:
    """The version that was worked on when the form was drawn; None where a form does not say."""
    if request.method != "POST" or "form" not in request.headers.get("content-type", ""):
        return None
    form = await request.form()
    if all(isinstance(v, str) for v in form.values()):
        # Where it turns out that others were there first, the same may be asked again.
        request.state.typed = [(k, str(v)) for k, v in form.multi_items()]
    try:
        return int(str(form.get("head", "")))
    except ValueError:
        return None


def _session(request: Request, head: Annotated[int | None, Depends(_head_seen)]) -> Iterator[Context]:
    """One transaction a request, of whoever is signed in: kept where the request succeeds, else nothing of it stays.

    Raises NotSignedIn.
    """
    with _opened(request, head) as session:
        request.state.actor = actor_of_request(request, session)
        session.act_as(request.state.actor)
        yield from _in_one(request, session)


def _open_session(request: Request) -> Iterator[Context]:
    """The same for whoever comes: where nobody is signed in yet."""
    with _opened(request, None) as session:
        yield from _in_one(request, session)


def _opened(request: Request, head: int | None) -> Context:
    state = request.app.state
    return Context(
        state.engine, VISITOR, checks_base=True, base_version=head, sandbox=Sandbox(state.calculators, state.makers),
        mirrors=state.hub.mirrors, releases=True, expire_on_commit=False,
    )  # fmt: skip


def _in_one(request: Request, session: Context) -> Iterator[Context]:
    request.state.store = session
    try:
        yield session
        session.commit()
    except BaseException:
        session.rollback()
        raise


Store = Annotated[Context, Depends(_session, scope="function")]
OpenStore = Annotated[Context, Depends(_open_session, scope="function")]


_SAID, _SAID_FOR_S = "said", 60
# Another server on this machine, at another port, shares the cookies: none of its words is shown here.
_signed = URLSafeTimedSerializer(secrets.token_bytes(32), salt=_SAID)


def said_where_it_was_asked(request: Request, sentence: str, field: str = "") -> Response | None:
    """Back to the camera's page that a form was sent from, with the sentence to be shown there once, at its ``field``.

    None where the request did not come from one.
    """
    origin = urlsplit(request.headers.get("referer", ""))
    if (
        request.method != "POST"
        or origin.netloc != request.url.netloc
        or not (origin.path == "/" or origin.path.startswith(("/cameras/", "/shows/")))
    ):
        return None
    answer = RedirectResponse(f"{origin.path}?{origin.query}" if origin.query else origin.path, status_code=303)
    say_next(answer, sentence if "Nothing was changed" in sentence else f"{sentence} Nothing was changed.", field)
    return answer


def say_next(answer: Response, sentence: str, field: str = "") -> None:
    """A sentence for the page that is shown next, once; ``field`` is the name of the field that it is about."""
    answer.set_cookie(
        _SAID, _signed.dumps([sentence[:1200], field[:60]]), max_age=_SAID_FOR_S, httponly=True, samesite="strict"
    )


def _said_once(request: Request) -> tuple[str, str]:
    """The sentence that this server set for the next page, and its field; one that came from elsewhere is nobody's."""
    try:
        sentence, field = _signed.loads(request.cookies.get(_SAID, ""), max_age=_SAID_FOR_S)
    except BadData:
        return "", ""
    return str(sentence), str(field)


def name_of_upload(file: UploadFile, most: int = 120) -> str:
    """What a file that came in is called, without the folders some browsers send along; "" where it has no name."""
    name = Path((file.filename or "").replace("\\", "/")).name[-most:]
    # Half of a pair of code units is no character, and no database keeps it.
    return without_unseen(name.encode("utf-8", "replace").decode()).strip()


def drawings_of(request: Request) -> KeptDrawings:
    """The long drawings that this server keeps while their blocks are asked for."""
    kept: KeptDrawings = request.app.state.drawings
    return kept


def drawing_answer(data: bytes, kept: bool = True) -> Response:
    """A drawing's data; that of what is kept never changes, so a browser need not ask for it again."""
    headers = {"Cache-Control": "private, max-age=600"} if kept else None
    return Response(data, media_type="application/octet-stream", headers=headers)


def attachment(name: str) -> dict[str, str]:
    """The header by which an answer is saved under a name in any script (RFC 6266 and 8187): whatever stands in the name,
    no second header and no second name begins in it."""
    quoted = quote(name, safe="")
    said = f'filename="{name}"' if quoted == name else f"filename*=utf-8''{quoted}"
    return {"Content-Disposition": f"attachment; {said}"}


def download_answer(name: str, data: bytes, media_type: str = "application/octet-stream") -> Response:
    """A file to be saved under its name."""
    return Response(data, media_type=media_type, headers=attachment(name))


def zip_answer(request: Request, what: Everything) -> Response:
    """A zip that is made while it is sent."""
    parts = sent_as_zip(request.app.state.engine, what)
    return StreamingResponse(parts, media_type="application/zip", headers=attachment(what.name))


def _show_of(context: dict[str, Any]) -> int | None:
    """The show that a page is about."""
    shot, show = context.get("shot"), context.get("show")
    found = getattr(shot, "show_id", None) or getattr(show, "id", None)
    return int(found) if found else None


def page(request: Request, name: str, status: int = 200, **context: Any) -> Any:
    store = getattr(request.state, "store", None)
    whole = name.endswith("index.html")  # a part of a page leaves the sentence to the page
    actor = getattr(request.state, "actor", None)
    news = unread(store) if whole and store is not None and actor is not None and actor.person else 0
    if store is not None:
        store.release_connection()  # drawing a page takes longer than asking for what is on it
    said, field = _said_once(request) if whole else ("", "")
    context = {
        "said": said,
        "said_field": field,
        "actor": actor,
        "unread": news,
        "Role": Role,
        "by_itself": actor is not None and actor.name == request.app.state.visitor and signed_in_by_itself(request),
        **context,
    }
    answer = templates.TemplateResponse(request, name, context, status_code=status)
    if actor is not None and actor.person and actor.role(_show_of(context)) < Role.ADMINISTRATOR:
        said_rights = with_rights_said(bytes(answer.body).decode(), request.app, actor, _show_of(context))
        answer.body = said_rights.encode()
        answer.headers["content-length"] = str(len(answer.body))
    if said:
        answer.delete_cookie(_SAID)
    return answer
