"""Waiting for what other threads and processes do, without a fixed pause."""

import time


def wait_for(look, what="it", seconds=60):
    """What ``look`` finds, once it finds something; a failed test after so many seconds."""
    ends = time.monotonic() + seconds
    while not (found := look()):
        assert time.monotonic() < ends, f"did not see {what}"
        time.sleep(0.05)
    return found
