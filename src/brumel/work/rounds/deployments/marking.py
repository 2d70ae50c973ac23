"""The lead's own word on a stretch of a record, over the flags of the tests; and taken off again."""

from __future__ import annotations

import uuid
from datetime import datetime

from brumel.core.errors import InputError, InputErrors
from brumel.store.deployments import Channel, Mark, MarkEnd
from brumel.work.desk import MovedOn, NotAllowed, NotFound, Refused, Write, Written, clean_reason, object_id, writes
from brumel.work.rounds.deployments.plan import locked
from brumel.work.rounds.deployments.whole import whole_of

#: What a stretch of the record may be flagged as, by QARTOD's numbers.
MARKS = {1: "good after all", 3: "suspect", 4: "bad"}
MOST_MARKS = 200


@writes("deployment.mark", Written)
def mark(
    w: Write, *, deployment_id: str, quantity: str, starts: datetime, ends: datetime, flag: int, words: str
) -> Written:
    """Flag a stretch of a channel's record, with why. The values stay, and so do the tests' own flags beneath."""
    if w.actor.role != "lead":
        raise NotAllowed("Flagging a record is for the lead.")
    d = locked(w, deployment_id)
    channel = next((c for c in d.channels if c.quantity == quantity), None)
    if channel is None:
        raise NotFound("The logger does not record that.")
    faults = list[InputError]()
    if flag not in MARKS:
        faults.append(InputError("flag", "A stretch is good after all, suspect, or bad."))
    if not starts <= ends:
        faults.append(InputError("ends", "The stretch ends before it begins."))
    whole = whole_of(w.session, d)
    span = whole.span()
    if span is None or ends < span[0] or starts > span[1]:
        faults.append(InputError("starts", "Nothing was recorded in this stretch."))
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    why = clean_reason(words)
    if len(whole.marks[channel.id]) >= MOST_MARKS:
        raise Refused(f"A channel takes {MOST_MARKS} marks; take some off first.")
    row = Mark(
        id=uuid.uuid4(),
        channel_id=channel.id,
        starts=starts,
        ends=ends,
        flag=flag,
        words=why,
        at=w.now,
        by_id=w.actor.id,
    )
    w.session.add(row)
    w.session.flush()
    w.record(
        f"deployment:{d.id}",
        {"marked": quantity, "flag": flag, "from": starts.isoformat(), "to": ends.isoformat(), "why": why},
    )
    return Written(str(row.id))


@writes("deployment.unmark", Written)
def unmark(w: Write, *, mark_id: str, reason: str) -> Written:
    """Take a mark off again, with why."""
    if w.actor.role != "lead":
        raise NotAllowed("Flagging a record is for the lead.")
    row = w.session.get(Mark, object_id(mark_id, "mark"))
    if row is None:
        raise NotFound("There is no such mark.")
    channel = w.session.get_one(Channel, row.channel_id)
    d = locked(w, str(channel.deployment_id))
    if w.session.get(MarkEnd, row.id) is not None:
        raise MovedOn("This mark was taken off before.")
    w.session.add(MarkEnd(mark_id=row.id, reason=clean_reason(reason), at=w.now, by_id=w.actor.id))
    w.session.flush()
    w.record(f"deployment:{d.id}", {"unmarked": channel.quantity})
    return Written(str(d.id))
