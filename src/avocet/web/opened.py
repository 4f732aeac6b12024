"""Evaluations that were opened lately stay open: a finished one never changes."""

from functools import lru_cache

from avocet.web.context import context
from avocet.work.judge.evaluations import get_evaluation
from avocet.work.judge.opened import Measured


def opened(evaluation_id: int) -> Measured:
    """A finished evaluation, or `NotFound`."""
    return _opened(str(context().folder.root), evaluation_id, _job(evaluation_id))


def _job(evaluation_id: int) -> int:
    """Measured again, an evaluation has another job."""
    with context().reading() as session:
        return get_evaluation(session, evaluation_id).job_id


@lru_cache(maxsize=6)
def _opened(_data: str, evaluation_id: int, _job_id: int) -> Measured:
    with context().reading() as session:
        return Measured.opened(context().folder, get_evaluation(session, evaluation_id))
