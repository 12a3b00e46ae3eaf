"""Notices by mail: all that wait for a person in one mail, tried again until the server takes it or it is given up."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from email.message import EmailMessage
from email.utils import formatdate, make_msgid

from sqlalchemy import Connection, Engine, case, select, text, update

from anaxis.app.context import Context
from anaxis.app.notices.mail_server import MailServer, mail_server, send
from anaxis.app.people.people import actor_for
from anaxis.app.roles import LOCAL, Role
from anaxis.core.errors import BadInput
from anaxis.queue.jobs import MAIL_LOCK, TryAgain
from anaxis.store.notices import Notice
from anaxis.store.people import Person

TRIES = 7
_OTHER_MAIL_WAIT_S = 10


def send_waiting(engine: Engine, notice_id: int, tries: int = 0) -> None:
    """One try to mail a notice, with all others that wait for the same person. Raises TryAgain where the server did not take
    the mail and tries are left.

    What they have read meanwhile, or may no longer see, is not sent. A process that is killed after the server took the mail
    sends it again.
    """
    with Context(engine, LOCAL) as context:
        notice = context.get(Notice, notice_id)
        person_id = None if notice is None or notice.mail != "waiting" else notice.person_id
    if person_id is None:
        return
    with engine.connect() as connection, _alone(connection, person_id):
        _send_to(engine, person_id, tries)


@contextmanager
def _alone(connection: Connection, person_id: int) -> Iterator[None]:
    """Raises TryAgain while another process mails the same person."""
    lock = {"kind": MAIL_LOCK, "number": person_id}
    if not connection.execute(text("SELECT pg_try_advisory_lock(:kind, :number)"), lock).scalar_one():
        raise TryAgain("another mail to this person is being sent", _OTHER_MAIL_WAIT_S, counts=False)
    connection.commit()  # no transaction is held while the mail server answers
    try:
        yield
    finally:
        connection.execute(text("SELECT pg_advisory_unlock(:kind, :number)"), lock)
        connection.commit()


def _send_to(engine: Engine, person_id: int, tries: int) -> None:
    waiting = (Notice.person_id == person_id) & (Notice.mail == "waiting")
    with Context(engine, LOCAL, expire_on_commit=False) as context:
        notices = list(context.execute(select(Notice).where(waiting).order_by(Notice.id)).scalars())
        person = context.get_one(Person, person_id)
        actor = actor_for(person)
    wanted = person.disabled_at is None and person.mails and bool(person.email)
    told = [n for n in notices if wanted and n.read_at is None and actor.role(n.show_id) >= Role.VIEWER]
    said = _sent(person, told) if told else ""
    if said and tries + 1 < TRIES:
        raise TryAgain(said, 4.0 ** (tries + 1), counts=False)
    with Context(engine, LOCAL) as context, context.begin():
        state = case((Notice.id.in_([n.id for n in told]), "given up" if said else "sent"), else_="")
        mine = Notice.id.in_([n.id for n in notices])
        context.execute(update(Notice).where(mine).values(mail=state).execution_options(synchronize_session=False))


def _sent(person: Person, notices: list[Notice]) -> str:
    """Why the server did not take the mail; "" where it did."""
    try:
        server = mail_server()
        send(server, mail_of(person, notices, server))
    except BadInput as error:
        return error.sentence
    except (OSError, ValueError) as error:  # every failure of the protocol is an OSError
        return f"the mail server did not take it ({type(error).__name__})"
    return ""


def mail_of(person: Person, notices: list[Notice], server: MailServer) -> EmailMessage:
    """The mail about some notices: plain text, a sentence and a link each."""
    message = EmailMessage()
    first = " ".join(notices[0].sentence.split())
    more = f" (and {len(notices) - 1} more)" if len(notices) > 1 else ""
    message["Subject"] = f"Anaxis: {first[:120]}{more}"
    message["From"], message["To"] = server.sender, person.email
    message["Date"], message["Message-ID"] = formatdate(), make_msgid(domain=server.sender.rpartition("@")[2])
    message["Auto-Submitted"] = "auto-generated"
    lines = [f"{n.sentence}\n{server.pages}/notices/{n.id}\n" for n in notices]
    end = f"You get these mails because your account asks for them: {server.pages}/account"
    message.set_content("\n".join([*lines, end]))
    return message
