"""Long work: asked for on a page, done by a process of its own, kept until it has been fetched."""

from brumel.work.jobs.asking import KEPT, MOST_OPEN, ask, cancel, file_of, job, mine, retry
from brumel.work.jobs.doing import Cancelled, Doer, Done, Kind, Tell, process

__all__ = [
    "KEPT",
    "MOST_OPEN",
    "Cancelled",
    "Doer",
    "Done",
    "Kind",
    "Tell",
    "ask",
    "cancel",
    "file_of",
    "job",
    "mine",
    "process",
    "retry",
]
