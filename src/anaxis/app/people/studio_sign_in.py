"""Signing in by the studio's own service: OpenID Connect, the authorization code flow with PKCE (RFC 7636).

What the service says of groups is what somebody may do here, from each time that they sign in on. Settings:
ANAXIS_OIDC_ISSUER, ANAXIS_OIDC_CLIENT_ID, ANAXIS_OIDC_CLIENT_SECRET; ANAXIS_OIDC_GROUPS maps groups to roles
(``td=lead; mill-artists=artist@The Tidewright``); ANAXIS_OIDC_CLAIM is the claim that lists groups (``groups``), ANAXIS_OIDC_HOURS how
long somebody stays signed in (12).
"""

from __future__ import annotations

import hmac
import os
import threading
import time
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

import httpx
from authlib.oauth2.rfc7636 import create_s256_code_challenge
from joserfc import jwt
from joserfc.errors import JoseError
from joserfc.jwk import KeySet
from sqlalchemy import select

from anaxis.app.acting import use_case
from anaxis.app.context import Context
from anaxis.app.people.people import add_person
from anaxis.app.people.sign_in import NotSignedIn, signed_in_as
from anaxis.app.roles import GIVEN, Actor, Role
from anaxis.core.errors import BadInput
from anaxis.store.models import Show
from anaxis.store.people import Person, RoleInShow

_PATIENCE_S = 5.0
_KNOWN_FOR_S, _KEYS_AGAIN_S = 3600.0, 10.0
_ALGORITHMS = ["RS256", "RS384", "RS512", "PS256", "ES256", "ES384", "EdDSA"]
# Clocks may be so far apart.
_LEEWAY_S = 60
_SCOPES = "openid profile email"


class ServiceAway(BadInput):
    """The studio's service did not answer."""

    code = "service_away"


@dataclass(frozen=True)
class Granted:
    """What a group may do: a role everywhere, or in the show of a name."""

    group: str
    role: Role
    show: str = ""


@dataclass(frozen=True)
class Service:
    """The settings of the studio's sign-in service."""

    issuer: str
    client_id: str
    client_secret: str
    granted: tuple[Granted, ...]
    claim: str = "groups"
    hours: float = 12.0


@dataclass(frozen=True)
class Pending:
    """What a browser that was sent to the service must come back with."""

    state: str
    nonce: str
    verifier: str


@dataclass(frozen=True)
class PersonClaims:
    """What the service says of somebody."""

    subject: str
    name: str
    groups: tuple[str, ...]


def service() -> Service | None:
    """By the environment; None where none is set. Raises BadInput for settings that make no sense."""
    issuer = os.environ.get("ANAXIS_OIDC_ISSUER", "").rstrip("/")
    if not issuer:
        return None
    client = os.environ.get("ANAXIS_OIDC_CLIENT_ID", "")
    if not client:
        raise BadInput("ANAXIS_OIDC_ISSUER is set and ANAXIS_OIDC_CLIENT_ID is not: set both.")
    try:
        hours = float(os.environ.get("ANAXIS_OIDC_HOURS", "12"))
        if not 0 < hours <= 24 * 30:
            raise ValueError
    except ValueError:
        raise BadInput("ANAXIS_OIDC_HOURS must be a number of hours, 720 at most.") from None
    granted = tuple(_granted(entry) for entry in os.environ.get("ANAXIS_OIDC_GROUPS", "").split(";") if entry.strip())
    secret, claim = os.environ.get("ANAXIS_OIDC_CLIENT_SECRET", ""), os.environ.get("ANAXIS_OIDC_CLAIM", "") or "groups"
    return Service(issuer, client, secret, granted, claim, hours)


def _granted(entry: str) -> Granted:
    group, _, what = entry.strip().partition("=")
    word, _, show = what.partition("@")
    role = next((r for r in Role if r and r.called == word.strip().lower()), None)
    if not group.strip() or role is None or (show and role not in GIVEN):
        raise BadInput(
            f"ANAXIS_OIDC_GROUPS holds '{entry.strip()[:80]}': write group=role, or group=role@Show; roles are "
            f"{', '.join(r.called for r in Role if r)}, administrator only without @Show."
        )
    return Granted(group.strip(), role, show.strip())


class _Known:
    """What a service says of itself and its keys, asked again now and then, and for a key that is not known."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._metadata: dict[str, tuple[float, dict[str, Any]]] = {}
        self._keys: dict[str, tuple[float, KeySet]] = {}

    def metadata(self, issuer: str) -> dict[str, Any]:
        with self._lock:
            known = self._metadata.get(issuer)
            if known is None or time.monotonic() - known[0] > _KNOWN_FOR_S:
                said = _asked(f"{issuer}/.well-known/openid-configuration")
                if said.get("issuer", "").rstrip("/") != issuer:
                    raise ServiceAway(
                        f"The sign-in service identifies itself as {str(said.get('issuer'))[:80]}, but the setting names {issuer[:80]}: correct it."
                    )
                known = self._metadata[issuer] = (time.monotonic(), said)
            return known[1]

    def keys(self, issuer: str, again: bool = False) -> KeySet:
        address = self.metadata(issuer)["jwks_uri"]
        with self._lock:
            known = self._keys.get(issuer)
            age = time.monotonic() - known[0] if known is not None else float("inf")
            if known is None or age > (_KEYS_AGAIN_S if again else _KNOWN_FOR_S):
                known = self._keys[issuer] = (time.monotonic(), KeySet.import_key_set(_asked(address)))
            return known[1]

    def forget(self) -> None:
        with self._lock:
            self._metadata.clear()
            self._keys.clear()


_known = _Known()


def _asked(address: str) -> Any:
    try:
        answer = httpx.get(address, timeout=_PATIENCE_S, follow_redirects=False)
        answer.raise_for_status()
        return answer.json()
    except (httpx.HTTPError, httpx.InvalidURL, ValueError) as error:
        raise _away(error) from error


def _away(error: Exception) -> ServiceAway:
    return ServiceAway(
        f"The studio's sign-in service does not answer ({type(error).__name__}): try again in a moment, or sign in with a password if you have one."
    )


def begin(by: Service, back: str, pending: Pending) -> str:
    """The address that a browser is sent to, to come back to ``back``. Raises ServiceAway."""
    asked = {
        "response_type": "code", "client_id": by.client_id, "redirect_uri": back, "scope": _SCOPES, "state": pending.state, "nonce": pending.nonce,
        "code_challenge": create_s256_code_challenge(pending.verifier), "code_challenge_method": "S256",
    }  # fmt: skip
    return str(httpx.URL(_known.metadata(by.issuer)["authorization_endpoint"]).copy_merge_params(asked))


def finish(by: Service, back: str, pending: Pending, state: str, code: str) -> PersonClaims:
    """What the service says of whom it sent back. Raises NotSignedIn for what is not an answer to what was asked, ServiceAway."""
    if not code or not hmac.compare_digest(state.encode(), pending.state.encode()):
        raise NotSignedIn("This sign-in was not started in this browser: sign in again.")
    asked = {
        "grant_type": "authorization_code",
        "code": code,
        "redirect_uri": back,
        "code_verifier": pending.verifier,
        "client_id": by.client_id,
    }
    try:
        answer = httpx.post(
            _known.metadata(by.issuer)["token_endpoint"], data=asked, auth=(by.client_id, by.client_secret), timeout=_PATIENCE_S, follow_redirects=False
        )  # fmt: skip
        said = answer.json()
    except (httpx.HTTPError, httpx.InvalidURL, ValueError) as error:
        raise _away(error) from error
    if not answer.is_success or not isinstance(said, dict):
        reason = str(said.get("error", ""))[:60] if isinstance(said, dict) else ""
        raise NotSignedIn(
            f"The studio's sign-in service refused the sign-in ({reason or answer.status_code}): sign in again."
        )
    return _told(by, str(said.get("id_token", "")), pending.nonce)


def _told(by: Service, identity: str, nonce: str) -> PersonClaims:
    claims = _claims(by, identity)
    expected = jwt.JWTClaimsRegistry(
        leeway=_LEEWAY_S, iss={"essential": True, "values": [by.issuer, by.issuer + "/"]}, aud={"essential": True, "value": by.client_id},
        exp={"essential": True}, iat={"essential": True}, sub={"essential": True}, nonce={"essential": True, "value": nonce},
    )  # fmt: skip
    try:
        expected.validate(claims)
    except JoseError as error:
        raise NotSignedIn(
            f"The answer of the studio's sign-in service is not valid ({error.error}): sign in again."
        ) from error
    audience = claims["aud"]
    if isinstance(audience, list) and len(audience) > 1 and claims.get("azp") != by.client_id:
        raise NotSignedIn("The answer of the studio's sign-in service is for another program: sign in again.")
    groups = claims.get(by.claim, [])
    name = claims.get("name") or claims.get("preferred_username") or claims.get("email") or claims["sub"]
    return PersonClaims(
        f"{by.issuer} {claims['sub']}",
        str(name),
        tuple(str(g) for g in groups) if isinstance(groups, list) else (str(groups),),
    )


def _claims(by: Service, identity: str) -> dict[str, Any]:
    for again in (False, True):  # a key that is not known may be newer than the keys that are
        try:
            return dict(jwt.decode(identity, _known.keys(by.issuer, again), algorithms=_ALGORITHMS).claims)
        except (JoseError, ValueError) as error:
            failed: Exception = error
    raise NotSignedIn("The answer of the studio's sign-in service has no valid signature: sign in again.") from failed


# Adds people and gives them the roles of their groups.
_SERVICE = Actor("the studio's sign-in service", Role.ADMINISTRATOR)


def signed_in_by(context: Context, by: Service, told: PersonClaims, browser: str) -> str:
    """The secret of a browser signed in as whom the service names, with the roles of their groups. Raises BadInput."""
    with context.acting_as(_SERVICE):
        person = context.execute(select(Person).where(Person.subject == told.subject)).scalar_one_or_none()
        if person is None:
            person = add_person(context, " ".join(told.name.split())[:60])
            person.subject = told.subject
        if person.disabled_at is not None:
            raise NotSignedIn("Your account is disabled: ask an administrator.")
        everywhere, in_shows = _roles(context, by, told.groups)
        held = (person.everywhere, {r.show_id: r.role for r in person.in_shows})
        if held != (everywhere, in_shows):
            _give(context, person, everywhere, in_shows)
        return signed_in_as(context, person.id, browser, datetime.now(UTC) + timedelta(hours=by.hours))


def _roles(context: Context, by: Service, groups: tuple[str, ...]) -> tuple[int, dict[int, int]]:
    everywhere, in_shows = 0, dict[int, int]()
    for one in (g for g in by.granted if g.group in groups):
        if not one.show:
            everywhere = max(everywhere, int(one.role))
            continue
        show = context.execute(select(Show.id).where(Show.name == one.show)).scalar_one_or_none()
        if show is not None:
            in_shows[show] = max(in_shows.get(show, 0), int(one.role))
    return everywhere, in_shows


@use_case("roles from the studio's service", Role.ADMINISTRATOR)
def _give(context: Context, person: Person, everywhere: int, in_shows: dict[int, int]) -> Person:
    person.everywhere = everywhere
    person.in_shows = []
    context.flush()
    person.in_shows = [RoleInShow(show_id=show, role=role) for show, role in in_shows.items()]
    context.flush()
    return person


def sign_out_address(by: Service, back: str) -> str | None:
    """Where a browser is sent to be signed out of the service too; None where the service has no such address, or is away."""
    try:
        address = _known.metadata(by.issuer).get("end_session_endpoint")
    except ServiceAway:
        return None
    if not address:
        return None
    return str(httpx.URL(address, params={"client_id": by.client_id, "post_logout_redirect_uri": back}))
