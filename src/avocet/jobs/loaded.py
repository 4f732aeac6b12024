"""What every process that is forked has loaded from its start: what all workers need, and nothing that only some do."""

from avocet.loading import loading

with loading():
    import avocet.jobs.worker  # noqa: F401
