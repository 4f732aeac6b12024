"""Live work as its worker does it."""

from avocet.store.database import reading
from avocet.work.job_givens import ForLive
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import LiveEnded
from avocet.work.live.camera import watch_camera
from avocet.work.live.folder import watch_folder
from avocet.work.live.live import get_live
from avocet.work.models.bundles import bundles_of
from avocet.work.models.opening import open_bundles
from avocet.work.use.running.looking import Looker
from avocet.work.use.running.order import DetectionOrder


def do_live(task: Task[ForLive]) -> LiveEnded:
    """Go on until somebody stops it."""
    with reading(task.sessions)() as session:
        live = get_live(session, task.given.live_id)
        bundles = bundles_of(session, task.folder, live.run, live.ensemble)
    looker = Looker(open_bundles(bundles), DetectionOrder.model_validate(live.order))
    place = task.folder.live(live.project_id, live.id)
    if live.kind == "camera":
        return LiveEnded(pictures=watch_camera(live.source, looker, place, task.reporter))
    return LiveEnded(pictures=watch_folder(live.source, live.out, live.moves, looker, place, task.reporter))
