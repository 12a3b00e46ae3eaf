"""The same operations from a shell. A command is loaded when it is asked for: nothing else waits for it.

Exit codes: 0 done; 2 bad input, with one sentence on standard error; 3 the proof is above the tolerance, or frames
are missing; 4 a warning that --allow does not name; 5 a format was refused, the others are written. The JSON forms
are a public interface, described in docs/command-line.md.
"""

from __future__ import annotations

import sys
from importlib import import_module

import click

from anaxis.core.errors import BadInput
from anaxis.core.version import __version__

# A command's module and name below this package, and what it does in a few words.
_COMMANDS = {
    "inspect": ("inspect:inspect", "Show what is in a camera FILE: cameras, range, rate, axes, unit, lens, findings."),
    "values": ("values:values", "Show a camera in the numbers of a package, for each frame."),
    "transfer": ("transfer:transfer", "Write cameras for one or more packages and prove each."),
    "set": (
        "set:set_objects",
        "List the objects of the set in FILE: faces, extent, motion, and whether the camera sees them.",
    ),
    "film": ("film:film", "Write a movie of the view of a camera, or compare it with a returned camera."),
    "join": ("derived:join", "Join the cameras of the shots in a CUT."),
    "frame": ("derived:frame", "Frame an object with a camera in a 360-degree plate."),
    "hold": ("derived:hold", "Hold a camera at a frame as a projection camera, and show its coverage."),
    "recording": (
        "recording:recording",
        "Make a camera from a tracker recording: jumps, gaps, noise, frames of the show.",
    ),
    "lens": ("lens:lens", "Compute fields of view, focal length and crop factor of a film back."),
    "plate": ("plates:plate", "Show what is in a PLATE, and whether it matches a camera."),
    "undistort": ("plates:undistort", "Write the undistorted plate of a camera."),
    "distort": ("plates:distort", "Distort a render of a camera to match the plate as shot."),
    "overscan": ("distortion:overscan", "Show how much larger than its plate a render must be."),
    "st-map": ("distortion:st_map", "Make ST maps that distort and undistort, and read them."),
    "arrive": ("packages:arrive", "Open a FILE as a package would, with its habits, and show the result."),
    "proof": ("packages:proof", "Measure a returned camera against the expected one."),
    "diagnose": ("packages:diagnose", "Find the cause of a mismatch."),
    "picture": ("picture:picture", "Find the cause of a mismatch from screenshots of a package."),
    "profile": ("packages:profile", "List, show, check and compare package profiles."),
    "calibrate": ("packages:calibrate", "Calibrate an unknown package."),
    "take-in": ("take_in:take_in", "Save the cameras of many files in the store of DATABASE_URL."),
    "plan": ("plan:plan", "Show or set the plan of a show."),
    "run": ("plan:run", "Run the plan of a show."),
    "push": ("remote:push", "Upload camera files to a server and save their cameras."),
    "deliver": ("remote:deliver", "Let a server write and prove a camera of its store."),
    "pull": ("remote:pull", "Download the files of a delivery from a server."),
    "runs": ("remote:runs", "Show or run the plan of a show on a server."),
    "show": ("remote:show", "List the cameras of a show on a server."),
    "exchange": ("exchange:exchange", "Check whether a package speaks the exchange."),
    "simulate": ("simulate:simulate", "Run a simulated package or hand-held tracker."),
    "profiles": ("profiles:profiles", "List the shipped package profiles."),
    "start": ("start:start", "Run pages, workers and a database, and restart each one that ends."),
    "people": ("people:people", "List people, and create a link for one who cannot sign in."),
    "contents": ("contents:contents", "Show, move and check the stored bytes of files and deliveries."),
    "backup": ("contents:backup", "Write a backup of the database and of the stored bytes outside it."),
    "restore": ("contents:restore", "Restore a backup into an empty database."),
    "worker": ("worker:worker", "Do long work from the queue in the database of DATABASE_URL."),
    "serve": ("serve:serve", "Serve the pages with the database of DATABASE_URL."),
}


class _Commands(click.Group):
    """The commands by name, each loaded when it is run or asked about."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(_COMMANDS)

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        if name not in _COMMANDS:
            return None
        module, _, attribute = _COMMANDS[name][0].partition(":")
        command: click.Command = getattr(import_module(f"anaxis.cli.{module}"), attribute)
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl([(name, words) for name, (_, words) in _COMMANDS.items()])


@click.group(cls=_Commands, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, package_name="anaxis")
def cli() -> None:
    """Move animated shot cameras between packages, and prove the match in pixels."""


def main() -> None:
    """Entry point: every failure a person can mend is one sentence and exit code 2."""
    try:
        cli.main(prog_name="anaxis", standalone_mode=False)
    except BadInput as error:
        click.echo(f"anaxis: {error.sentence}", err=True)
        sys.exit(2)
    except click.ClickException as error:
        click.echo(f"anaxis: {' '.join(error.format_message().split())} Try 'anaxis --help'.", err=True)
        sys.exit(2)
    except (click.Abort, KeyboardInterrupt):
        sys.exit(130)
