"""``avocet convert``."""

from pathlib import Path

import click

from avocet.core.errors import InputError
from avocet.work.models.onnx_file import write_onnx


@click.command("convert")
@click.option("--model", type=click.Path(path_type=Path), required=True, help="Model bundle.")
@click.option("--out", type=click.Path(path_type=Path, dir_okay=False), required=True, help="Zip to write.")
def convert(model: Path, out: Path) -> None:
    """Write a model for other programs: an ONNX graph, and a script that finds boxes with it.

    The script needs NumPy and ONNX Runtime, nothing of Avocet.

    \b
    Example:
      avocet convert --model model.zip --out belt-onnx.zip
    """
    if out.suffix.lower() != ".zip":
        raise InputError(f"{out} must end with .zip")
    write_onnx(model, out, model.stem)
    click.echo(f"Written to {out}: model.onnx, find_boxes.py, README.txt")
