"""Whatever fits the document, or does not: the server answers as the document says, and never with a 500.

The short form runs with the other tests; ``make soak`` sets AVOCET_SOAK to many examples an operation.
"""

import contextlib
import copy
import json
import os
import shutil
from functools import cache
from pathlib import Path

import jsonschema_rs
import pytest
import schemathesis
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis.errors import Unsatisfiable
from schemathesis import GenerationMode
from schemathesis.checks import not_a_server_error
from schemathesis.specs.openapi.checks import content_type_conformance, status_code_conformance

from avocet.store.database import open_database
from avocet.store.folder import DataFolder
from avocet.web.app import create_app
from avocet.web.call_document import CALL_PATH

EXAMPLES = int(os.environ.get("AVOCET_SOAK", "3"))
CHECKS = [not_a_server_error, status_code_conformance, content_type_conformance]
DOCUMENT = json.loads((Path(__file__).parents[2] / "frontend" / "openapi.json").read_text())
SCHEMA = schemathesis.openapi.from_dict(copy.deepcopy(DOCUMENT))
OPERATIONS = [
    (path, method)
    for path, methods in DOCUMENT["paths"].items()
    for method in methods
    # The stream of events never ends by itself, and calls of addresses are answered in front of the application.
    if not path.endswith("/events") and path != CALL_PATH
]


@pytest.fixture(scope="module")
def asked_app(tmp_path_factory, made_once):
    """One application for all: what one operation makes, the next ones meet."""
    place = tmp_path_factory.mktemp("described") / "data"
    shutil.copytree(made_once / "labelled", place)
    folder = DataFolder(place)
    return create_app(folder, open_database(folder.database), lambda job_id, kind: None)


@pytest.mark.long
@pytest.mark.slow
@pytest.mark.parametrize(("path", "method"), OPERATIONS)
def test_every_answer_is_one_that_is_described(asked_app, path, method):
    SCHEMA.app = asked_app
    operation = SCHEMA[path][method.upper()]
    for mode in (GenerationMode.POSITIVE, GenerationMode.NEGATIVE):
        # Where nothing is wanted, nothing can be wrong.
        with contextlib.suppress(Unsatisfiable):
            asked(operation, mode)


@cache
def described(path, method, status, kind):
    """What an answer in JSON has to be like. Read from the document itself: the tool that makes the requests
    rewrites lists of fixed length in a way that its own reader of answers refuses."""
    answers = DOCUMENT["paths"][path][method]["responses"].get(str(status), {})
    schema = answers.get("content", {}).get(kind, {}).get("schema")
    if schema is None or "json" not in kind:
        return None
    return jsonschema_rs.Draft202012Validator({**schema, "components": DOCUMENT["components"]})


def asked(operation, mode):
    """Send requests that fit an operation, or just do not, and check each answer."""

    @given(case=operation.as_strategy(generation_mode=mode))
    @settings(
        max_examples=EXAMPLES,
        derandomize=True,
        database=None,
        deadline=None,
        phases=[Phase.explicit, Phase.generate],
        suppress_health_check=list(HealthCheck),
    )
    def ask(case):
        response = case.call(headers={"Host": "localhost"})
        case.validate_response(response, checks=CHECKS)
        kind = response.headers.get("content-type", [""])[0].partition(";")[0]
        form = described(operation.path, operation.method, response.status_code, kind)
        if form is not None:
            form.validate(response.json())

    ask()
