"""The queue of long work and the worker process that does it."""
