"""Hooks of mkdocs: the README is the first page of the documents, its tour a page for each stage; operations are listed."""

import json
import re
from pathlib import Path

from mkdocs.structure.files import File

ROOT = Path(__file__).parent.parent
TOUR = "## A tour\n"
STAGES = ("Collect", "Train", "Judge", "Use")


def on_files(files, config):
    """Add the README, with its links as they are seen from here."""
    text = (ROOT / "README.md").read_text()
    text = text.replace("](docs/", "](")
    # What lies outside of the documents is named, not linked.
    text = re.sub(r"\[([^\]]+)\]\((?:\.\./)?(?:bench|src|tests)/[^)]*\)", r"\1", text)
    before, tour, after = parts_of(text)
    links = "".join(f"- [{name}]({name.lower()}.md)\n" for name in STAGES)
    files.append(File.generated(config, "index.md", content=f"{before}{TOUR}\n{links}\n{after}"))
    for name, content in tour.items():
        files.append(File.generated(config, f"{name.lower()}.md", content=f"# {name}\n\n{content}"))
    return files


def operations(document):
    """What the interface does, in the order of its subjects."""
    rows = {}
    for path, methods in document["paths"].items():
        for method, said in methods.items():
            if method in ("get", "post", "put", "patch", "delete"):
                told = (said.get("summary") or said.get("description") or "").split("\n")[0].rstrip(".")
                subject = (said.get("tags") or ["other"])[0]
                rows.setdefault(subject, []).append(f"| `{method.upper()} {path}` | {told} |\n")
    head = "\n| | |\n|---|---|\n"
    return "\n## All of it\n" + "".join(
        f"\n### {name.capitalize()}\n{head}{''.join(some)}" for name, some in rows.items()
    )


def parts_of(text):
    """What comes before the tour, the text of each stage by its name, and what comes after it."""
    before, _, rest = text.partition(TOUR)
    tour, mark, after = rest.partition("\n## ")
    pieces = re.split(rf"^\*\*({'|'.join(STAGES)})\.\*\* ", tour, flags=re.MULTILINE)
    found = dict(zip(pieces[1::2], pieces[2::2], strict=True))
    if tuple(found) != STAGES:
        raise ValueError(f"the tour of README.md has {', '.join(found)}, not {', '.join(STAGES)}")
    return before, found, mark.lstrip("\n") + after


def on_page_markdown(markdown, page, config, files):
    """The same for links of the other pages; and all operations on that of the interface."""
    if page.file.src_uri == "api.md":
        markdown += operations(json.loads((ROOT / "frontend" / "openapi.json").read_text()))
    return re.sub(r"\[([^\]]+)\]\(\.\./[^)]*\)", r"\1", markdown)
