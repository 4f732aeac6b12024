"""Where files lie below the data folder."""

from pathlib import Path


class DataFolder:
    """The layout of the data folder. Names below it come from hashes and row numbers only.

    Parameters
    ----------
    root : Path
    """

    def __init__(self, root: Path) -> None:
        self.root = root.resolve()

    def without_place(self, message: str) -> str:
        """A message for whoever is not to know where on this machine the data folder lies.

        Examples
        --------
        >>> DataFolder(Path("/srv/belt")).without_place("/srv/belt/exports/3.zip cannot be written")
        'exports/3.zip cannot be written'
        """
        return message.replace(f"{self.root}/", "").replace(str(self.root), "the data folder")

    @property
    def database(self) -> Path:
        return self.root / "avocet.sqlite"

    @property
    def lock(self) -> Path:
        """Held by the server of this folder."""
        return self.root / "server.lock"

    @property
    def queue(self) -> Path:
        return self.root / "queue.sqlite"

    @property
    def incoming(self) -> Path:
        """Uploads on their way in."""
        return self.root / "incoming"

    def staged(self, token: str) -> Path:
        """Uploads that wait for a second step."""
        return self.root / "staged" / token

    def export(self, job_id: int, suffix: str = ".zip") -> Path:
        """A file made for downloading."""
        return self.root / "exports" / f"{job_id}{suffix}"

    def findings(self, project_id: int) -> Path:
        """What the last look at a project's labels found."""
        return self._project(project_id) / "findings.json"

    def looks(self, project_id: int) -> Path:
        """How bright and how strange the boxes are that somebody looked at."""
        return self._project(project_id) / "looks.npz"

    def picture(self, project_id: int, content_hash: str, suffix: str) -> Path:
        return self._project(project_id) / "pictures" / content_hash[:2] / f"{content_hash}{suffix}"

    def thumbnail(self, project_id: int, content_hash: str, white: float | None = None) -> Path:
        return (
            self._project(project_id)
            / "thumbnails"
            / content_hash[:2]
            / f"{look_name(content_hash, white)}.jpg"
        )

    def rendition(self, project_id: int, content_hash: str, white: float | None = None) -> Path:
        return (
            self._project(project_id)
            / "renditions"
            / content_hash[:2]
            / f"{look_name(content_hash, white)}.jpg"
        )

    def clip(self, project_id: int, content_hash: str, suffix: str) -> Path:
        return self._project(project_id) / "clips" / f"{content_hash}{suffix}"

    def clip_frames(self, project_id: int, content_hash: str) -> Path:
        """Which frames a clip has."""
        return self._project(project_id) / "clips" / f"{content_hash}.frames.npz"

    def snapshot(self, project_id: int, content_hash: str) -> Path:
        return self._project(project_id) / "snapshots" / f"{content_hash}.json"

    def snapshot_columns(self, project_id: int, content_hash: str) -> Path:
        """The same as columns, made of it."""
        return self._project(project_id) / "snapshots" / f"{content_hash}.npz"

    def run(self, project_id: int, run_id: int) -> Path:
        return self._project(project_id) / "runs" / str(run_id)

    def study(self, project_id: int, study_id: int) -> Path:
        return self._project(project_id) / "studies" / str(study_id)

    def sheet(self, job_id: int) -> Path:
        """Pictures drawn to be looked at once."""
        return self.root / "sheets" / str(job_id)

    def evaluation(self, project_id: int, evaluation_id: int) -> Path:
        return self._project(project_id) / "evaluations" / f"{evaluation_id}.npz"

    def evaluation_place(self, project_id: int, evaluation_id: int) -> Path:
        """What was sent along for one evaluation: a truth, a model bundle, detections."""
        return self._project(project_id) / "evaluations" / str(evaluation_id)

    def anatomy(self, job_id: int) -> Path:
        """Raw outputs of a model for one picture, kept to be looked at."""
        return self.sheet(job_id) / "raw.npz"

    def detection(self, project_id: int, detection_id: int) -> Path:
        return self._project(project_id) / "detections" / str(detection_id)

    def detection_input(self, project_id: int, detection_id: int) -> Path:
        """Pictures or a clip uploaded just for one detection."""
        return self.detection(project_id, detection_id) / "input"

    def kept_of_address(self, project_id: int, address_id: int) -> Path:
        """Pictures that came to an address and are kept for labelling."""
        return self._project(project_id) / "addresses" / str(address_id) / "kept"

    def live(self, project_id: int, live_id: int) -> Path:
        """What live work shows now, and its recordings."""
        return self._project(project_id) / "live" / str(live_id)

    def _project(self, project_id: int) -> Path:
        return self.root / "projects" / str(project_id)


def look_name(content_hash: str, white: float | None) -> str:
    """What names all that a picture looks like: its content, and what is white where it has more than 8 bits.

    Examples
    --------
    >>> look_name("5f2a", None), look_name("5f2a", 4095.0)
    ('5f2a', '5f2a-4095')
    """
    return content_hash if white is None else f"{content_hash}-{white:.10g}"
