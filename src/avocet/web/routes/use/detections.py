"""Detection runs: a model over clips and pictures, and what came of it."""

from pathlib import Path

import numpy as np
from flask import Response, request, send_file
from flask_openapi3 import Tag
from pydantic import ValidationError
from sqlalchemy.orm import Session

from avocet.store.tables import Detection
from avocet.web.context import context, job_out, reply, start_job
from avocet.web.document import DescribedBlueprint
from avocet.web.problems import invalid_request
from avocet.web.schemas.common import JobStarted, ProjectPath
from avocet.web.schemas.use import detections as schemas
from avocet.web.uploads import sent_files
from avocet.work.addresses.addresses import get_address
from avocet.work.job_givens import FoundToCollect
from avocet.work.job_kinds import COLLECT_FOUND
from avocet.work.pictures.intake import allowed
from avocet.work.problems import NotFound
from avocet.work.project.projects import get_project
from avocet.work.use import detections as work
from avocet.work.use import found as looking
from avocet.work.use import results
from avocet.work.use.boxes import box_rows, crop_of, sorted_boxes
from avocet.work.use.counting import counts_as_csv
from avocet.work.use.crops_ahead import clips_of_boxes
from avocet.work.use.inputs import input_named
from avocet.work.use.running.order import DetectionOrder
from avocet.work.use.running.written import COUNTS_CSV
from avocet.work.use.truth import compared

use = DescribedBlueprint("use", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="use")])


def _out(detection: Detection) -> schemas.DetectionOut:
    return schemas.DetectionOut(
        id=detection.id,
        run_id=detection.run_id,
        ensemble_id=detection.ensemble_id,
        run_name=detection.run.name
        if detection.run
        else detection.ensemble.name
        if detection.ensemble
        else "",
        source=detection.source,
        minimum_score=detection.minimum_score,
        overlap_limit=detection.overlap_limit,
        minimum_scores=detection.minimum_scores,
        order=work.order_of(detection).model_dump(mode="json"),
        summary=detection.summary,
        created_at=detection.created_at.isoformat() + "Z",
        job=job_out(detection.job),
    )


@use.get("/projects/<int:project_id>/detections", responses={200: schemas.DetectionList})
def list_detections(path: ProjectPath) -> Response:
    """The project's detections, newest first."""
    with context().reading() as session:
        get_project(session, path.project_id)
        found = work.list_detections(session, path.project_id)
        return reply(schemas.DetectionList(detections=[_out(each) for each in found]))


@use.post("/detections", responses={202: schemas.DetectionOut})
def start_detection(body: schemas.DetectionIn) -> Response:
    """Run a model over a clip or pictures of the project."""
    return _start(body, [])


@use.post("/detections/upload", responses={202: schemas.DetectionOut})
def start_detection_on_files() -> Response:
    """Run a model over files that come along (multipart: `files`, and the same fields as a detection)."""
    try:
        body = schemas.DetectionIn.model_validate(request.form.to_dict())
    except ValidationError as error:
        return invalid_request(error)
    return _start(body, [(file.path, file.name) for file in sent_files()])


def _start(body: schemas.DetectionIn, files: list[tuple[Path, str]]) -> Response:
    place = allowed(context().roots, body.server_folder) if body.server_folder is not None else None
    source = work.Source(body.clip_id, place, body.pictures, body.state, body.on_cluster)
    wished = body.model_dump(include=set(DetectionOrder.model_fields))
    with context().sessions.begin() as session:
        run_id, ensemble_id = body.run_id, body.ensemble_id
        if body.address_id is not None:
            address = get_address(session, body.address_id)
            run_id, ensemble_id = address.answering.run_id, address.answering.ensemble_id
            wished = address.order | {name: value for name, value in wished.items() if value is not None}
        detection = work.start_detection(
            session, context().folder, run_id, source, wished, files, ensemble_id
        )
        out = _out(detection)
    context().enqueue(out.job.id, out.job.kind)
    return reply(out, 202)


@use.get("/detections/<int:detection_id>", responses={200: schemas.DetectionOut})
def get_detection(path: schemas.DetectionPath) -> Response:
    """One detection with its summary."""
    with context().reading() as session:
        return reply(_out(work.get_detection(session, path.detection_id)))


@use.get("/detections/<int:detection_id>/files/<path:name>", doc_ui=False)
def result_file(path: schemas.DetectionPath) -> Response:
    """A file of the results: an annotated copy, the JSON or the CSV."""
    name = str((request.view_args or {})["name"])
    with context().reading() as session:
        file = work.result_file(context().folder, work.get_detection(session, path.detection_id), name)
    return send_file(file, conditional=True, as_attachment="download" in request.args)


def _what_counts(
    session: Session, path: schemas.DetectionPath, limits: schemas.Limits
) -> tuple[Detection, looking.Found, looking.Whole]:
    """A run, what it has found, and which boxes of that count."""
    detection = work.get_detection(session, path.detection_id)
    found = results.found_by(context().folder, detection)
    return detection, found, found.kept(limits.minimum_score, limits.overlap_limit, limits.classes)


@use.get("/detections/<int:detection_id>/timeline", responses={200: schemas.Timeline})
def timeline(path: schemas.DetectionPath, query: schemas.Limits) -> Response:
    """How many boxes of each class there are where."""
    with context().reading() as session:
        _, found, chosen = _what_counts(session, path, query)
    told = looking.timeline(found, chosen)
    clips = [
        schemas.ClipSpan(
            name=found.looked[first].name,
            first=first,
            frames=frames,
            width=found.looked[first].width,
            height=found.looked[first].height,
            seconds=[each.seconds for each in found.looked[first : first + frames]],
        )
        for _, first, frames in looking.clips_of(found)
    ]
    seconds = [found.looked[place].seconds for place in told["bins"]]
    floor = float(found.scores.min()) if len(found.scores) else 0.0
    return reply(schemas.Timeline(classes=found.classes, seconds=seconds, floor=floor, clips=clips, **told))


@use.get("/detections/<int:detection_id>/newest", responses={200: schemas.FoundPictures})
def newest_picture(path: schemas.DetectionPath) -> Response:
    """What a run that is under way has looked at last; nothing where it has looked at none."""
    with context().reading() as session:
        detection = work.get_detection(session, path.detection_id)
    classes, row = results.newest(context().folder, detection)
    pictures = [schemas.FoundPicture.model_validate(row)] if row is not None else []
    return reply(schemas.FoundPictures(total=len(pictures), classes=classes, pictures=pictures))


@use.get("/detections/<int:detection_id>/newest/pixels")
def newest_pixels(path: schemas.DetectionPath, query: schemas.NewestQuery) -> Response:
    """A picture or frame of a run that is under way, as a JPEG."""
    folder = context().folder
    with context().reading() as session:
        item = input_named(session, folder, work.get_detection(session, path.detection_id), query.name)
    looked = looking.LookedAt(query.name, 0, 0, -1 if query.seconds is None else 0, query.seconds or 0.0, "")
    return Response(results.shown(item, looked, 960, context().clips), mimetype="image/jpeg")


@use.get("/detections/<int:detection_id>/pictures", responses={200: schemas.FoundPictures})
def found_pictures(path: schemas.DetectionPath, query: schemas.FoundQuery) -> Response:
    """Pictures and frames with their boxes, sorted and filtered."""
    with context().reading() as session:
        detection, found, chosen = _what_counts(session, path, query)
        made = compared(session, detection, found, chosen) if query.against_labels else None
    places = looking.sorted_pictures(found, chosen, query.sort, query.with_class, query.empty)
    if made is not None:
        places = places[np.isin(places, made.right if query.against_labels == "right" else made.wrong)]
    some = places[query.start : query.start + query.count].tolist()
    pictures = [
        schemas.FoundPicture.model_validate(each) for each in looking.pictures_with_boxes(found, chosen, some)
    ]
    if made is not None:
        for each in pictures:
            each.missed = made.missed_boxes.get(each.place, [])
            each.false = made.false_boxes.get(each.place, [])
    return reply(schemas.FoundPictures(total=len(places), classes=found.classes, pictures=pictures))


@use.get("/detections/<int:detection_id>/pictures/<int:place>/pixels")
def found_pixels(path: schemas.PlacePath, query: schemas.PixelQuery) -> Response:
    """A picture or frame that was looked at, as a JPEG."""
    folder = context().folder
    with context().reading() as session:
        detection = work.get_detection(session, path.detection_id)
        looked = looking.looked_at(results.found_by(folder, detection), path.place)
        item = input_named(session, folder, detection, looked.name)
    content = results.shown(item, looked, query.longest, context().clips)
    response = Response(content, mimetype="image/jpeg")
    response.headers["Cache-Control"] = "private, max-age=3600"
    return response


@use.get("/detections/<int:detection_id>/boxes", responses={200: schemas.FoundBoxes})
def found_boxes(path: schemas.DetectionPath, query: schemas.BoxesQuery) -> Response:
    """Boxes one by one, sorted and filtered."""
    with context().reading() as session:
        detection, found, chosen = _what_counts(session, path, query)
        numbers = sorted_boxes(found, chosen, query.sort, query.with_class)
        here = numbers[query.start : query.start + query.count].tolist()
        clips = clips_of_boxes(session, context().folder, detection, found, here)
    context().crops.begin(found, here, clips, anew=query.start == 0)
    some = box_rows(found, here)
    rows = [schemas.FoundBox.model_validate(each) for each in some]
    return reply(schemas.FoundBoxes(total=len(numbers), boxes=rows))


@use.get("/detections/<int:detection_id>/boxes/<int:number>/pixels")
def box_pixels(path: schemas.BoxPath) -> Response:
    """A box with a little around it, as a JPEG."""
    folder = context().folder
    with context().reading() as session:
        detection = work.get_detection(session, path.detection_id)
        found = results.found_by(folder, detection)
        if path.number >= len(found.scores):
            raise NotFound(f"the run has no box {path.number}")
        name = found.looked[found.owner[path.number]].name
        item = input_named(session, folder, detection, name)
    crop = context().crops.crop(found, path.number) or crop_of(item, found, path.number)
    response = Response(crop, mimetype="image/jpeg")
    response.headers["Cache-Control"] = "private, max-age=3600"
    return response


@use.get("/detections/<int:detection_id>/right", responses={200: schemas.Right})
def right(path: schemas.DetectionPath, query: schemas.Limits) -> Response:
    """What was found against the labels that there are now."""
    with context().reading() as session:
        detection, found, chosen = _what_counts(session, path, query)
        made = compared(session, detection, found, chosen)
    return reply(
        schemas.Right(
            pictures=len(made.right) + len(made.wrong),
            right=len(made.right),
            found=made.found,
            missed=made.missed,
            false=made.false,
        )
    )


@use.get("/detections/<int:detection_id>/clip")
def found_clip(path: schemas.DetectionPath, query: schemas.ClipQuery) -> Response:
    """The clip itself, as it was given."""
    folder = context().folder
    with context().reading() as session:
        detection = work.get_detection(session, path.detection_id)
        found = results.found_by(folder, detection)
        clips = looking.clips_of(found)
        if query.clip >= len(clips):
            raise NotFound(f"detection run {detection.id} has no clip {query.clip}")
        item = input_named(session, folder, detection, found.looked[clips[query.clip][1]].name)
    return send_file(item.path, conditional=True)


@use.get("/detections/<int:detection_id>/counting", responses={200: schemas.CountedList})
def counted(path: schemas.DetectionPath, query: schemas.ClipQuery) -> Response:
    """What the lines and regions of a run count on one of its clips."""
    with context().reading() as session:
        return _counted(work.get_detection(session, path.detection_id), query.clip)


@use.put("/detections/<int:detection_id>/counting", responses={200: schemas.CountedList})
def count(path: schemas.DetectionPath, query: schemas.ClipQuery, body: schemas.ShapesIn) -> Response:
    """Keep other lines and regions; what they count."""
    with context().sessions.begin() as session:
        detection = work.get_detection(session, path.detection_id)
        detection.counting = {"shapes": [each.model_dump(mode="json") for each in body.shapes]}
        return _counted(detection, query.clip)


@use.get("/detections/<int:detection_id>/counting.csv", doc_ui=False)
def counted_table(path: schemas.DetectionPath, query: schemas.ClipQuery) -> Response:
    """Every crossing and every stay, as CSV."""
    with context().reading() as session:
        detection = work.get_detection(session, path.detection_id)
        made = results.count_by(context().folder, detection, work.shapes_of(detection), query.clip)
        found = results.found_by(context().folder, detection)
    name = found.looked[looking.clips_of(found)[query.clip][1]].name
    response = Response(counts_as_csv(made, name), mimetype="text/csv")
    response.headers["Content-Disposition"] = f"attachment; filename={COUNTS_CSV}"
    return response


def _counted(detection: Detection, clip: int) -> Response:
    made = results.count_by(context().folder, detection, work.shapes_of(detection), clip)
    return reply(schemas.CountedList(counted=[schemas.Counted.model_validate(each) for each in made]))


@use.post("/detections/<int:detection_id>/collect", responses={202: JobStarted})
def collect(path: schemas.DetectionPath, body: schemas.CollectIn) -> Response:
    """Take pictures and frames into the project as unlabelled ones, their boxes kept as proposals."""
    with context().reading() as session:
        detection = work.get_detection(session, path.detection_id)
    given = FoundToCollect(
        detection_id=detection.id,
        places=list(dict.fromkeys(body.places)),
        minimum_score=body.minimum_score,
        overlap_limit=body.overlap_limit,
        only=body.only,
    )
    return start_job(detection.project_id, COLLECT_FOUND, f"Collect from {detection.source}", given)
