"""The data folder of commands that need one, apart from those that work on files alone."""

from pathlib import Path

from sqlalchemy.exc import DatabaseError

from avocet.core.errors import InputError
from avocet.store.database import Sessions, open_database
from avocet.store.folder import DataFolder


def open_data(data: Path, must_exist: bool = False) -> tuple[DataFolder, Sessions]:
    """Open a data folder. Raises `InputError` where it must exist and does not."""
    folder = DataFolder(data)
    if must_exist and not folder.database.is_file():
        raise InputError(f"{data} is no data folder of Avocet: it holds no {folder.database.name}")
    try:
        return folder, open_database(folder.database)
    except (OSError, DatabaseError) as error:
        reason = error.strerror if isinstance(error, OSError) else error.orig
        raise InputError(f"the data folder {data} cannot be opened: {reason}") from None
