"""Using a run's model, as the worker does it."""

from avocet.store.database import reading
from avocet.work.cluster.asked import cluster_if
from avocet.work.cluster.spread import spreading
from avocet.work.job_givens import DetectionInputs
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import Detected
from avocet.work.models.bundles import bundles_of
from avocet.work.models.opening import open_bundles
from avocet.work.progress import Stopped
from avocet.work.use.detections import get_detection, order_of
from avocet.work.use.inputs import inputs_of
from avocet.work.use.running.detect import detect


def do_detection(task: Task[DetectionInputs]) -> Detected:
    """Run the model and keep the summary; what an attempt that was broken off has found is kept and not done again."""
    folder, given = task.folder, task.given
    with reading(task.sessions)() as session:
        detection = get_detection(session, given.detection_id)
        bundles = bundles_of(session, folder, detection.run, detection.ensemble)
        inputs = inputs_of(session, folder, detection)
    out = folder.detection(detection.project_id, detection.id)
    order, title = order_of(detection), f"Detection run {detection.id}"
    with spreading(cluster_if(given.on_cluster), bundles, order, title) as spread:
        summary = detect(open_bundles(bundles), inputs, out, order, task.reporter, go_on=True, spread=spread)
    with task.sessions.begin() as session:
        get_detection(session, given.detection_id).summary = summary
    if summary["stopped"]:
        raise Stopped
    return Detected(boxes=summary["detections"], pictures=summary["pictures"])
