"""Live work that goes on with the next worker. It imports little, as every worker reads it when it starts."""

from sqlalchemy import select
from sqlalchemy.orm import Session

from avocet.store.address_tables import Live
from avocet.store.tables import JobState
from avocet.work.jobs import again


def set_going_again(session: Session) -> None:
    """Let live work that was interrupted wait for its worker once more."""
    query = select(Live).join(Live.job).where(Live.binned_at.is_(None))
    for live in session.scalars(query):
        if live.job.state == JobState.INTERRUPTED:
            again(session, live.job_id)
