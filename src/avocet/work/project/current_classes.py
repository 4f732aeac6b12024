"""Which class a box gets that names one of before: of a page, or a box copied, older than a merge."""

from collections import Counter
from collections.abc import Iterable, Mapping

from sqlalchemy import select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.store.tables import ObjectClass


class CurrentClasses:
    """The classes of a project as boxes that are saved may have them."""

    def __init__(self, session: Session, project_id: int) -> None:
        rows = session.scalars(select(ObjectClass).where(ObjectClass.project_id == project_id))
        self._rows: Mapping[int, ObjectClass] = {row.id: row for row in rows}

    def became(self, class_id: int) -> int:
        """The class itself, or of one that was merged what it became."""
        met: set[int] = set()
        while (row := self._rows.get(class_id)) is not None and row.retired_at and row.merged_into:
            if class_id in met:
                break
            met.add(class_id)
            class_id = row.merged_into
        return class_id

    def check(self, called: Iterable[tuple[str, int]], there: Iterable[int]) -> None:
        """Refuse a class that is not here, and more boxes of a retired one than there are already.

        Parameters
        ----------
        called : iterable of (str, int)
            Of each box, or object, what it is called and its class.
        there : iterable of int
            Classes of those that are there already.

        Raises
        ------
        InputError
        """
        left = Counter(there)
        for name, class_id in called:
            row = self._rows.get(class_id)
            if row is None:
                raise InputError(f"{name} has class {class_id}, which is not here")
            left[class_id] -= 1
            if row.retired_at and left[class_id] < 0:
                raise InputError(
                    f"{name} has class {row.name!r}, which was retired; give it another class, "
                    f"or restore {row.name!r} under Classes"
                )
