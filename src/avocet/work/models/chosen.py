"""The model that a request names: a run or an ensemble, with its files there."""

from dataclasses import dataclass

from sqlalchemy.orm import Session

from avocet.store.folder import DataFolder
from avocet.store.tables import Ensemble, Run
from avocet.work.models.bundles import Bundles, bundles_of
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
