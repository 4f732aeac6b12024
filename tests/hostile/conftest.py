"""A server of its own for whoever wants to harm one."""

import pytest

from tests.conftest import QUICK
from tests.servers import servers

# The fuzzer alone takes seconds to be imported.
collect_ignore_glob = ["test_*.py"] if QUICK else []


@pytest.fixture
def serve(tmp_path):
    """Starts servers on one data folder."""
    with servers(tmp_path / "data") as start:
        yield start
