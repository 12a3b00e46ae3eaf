"""Compares the open jobs with the queue's entries, and mends what differs: no open job without an entry, no entry
without an open job. A worker does it at its start and every minute."""

from __future__ import annotations

import logging

from sqlalchemy import Engine, text

from anaxis.queue.jobs import (
    CALL,
    JOB_LOCK,
    TASK,
    call_in_queue,
    lock_of_call,
    lock_of_job,
    lock_of_mail,
    mail_in_queue,
    put_in_queue,
)
from anaxis.store.models import Job
from anaxis.store.session import every_show

_log = logging.getLogger("anaxis.worker")
_RECONCILE_LOCK = 7_204_116
# An entry may be held for so long by a worker that has not begun its job yet.
_BEGINS_WITHIN_S = 30

_UNDER_WAY = f"""SELECT objid::bigint FROM pg_locks WHERE locktype = 'advisory' AND classid = {JOB_LOCK} AND granted
    AND database = (SELECT oid FROM pg_database WHERE datname = current_database())"""
_STOPPED = text(
    f"""UPDATE jobs SET state = 'stopped', ended_at = now() WHERE state = 'stopping' AND id NOT IN ({_UNDER_WAY})
    AND NOT EXISTS (SELECT FROM procrastinate_jobs e WHERE e.queueing_lock = 'job ' || jobs.id AND e.status IN ('todo', 'doing'))
    RETURNING id"""
)
_WITHOUT_ENTRY = text(
    """SELECT id FROM jobs WHERE state IN ('waiting', 'running', 'stopping') AND NOT EXISTS
    (SELECT FROM procrastinate_jobs e WHERE e.queueing_lock = 'job ' || jobs.id AND e.status IN ('todo', 'doing'))
    ORDER BY id FOR UPDATE SKIP LOCKED"""
)
_CALLS_WITHOUT_ENTRY = text(
    """SELECT c.id FROM webhook_calls c JOIN webhooks w ON w.id = c.webhook_id
    WHERE c.state = 'waiting' AND w.paused_at IS NULL AND NOT EXISTS
    (SELECT FROM procrastinate_jobs e WHERE e.queueing_lock = 'call ' || c.id AND e.status IN ('todo', 'doing'))
    ORDER BY c.id FOR UPDATE OF c SKIP LOCKED"""
)
_MAILS_WITHOUT_ENTRY = text(
    """SELECT n.id FROM notices n WHERE n.mail = 'waiting' AND NOT EXISTS
    (SELECT FROM procrastinate_jobs e WHERE e.queueing_lock = 'mail ' || n.id AND e.status IN ('todo', 'doing'))"""
)
_ENTRIES_WITHOUT_JOB = text(
    f"""DELETE FROM procrastinate_jobs e WHERE (e.task_name = '{TASK}' AND (e.status NOT IN ('todo', 'doing') OR NOT EXISTS
    (SELECT FROM jobs j WHERE 'job ' || j.id = e.queueing_lock AND j.state IN ('waiting', 'running', 'stopping'))))
    OR (e.task_name = '{CALL}' AND (e.status NOT IN ('todo', 'doing') OR NOT EXISTS
    (SELECT FROM webhook_calls c WHERE 'call ' || c.id = e.queueing_lock AND c.state = 'waiting'))) RETURNING e.queueing_lock"""
)
_HELD_AND_NOT_BEGUN = text(
    f"""SELECT e.id FROM procrastinate_jobs e JOIN jobs j ON 'job ' || j.id = e.queueing_lock WHERE e.task_name = '{TASK}'
    AND e.status = 'doing' AND j.id NOT IN ({_UNDER_WAY}) AND NOT EXISTS (SELECT FROM procrastinate_events v
    WHERE v.job_id = e.id AND v.type = 'started' AND v.at > now() - make_interval(secs => :seconds))"""
)


def reconcile(engine: Engine) -> list[int]:
    """Mend what differs between jobs and queue, and log it. Returns the numbers of the entries that a worker holds and
    nobody works on: the caller gives them back to the queue."""
    with every_show(engine) as session, session.begin():
        one_at_a_time = text(f"SELECT pg_try_advisory_xact_lock({_RECONCILE_LOCK})")
        if not session.execute(one_at_a_time).scalar_one():
            return []
        stopped = list(session.execute(_STOPPED).scalars())
        jobs = list(session.execute(_WITHOUT_ENTRY).scalars())
        for number in jobs:
            put_in_queue(session, session.get_one(Job, number))
        calls = list(session.execute(_CALLS_WITHOUT_ENTRY).scalars())
        for number in calls:
            call_in_queue(session, number)
        mails = list(session.execute(_MAILS_WITHOUT_ENTRY).scalars())
        for number in mails:
            mail_in_queue(session, number)
        gone = list(session.execute(_ENTRIES_WITHOUT_JOB).scalars())
        held = list(session.execute(_HELD_AND_NOT_BEGUN, {"seconds": _BEGINS_WITHIN_S}).scalars())
    for said, which in (
        ("jobs put back in the queue, which had no entry", [lock_of_job(n) for n in jobs]),
        ("webhook calls put back in the queue, which had no entry", [lock_of_call(n) for n in calls]),
        ("mails put back in the queue, which had no entry", [lock_of_mail(n) for n in mails]),
        ("jobs that were stopping and that no worker does are stopped", [lock_of_job(n) for n in stopped]),
        ("queue entries removed, which had no open job", gone),
        ("queue entries given back, which a worker held without working on them", held),
    ):
        if which:
            _log.warning("%d %s: %s", len(which), said, ", ".join(map(str, which[:20])))
    return held
