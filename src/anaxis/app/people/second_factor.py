"""A second factor for people with a password of their own: a code of six digits that changes every half minute (TOTP, RFC 6238).

ANAXIS_SECOND_FACTOR=required asks it of everybody with a password; else of those who have set it up.
"""

from __future__ import annotations

import os
import time

import pyotp
import segno

from anaxis.app.acting import use_case
from anaxis.app.context import Context
from anaxis.app.people.guessing import own_try
from anaxis.app.roles import Role
from anaxis.core.errors import BadInput
from anaxis.store.people import Person

_ISSUER = "Anaxis"
_STEP_S = 30
# A device's clock may be off by so many steps.
_STEPS_OFF = 1


def is_required() -> bool:
    """Raises BadInput for a setting that is none."""
    word = os.environ.get("ANAXIS_SECOND_FACTOR", "") or "optional"
    if word not in ("optional", "required"):
        raise BadInput(f"ANAXIS_SECOND_FACTOR is '{word[:40]}': it must be optional or required.")
    return word == "required"


def new_secret() -> str:
    return pyotp.random_base32()


def address_of(secret: str, person: Person) -> str:
    """What an authenticator takes a secret in by."""
    return pyotp.TOTP(secret).provisioning_uri(name=person.name, issuer_name=_ISSUER)


def picture_of(address: str) -> str:
    """The address as an SVG that a phone reads."""
    return str(segno.make(address, error="m").svg_inline(scale=4, border=2, dark="#1c1c1c", light="#ffffff"))


@use_case("set up a second factor", Role.NOBODY, own=True)
def set_up(context: Context, person: Person, secret: str, code: str) -> Person:
    """Raises BadInput where there is one already, and where the code is not that of the secret now."""
    _lock(context, person)
    if person.password is None:
        raise BadInput(
            "A second factor needs a password. People who sign in through the studio's service set it up there."
        )
    if person.code_secret is not None:
        raise BadInput("There is a second factor already: remove it first.")
    _take(context, person, secret, code)
    person.code_secret = secret
    return person


@use_case("remove a second factor", Role.NOBODY, own=True)
def take_away(context: Context, person: Person, code: str) -> Person:
    """One's own, by a code of it. Raises BadInput."""
    if is_required():
        raise BadInput("A second factor is required. Ask an administrator to set up a new one.")
    require_code(context, person, code)
    person.code_secret = None
    return person


@use_case("remove another person's second factor", Role.ADMINISTRATOR)
def reset(context: Context, person: Person) -> Person:
    """Of somebody who has lost theirs: they set up another one, where one is required."""
    person.code_secret = None
    return person


def require_code(context: Context, person: Person, code: str) -> None:
    """Take a code of the person's. Raises BadInput where it is not theirs now, or was used already; TooManyTries."""
    _lock(context, person)
    _take(context, person, person.code_secret or "", code)


def _lock(context: Context, person: Person) -> None:
    """Of two who bring the same code at once the second finds it used."""
    context.refresh(person, ["code_secret", "code_step"], with_for_update={"of": Person})


def _take(context: Context, person: Person, secret: str, code: str) -> None:
    with own_try(context, f"code of {person.id}") as tried:
        step = _step_of(secret, "".join(code.split()))
        if step is None or step <= person.code_step:
            tried.failed()
            raise BadInput(
                "The code is wrong or already used: wait for the next code on your device, then type it.", "code"
            )
    person.code_step = step


def _step_of(secret: str, code: str) -> int | None:
    """The half minute that a code is of, where it is of one about now."""
    if not secret or not (code.isascii() and code.isdigit()):
        return None
    now = int(time.time()) // _STEP_S
    made = pyotp.TOTP(secret)
    return next(
        (
            s
            for s in range(now - _STEPS_OFF, now + _STEPS_OFF + 1)
            if pyotp.utils.strings_equal(made.at(s * _STEP_S), code)
        ),
        None,
    )
