"""What proposals save on clips: the time of their objects beside that of objects that were drawn by hand."""

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from avocet.core.labels.labour import TimeSaved, time_saved
from avocet.store.clip_tables import ClipTrack, Standing
from avocet.store.tables import Clip
from avocet.work.labels.boxes import IMPORTED


def time_on_clip(session: Session, clip: Clip) -> tuple[TimeSaved | None, int]:
    """Estimate what proposals saved on a clip, counting one object as one object.

    How long an object takes by hand is told by all objects of the project's clips that somebody drew, with
    whatever following helped: within one clip nobody draws some and has others proposed. Refusing takes time as
    well, and makes no object.

    Returns
    -------
    saved : TimeSaved or None
        None where too few objects were drawn by hand, or none of this clip was proposed and looked at.
    timed : int
        Objects that were drawn by hand and tell how long one takes.
    """
    of_project = (Clip.project_id == clip.project_id, Clip.binned_at.is_(None), ClipTrack.worked > 0)
    first_origin = func.json_extract(ClipTrack.sets, "$[0].origin")
    drawn = (ClipTrack.model == "", first_origin != IMPORTED)
    by_hand = list(session.scalars(select(ClipTrack.worked).join(Clip).where(*of_project, *drawn)))
    looked_at = select(ClipTrack.standing, ClipTrack.worked).where(
        ClipTrack.clip_id == clip.id,
        ClipTrack.worked > 0,
        ClipTrack.model != "",
        ClipTrack.standing != Standing.PROPOSED,
    )
    helped = session.execute(looked_at).all()
    objects = [float(standing == Standing.KEPT) for standing, _ in helped]
    saved = time_saved([1.0] * len(by_hand), by_hand, objects, [seconds for _, seconds in helped])
    return saved, len(by_hand)
