"""What every process that is forked has loaded from its start: what all workers need, and nothing that only some do."""

from sqlalchemy.orm import configure_mappers

from avocet.loading import loading

with loading():
    import avocet.jobs.worker  # noqa: F401

    # Otherwise done at the first question, which each worker asks while it has everybody's turn to write.
    configure_mappers()
