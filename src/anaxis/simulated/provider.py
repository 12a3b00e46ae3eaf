"""A simulated sign-in service of a studio: OpenID Connect with made-up people, whose page lists them to be chosen from.

It keeps nothing: its key and its codes end with its process. What it is told to do wrong it does, for tests.
"""

from __future__ import annotations

import base64
import hashlib
import html
import secrets
import time
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import urlencode

from joserfc import jwt
from joserfc.jwk import RSAKey
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import HTMLResponse, JSONResponse, RedirectResponse, Response
from starlette.routing import Route

PEOPLE: dict[str, dict[str, Any]] = {
    "u-001": {"name": "Ines Sluice", "groups": ["pipeline"]},
    "u-002": {"name": "Tor Weir", "groups": ["mill-artists"]},
    "u-003": {"name": "Mo Ebb", "groups": []},
}


@dataclass
class Provider:
    """``claims`` are put into every identity over what is right; ``keys_shown`` are the keys that it says it signs with."""

    issuer: str
    client_id: str = "anaxis"
    client_secret: str = "tide"
    people: dict[str, dict[str, Any]] = field(default_factory=lambda: {k: dict(v) for k, v in PEOPLE.items()})
    claims: dict[str, Any] = field(default_factory=dict)
    asked_for_keys: int = 0

    def __post_init__(self) -> None:
        self._codes: dict[str, dict[str, str]] = {}
        self.rotate()

    def rotate(self, say: bool = True) -> None:
        """Sign with another key from now on; ``say``: and list it."""
        self._key = RSAKey.generate_key(2048, {"kid": secrets.token_hex(4), "use": "sig", "alg": "RS256"})
        if say:
            self._shown = self._key

    def app(self) -> Starlette:
        return Starlette(
            routes=[
                Route("/.well-known/openid-configuration", self._configuration),
                Route("/keys", self._keys),
                Route("/authorize", self._authorize),
                Route("/token", self._token, methods=["POST"]),
                Route("/end", self._end),
            ]
        )

    async def _configuration(self, request: Request) -> Response:
        at = self.issuer
        return JSONResponse(
            {
                "issuer": at, "authorization_endpoint": f"{at}/authorize", "token_endpoint": f"{at}/token", "jwks_uri": f"{at}/keys",
                "end_session_endpoint": f"{at}/end", "response_types_supported": ["code"], "subject_types_supported": ["public"],
                "id_token_signing_alg_values_supported": ["RS256"], "code_challenge_methods_supported": ["S256"],
            }
        )  # fmt: skip

    async def _keys(self, request: Request) -> Response:
        self.asked_for_keys += 1
        return JSONResponse({"keys": [self._shown.as_dict(private=False)]})

    async def _authorize(self, request: Request) -> Response:
        """The people to choose from; with one chosen (``as``), back to who asked."""
        asked = dict(request.query_params)
        chosen = asked.pop("as", "")
        if (
            asked.get("client_id") != self.client_id
            or asked.get("response_type") != "code"
            or "code_challenge" not in asked
        ):
            return HTMLResponse("This program is not known here.", 400)
        if chosen in self.people:
            code = secrets.token_urlsafe(16)
            self._codes[code] = asked | {"as": chosen}
            return RedirectResponse(
                f"{asked['redirect_uri']}?{urlencode({'code': code, 'state': asked.get('state', '')})}", 302
            )
        rows = "".join(
            f'<li><a href="/authorize?{html.escape(urlencode(asked | {"as": key}))}">{html.escape(p["name"])}</a> {html.escape(", ".join(p["groups"]) or "in no group")}</li>'
            for key, p in self.people.items()
        )
        return HTMLResponse(
            f"<!doctype html><title>Simulated sign-in service</title><h1>Who are you?</h1><p>A simulated service: nobody here is real.</p><ul>{rows}</ul>"
        )

    async def _token(self, request: Request) -> Response:
        form = await request.form()
        asked = self._codes.pop(str(form.get("code")), None)  # a code works once
        verifier = (
            base64.urlsafe_b64encode(hashlib.sha256(str(form.get("code_verifier")).encode()).digest())
            .rstrip(b"=")
            .decode()
        )
        given = request.headers.get("authorization", "").removeprefix("Basic ")
        right = given == base64.b64encode(f"{self.client_id}:{self.client_secret}".encode()).decode()
        if (
            asked is None
            or asked["code_challenge"] != verifier
            or asked["redirect_uri"] != form.get("redirect_uri")
            or not right
        ):
            return JSONResponse({"error": "invalid_grant"}, 400)
        person, now = self.people[asked["as"]], int(time.time())
        claims = {
            "iss": self.issuer, "sub": asked["as"], "aud": self.client_id, "iat": now, "exp": now + 300, "nonce": asked.get("nonce", ""),
            "name": person["name"], "groups": person["groups"],
        }  # fmt: skip
        header = {"alg": "RS256", "kid": self._key.kid}
        identity = jwt.encode(header, {k: v for k, v in (claims | self.claims).items() if v is not None}, self._key)
        return JSONResponse(
            {"access_token": secrets.token_urlsafe(16), "token_type": "Bearer", "expires_in": 300, "id_token": identity}
        )

    async def _end(self, request: Request) -> Response:
        return RedirectResponse(request.query_params.get("post_logout_redirect_uri", "/"), 302)
