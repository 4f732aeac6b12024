"""Who goes before whom on the processor, where there is not enough of it for all."""

import os

from avocet.work.job_kinds import Lane

STANDS_BACK = {
    Lane.CHANGES: 2,
    Lane.LOOKS: 2,
    Lane.COMPUTE: 5,
    Lane.MEDIA: 5,
    Lane.LABELS: 5,
    Lane.AWAY: 5,
    Lane.LIVE: 10,
}
"""How far the worker of a lane stands back (`nice`) behind the server, whose answers take milliseconds. Somebody at the page
waits for changes and looks, which go before long work. Live work takes what the others leave."""

ANSWERER_STANDS_BACK = 3
"""Other programs go before long work, and whoever is at the page before them."""


def stand_back(by: int) -> None:
    """Let others of this server go before this process, where the system knows such an order.

    Where Linux groups processes by their session, as it does on desktops, this is among Avocet's own: other programs
    are neither faster nor slower for it.
    """
    if hasattr(os, "nice"):
        os.nice(by)
