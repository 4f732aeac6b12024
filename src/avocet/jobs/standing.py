"""Who goes before whom on the processor, where there is not enough of it for all."""

import os

from avocet.work.job_kinds import Lane

STANDS_BACK = {Lane.COMPUTE: 5, Lane.MEDIA: 5, Lane.LABELS: 5, Lane.AWAY: 5, Lane.LIVE: 10}
"""How far the worker of a lane stands back (`nice`). Somebody at the page waits for the server, and for changes and
looks: these stand back for nothing. Live work takes what the others leave."""

ANSWERER_STANDS_BACK = 2
"""Other programs go before long work, and whoever is at the page before them."""


def stand_back(by: int) -> None:
    """Let others of this server go before this process, where the system knows such an order.

    Where Linux groups processes by their session, as it does on desktops, this is among Avocet's own: other programs
    are neither faster nor slower for it.
    """
    if by and hasattr(os, "nice"):
        os.nice(by)
