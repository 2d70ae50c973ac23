"""Long work: done once however many processes there are, stopped, tried again, taken over from one that ended."""

import threading

import pytest

from brumel.core.errors import InputError
from brumel.store.jobs import Job, JobFile
from brumel.work import jobs
from brumel.work.desk import NotFound, Refused
from brumel.work.jobs.doing import LOST_S, MOST_TRIES
from tests.work.helpers import Things, key


@pytest.fixture
def things(desk):
    return Things(desk)


def asked(desk, actor, kind="count", **arguments):
    return jobs.ask(desk, actor, key(), kind=kind, title="Counting", asked=arguments).id


def seen(desk, actor, job_id):
    with desk.read() as session:
        job = jobs.job(session, actor, job_id)
        return job.state, job.done, job.of, job.fault


def count(_asker, asked, tell):
    for n in range(1, asked.get("to", 3) + 1):
        tell(n, asked.get("to", 3))
    return jobs.Done("counted.txt", "text/plain", b"1 2 3")


def test_a_job_is_done_and_its_file_is_its_askers_for_a_week(desk, things, clock):
    job_id = asked(desk, things.ansa)
    doer = jobs.Doer(desk, {"count": count})
    assert doer.do_one()
    assert not doer.do_one()
    assert seen(desk, things.ansa, job_id) == ("done", 3, 3, "")
    with desk.read() as session:
        assert jobs.file_of(session, things.ansa, job_id).body == b"1 2 3"
        with pytest.raises(NotFound):
            jobs.file_of(session, things.ilka, job_id)
    clock.on(days=6.9)
    doer.tidy()
    assert seen(desk, things.ansa, job_id)[0] == "done"
    clock.on(days=0.2)
    doer.tidy()
    with desk.read() as session:
        assert jobs.mine(session, things.ansa) == []
        assert session.query(JobFile).count() == 0


def test_two_processes_never_do_the_same_job(desk, things):
    ids = [asked(desk, things.ansa, to=1) for _ in range(jobs.MOST_OPEN)]
    ids += [asked(desk, things.ilka, to=1) for _ in range(jobs.MOST_OPEN)]
    done, meet = [], threading.Barrier(2, timeout=20)

    def one(_asker, asked, tell):
        meet.wait()  # both are inside a job at the same time: none waits for the other's claim
        done.append(1)
        return count(_asker, asked, tell)

    def work():
        doer = jobs.Doer(desk, {"count": one})
        while doer.do_one():
            pass

    threads = [threading.Thread(target=work) for _ in range(2)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(40)
    assert len(done) == len(ids)
    with desk.read() as session:
        assert {j.state for j in session.query(Job)} == {"done"}
        assert session.query(JobFile).count() == len(ids)


def test_a_stopped_job_stops_at_its_next_step_and_can_be_tried_again(desk, things):
    job_id, steps = asked(desk, things.ansa, kind="slow"), []

    def slow(_asker, _asked, tell):
        for n in range(5):
            steps.append(n)
            if n == 2 and len(steps) == 3:
                jobs.cancel(desk, things.ansa, key(), job_id=job_id)
            doer._signed = 0.0  # as if time had passed
            tell(n, 5)
        return jobs.Done("slow.txt", "text/plain", b"")

    doer = jobs.Doer(desk, {"slow": slow})
    assert doer.do_one()
    assert steps == [0, 1, 2]
    assert seen(desk, things.ansa, job_id) == ("cancelled", 1, 5, "")
    assert not doer.do_one()
    with pytest.raises(NotFound):
        jobs.retry(desk, things.ilka, key(), job_id=job_id)
    jobs.retry(desk, things.ansa, key(), job_id=job_id)
    with pytest.raises(Refused):
        jobs.retry(desk, things.ansa, key(), job_id=job_id)  # it waits already
    assert doer.do_one()
    assert seen(desk, things.ansa, job_id)[0] == "done"


def test_what_breaks_says_why_and_what_was_lost_is_taken_over(desk, things, clock):
    def refuses(*_):
        raise InputError("since", "No calibration lies within these days any more.")

    def breaks(*_):
        raise ZeroDivisionError("secret of the house")

    doer = jobs.Doer(desk, {"refuses": refuses, "breaks": breaks, "count": count})
    refused, broken = asked(desk, things.ansa, kind="refuses"), asked(desk, things.ansa, kind="breaks")
    assert doer.do_one()
    assert doer.do_one()
    assert seen(desk, things.ansa, refused)[3] == "No calibration lies within these days any more."
    assert "ZeroDivisionError" in seen(desk, things.ansa, broken)[3]
    assert "secret" not in seen(desk, things.ansa, broken)[3]

    lost = asked(desk, things.ansa)
    gone = jobs.Doer(desk, {})
    for _ in range(MOST_TRIES):
        assert str(gone._claim()[0].id) == lost
        assert doer.do_one() is False  # somebody has it, and it has said so a moment ago
        clock.on(seconds=LOST_S + 1)
    assert not doer.do_one()
    assert seen(desk, things.ansa, lost)[0] == "failed"


def test_who_lost_a_job_to_another_keeps_nothing_of_it(desk, things, clock):
    job_id = asked(desk, things.ansa)
    first, second = jobs.Doer(desk, {"count": count}), jobs.Doer(desk, {"count": count})
    claimed, tries = first._claim()
    clock.on(seconds=LOST_S + 1)
    assert second.do_one()
    with pytest.raises(jobs.Cancelled):
        first._tell(claimed.id, tries, 3, 3)
    first._end(claimed.id, tries, "failed", fault="late")
    assert seen(desk, things.ansa, job_id)[0] == "done"


def test_a_person_has_so_many_jobs_open_and_asking_twice_asks_once(desk, things):
    once = key()
    ids = {jobs.ask(desk, things.ansa, once, kind="count", title="Counting", asked={}).id for _ in range(2)}
    assert len(ids) == 1
    for _ in range(jobs.MOST_OPEN - 1):
        asked(desk, things.ansa)
    with pytest.raises(Refused, match=f"{jobs.MOST_OPEN} jobs open"):
        asked(desk, things.ansa)
    assert asked(desk, things.ilka)
