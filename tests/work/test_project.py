"""Projects."""

import pytest

from avocet.core.errors import InputError
from avocet.work.problems import NotFound
from avocet.work.project.projects import create_project, project_named


def test_project_names(data):
    _, sessions = data
    with sessions.begin() as session:
        create_project(session, "Belt")
        for name, expected in (("Belt", "already"), ("  ", "1 to 100"), ("x" * 101, "1 to 100")):
            with pytest.raises(InputError, match=expected):
                create_project(session, name)
        with pytest.raises(NotFound, match="there are 'Belt'"):
            project_named(session, "Oven")
