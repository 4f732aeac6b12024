"""Clips in a snapshot: thinned out as a person chose, so that nearly equal frames do not flood what is learnt from."""

from collections.abc import Sequence

from avocet.core.errors import InputError
from avocet.store.database import Sessions, reading
from avocet.store.folder import DataFolder
from avocet.store.tables import LabelledAs
from avocet.work.clips.clips import get_clip
from avocet.work.clips.sampling import pictures_of_clip, planned_frames, sample_clip, thinned
from avocet.work.clips.tracks import tracks_of_clip
from avocet.work.progress import Reporter


def frames_not_learnt_from(
    sessions: Sessions, folder: DataFolder, project_id: int, clips: Sequence[int], reporter: Reporter
) -> set[int]:
    """Pictures of some clips that a snapshot leaves out, because the clip is thinned out to others.

    Of clips that are labelled as objects the frames that are wanted become pictures first, where they are none yet,
    with the boxes of the objects: who freezes such a clip says that all objects on it are labelled.

    Parameters
    ----------
    sessions : Sessions
    folder : DataFolder
    project_id : int
    clips : sequence of int
    reporter : Reporter

    Returns
    -------
    set of int
        Numbers of pictures.

    Raises
    ------
    InputError
        If a clip is another project's, nobody has chosen how it is labelled, or it cannot be read.
    """
    left_out: set[int] = set()
    for clip_id in clips:
        with reading(sessions)() as session:
            clip = get_clip(session, clip_id)
            labelled = bool(tracks_of_clip(session, clip.id, kept_only=True))
        if clip.project_id != project_id:
            raise InputError(f"{clip.name} is a clip of another project")
        if clip.labelled_as is None:
            raise InputError(f"choose first how {clip.name} is labelled, in Collect under Clips")
        wanted = thinned(clip, finished=True)
        numbers = planned_frames(sessions, folder, wanted, reporter)
        if clip.labelled_as == LabelledAs.OBJECTS and labelled:
            sample_clip(sessions, folder, wanted, reporter, numbers)
        with reading(sessions)() as session:
            there = pictures_of_clip(session, clip.id)
        left_out |= {picture for frame, picture in there.items() if frame not in set(numbers)}
    return left_out
