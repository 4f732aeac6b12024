"""What answers for a model: minimum scores, ensembles."""

import pytest

from avocet.core.errors import InputError
from avocet.detector.model.card import read_bundle_parts
from avocet.jobs.worker import run_job
from avocet.store.tables import JobState
from avocet.work.judge.evaluations import (
    Order,
    get_evaluation,
    start_evaluation,
)
from avocet.work.models.bundles import bundles_of, choose_minimum_scores
from avocet.work.models.ensembles import get_ensemble, make_ensemble
from avocet.work.models.opening import open_bundles
from avocet.work.train.runs import extend_run, get_run, model_path, start_run
from avocet.work.use.detections import Source, get_detection, start_detection
from tests.work.conftest import QUICK


def test_minimum_scores_are_kept_with_the_model(trained, frames, tmp_path):
    folder, sessions, run_id = trained
    with sessions.begin() as session:
        path = model_path(folder, get_run(session, run_id))
        weights = read_bundle_parts(path)[1]
        choose_minimum_scores(session, folder, run_id, {"roll": 0.75, "ring": 0.0})
        with pytest.raises(InputError, match="does not know the class 'bun'"):
            choose_minimum_scores(session, folder, run_id, {"bun": 0.5})
        with pytest.raises(InputError, match="must lie between 0 and 1, not 3"):
            choose_minimum_scores(session, folder, run_id, {"roll": 3})
    card, same = read_bundle_parts(path)
    assert card.minimum_scores == {"roll": 0.75, "ring": 0.0} and same == weights
    with sessions.begin() as session:
        wished = {"minimum_scores": {name: 0.99 for name in card.classes if name != "ring"}}
        detection = start_detection(session, folder, run_id, Source(pictures=True), wished)
        detection_id, job_id = detection.id, detection.job_id
    run_job(sessions, folder, job_id)
    with sessions.begin() as session:
        counts = get_detection(session, detection_id).summary["by_class"]
        # Only rings may score as low as an untrained network does.
        assert counts["ring"] > 0 and sum(counts.values()) == counts["ring"]
        assert extend_run(session, folder, run_id, 1).minimum_scores == {}


@pytest.mark.slow
def test_an_ensemble_is_measured_and_used_like_a_model(trained):
    folder, sessions, run_id = trained
    with sessions.begin() as session:
        second = start_run(session, folder, 1, QUICK | {"seed": 5})
        second_id, job_id = second.id, second.job_id
    run_job(sessions, folder, job_id)
    with sessions.begin() as session:
        made = make_ensemble(session, folder, 1, "", [(run_id, 1.0), (second_id, 2.0)])
        plain = make_ensemble(
            session, folder, 1, "plain", [(run_id, 1.0), (second_id, 1.0)], method="suppression"
        )
        opened = [open_bundles(bundles_of(session, folder, None, each)) for each in (made, plain)]
        assert [each.about["method"] for each in opened] == ["fusion", "suppression"]
        ensemble_id = made.id
        assert made.name == "Stint 1 + Stint 2"
        for members, limit, message in (
            ([(run_id, 1.0)], 0.5, "2 to 8 runs, not 1"),
            ([(run_id, 1.0), (run_id, 1.0)], 0.5, "stands twice"),
            ([(run_id, 1.0), (second_id, -1.0)], 0.5, "must lie above 0"),
            ([(run_id, 1.0), (second_id, 1.0)], 1.5, "overlap limit must lie between 0 and 1"),
        ):
            with pytest.raises(InputError, match=message):
                make_ensemble(session, folder, 1, "x", members, limit)
        snapshot_id = get_run(session, run_id).snapshot_id
        evaluation = start_evaluation(
            session, folder, 1, Order(ensemble_id=ensemble_id, snapshot_id=snapshot_id)
        )
        detection = start_detection(
            session, folder, None, Source(pictures=True), {"minimum_score": 0.01}, ensemble_id=ensemble_id
        )
        jobs = (evaluation.job_id, detection.job_id)
        ids = (evaluation.id, detection.id)
    for job_id in jobs:
        run_job(sessions, folder, job_id)
    with sessions() as session:
        evaluation, detection = get_evaluation(session, ids[0]), get_detection(session, ids[1])
        assert evaluation.job.state == detection.job.state == JobState.DONE, evaluation.job.message
        assert evaluation.report["pictures"] == 2 and evaluation.report["milliseconds"] > 0
        assert detection.summary["pictures"] == 6
        assert get_ensemble(session, ensemble_id).members[1] == {"run_id": second_id, "weight": 2.0}
