"""Pictures with all that belongs to them, for tests that look into them."""

from sqlalchemy.orm import Session

from avocet.store.tables import Picture
from avocet.work.pictures.listing import Filter, picture_ids


def pictures_of(session: Session, project_id: int, wanted: Filter | None = None) -> list[Picture]:
    """The pictures of a project that a filter leaves, in the order in which they were added."""
    return [session.get_one(Picture, each) for each in picture_ids(session, project_id, wanted or Filter())]
