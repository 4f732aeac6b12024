"""Prints the server's OpenAPI document, from which the page's types are generated."""

import sys
import tempfile
from pathlib import Path

from avocet.store.database import open_database
from avocet.store.folder import DataFolder
from avocet.web.app import create_app, openapi_document

with tempfile.TemporaryDirectory() as name:
    folder = DataFolder(Path(name))
    app = create_app(folder, open_database(folder.database), lambda job_id, kind: None)
    sys.stdout.write(openapi_document(app))
