"""What each of several models finds on one picture, as the worker gets it."""

from avocet.core.raw.candidates import OVERLAP_LIMIT
from avocet.detector.model.predictor import Predictor
from avocet.store.database import reading
from avocet.work.job_givens import RunsAndPicture
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import BoxesFound, FoundByModel
from avocet.work.pictures.files import get_picture, picture_pixels
from avocet.work.progress import Stopped
from avocet.work.train.runs import get_run, model_path
from avocet.work.train.trial import LEAST_TRIED


def find_boxes(task: Task[RunsAndPicture]) -> BoxesFound:
    """What each of several models finds on one picture, before anything is combined."""
    reporter = task.reporter
    with reading(task.sessions)() as session:
        picture = get_picture(session, task.given.picture_id)
        runs = [get_run(session, run_id) for run_id in task.given.run_ids]
        paths = [model_path(task.folder, run) for run in runs]
    pixels = picture_pixels(task.folder, picture)
    models = []
    for number, (run, path) in enumerate(zip(runs, paths, strict=True), start=1):
        if reporter.should_stop():
            raise Stopped
        predictor = Predictor.from_bundle(path)
        found = predictor.candidates([pixels], LEAST_TRIED)[0].after_suppression(LEAST_TRIED, OVERLAP_LIMIT)
        models.append(
            FoundByModel(
                run_id=run.id,
                name=run.name,
                boxes=found.boxes.round(2).tolist(),
                scores=found.scores.round(4).tolist(),
                classes=[predictor.classes[label] for label in found.classes],
            )
        )
        reporter.progress(number, len(paths), run.name)
    return BoxesFound(picture_id=picture.id, width=picture.width, height=picture.height, models=models)
