"""The model that a request names: a run or an ensemble, with its files there."""

from collections.abc import Mapping
from dataclasses import dataclass

from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.store.folder import DataFolder
from avocet.store.tables import Ensemble, Run
from avocet.work.labels.classes import list_classes
from avocet.work.models.bundle_set import Bundles
from avocet.work.models.bundles import bundles_of
from avocet.work.models.ensembles import get_ensemble
from avocet.work.train.runs import get_run


@dataclass(frozen=True)
class ChosenModel:
    """A run or an ensemble.

    Attributes
    ----------
    run, ensemble : Run, Ensemble, optional
        One of them.
    bundles : Bundles
        Its files.
    """

    run: Run | None
    ensemble: Ensemble | None
    bundles: Bundles

    @property
    def record(self) -> Run | Ensemble:
        """The one there is."""
        record = self.run or self.ensemble
        assert record is not None
        return record

    @property
    def project_id(self) -> int:
        return self.record.project_id

    @property
    def name(self) -> str:
        return self.record.name


def classes_known(session: Session, model: ChosenModel) -> list[str]:
    """The classes that a model finds, in the order of its runs."""
    members = model.ensemble.members if model.run is None and model.ensemble is not None else []
    runs = [model.run] if model.run is not None else [get_run(session, each["run_id"]) for each in members]
    return list(dict.fromkeys(str(name) for run in runs for name in run.facts.get("classes", [])))


def check_class_map(session: Session, project_id: int, class_map: Mapping[str, str]) -> None:
    """Refuse classes of a model that are to become classes which the project does not have."""
    here = {each.name for each in list_classes(session, project_id)}
    for name, target in class_map.items():
        if target not in here:
            raise InputError(
                f"{name!r} of the model cannot become {target!r}, which the project does not have"
            )


def chosen_model(
    session: Session, folder: DataFolder, run_id: int | None, ensemble_id: int | None
) -> ChosenModel:
    """Look up what a request names; a run goes before an ensemble.

    Raises
    ------
    NotFound
        If there is no such run or ensemble, or its files are not there.
    InputError
        If neither is named.
    """
    run = get_run(session, run_id) if run_id is not None else None
    ensemble = get_ensemble(session, ensemble_id) if run is None and ensemble_id is not None else None
    return ChosenModel(run, ensemble, bundles_of(session, folder, run, ensemble))
