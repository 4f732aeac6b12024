"""A server of its own for whoever wants to harm one."""

import pytest

from avocet.demo.belt import render_still
from avocet.store.database import open_database
from avocet.store.folder import DataFolder
from tests.conftest import QUICK, fill
from tests.ready import add_trained_run
from tests.servers import servers

# The fuzzer alone takes seconds to be imported.
collect_ignore_glob = ["test_*.py"] if QUICK else []


@pytest.fixture
def serve(tmp_path):
    """Starts servers on one data folder."""
    with servers(tmp_path / "data") as start:
        yield start


def belt_folder(place, stills=6):
    """A data folder with a labelled project of some pictures, and a model; nobody has it open."""
    folder = DataFolder(place / "data")
    sessions = open_database(folder.database)
    with sessions.begin() as session:
        fill(session, folder, [render_still(number) for number in range(stills)], place)
        add_trained_run(session, folder, 1)
    sessions.kw["bind"].dispose()
    return folder
