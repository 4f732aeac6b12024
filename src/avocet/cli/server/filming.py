"""``avocet camera``, which serves pictures to try the server with."""

import click

from avocet.core.errors import InputError
from avocet.demo.camera import SimulatedCamera


@click.command("camera")
@click.option(
    "--port", default=8330, show_default=True, type=click.IntRange(0, 65535), help="Port on this machine."
)
@click.option("--rate", default=12.0, show_default=True, help="Frames a second.")
@click.option("--drop", default=0.0, show_default=True, help="Share of the frames that are left out.")
@click.option("--width", default=960, show_default=True, help="Width of the frames in pixels.")
def camera(port: int, rate: float, drop: float, width: int) -> None:
    """Simulate a camera over the cooling belt: an endless stream of JPEGs over HTTP.

    While it runs, its behaviour is changed by POST /behaviour with drop, stall (seconds), width, rubbish or
    shut.

    \b
    Example:
      avocet camera --port 8330
      curl -X POST 'http://127.0.0.1:8330/behaviour?stall=10'
    """
    if not 0.1 <= rate <= 60:
        raise InputError(f"--rate must lie between 0.1 and 60, not {rate:g}")
    try:
        made = SimulatedCamera(port, rate)
    except OSError as error:
        raise InputError(
            f"port {port} cannot be used: {error.strerror}. Choose another with --port."
        ) from None
    made.change({"drop": [str(drop)], "width": [str(width)]})
    made.start()
    click.echo(f"The camera is at {made.address}. Ctrl-C ends it.")
    try:
        made.wait()
    except KeyboardInterrupt:
        made.close()
