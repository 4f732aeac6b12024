"""Hooks of mkdocs: the first page of the documents is the README, with its links as they are seen from there."""

import re
from pathlib import Path

from mkdocs.structure.files import File

ROOT = Path(__file__).parent.parent


def on_files(files, config):
    """Add the README as the tour."""
    text = (ROOT / "README.md").read_text()
    text = text.replace("](docs/", "](")
    # What lies outside of the documents is named, not linked.
    text = re.sub(r"\[([^\]]+)\]\((?:\.\./)?(?:bench|src|tests)/[^)]*\)", r"\1", text)
    files.append(File.generated(config, "index.md", content=text))
    return files


def on_page_markdown(markdown, page, config, files):
    """The same for links of the other pages."""
    return re.sub(r"\[([^\]]+)\]\(\.\./[^)]*\)", r"\1", markdown)
