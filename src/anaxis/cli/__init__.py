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
    "inspect": ("inspect:inspect", "Say what is in a camera FILE: cameras, range, rate, axes, unit, lens, findings."),
    "values": ("values:values", "Show a camera in a package's own numbers, frame by frame."),
    "transfer": ("transfer:transfer", "Write cameras for one or more packages and prove each."),
    "set": (
        "set:set_objects",
        "List the objects of the set in FILE: faces, extent, motion, and whether the camera sees them.",
    ),
    "film": ("film:film", "Write a movie of what a camera sees, also against a camera that came back."),
    "join": ("derived:join", "Join the cameras of a CUT's shots into one."),
    "frame": ("derived:frame", "Frame an object with a camera that stands in a 360-degree plate's."),
    "hold": ("derived:hold", "Hold a camera at a frame: a projection camera, and what it covers."),
    "recording": (
        "recording:recording",
        "Make a camera of a tracker's recording: jumps, gaps, noise, the show's frames.",
    ),
    "lens": ("lens:lens", "Work out fields of view, focal length and crop factor of a film back."),
    "plate": ("plates:plate", "Say what a PLATE holds, and whether it belongs to a camera."),
    "undistort": ("plates:undistort", "Write the undistorted plate of a camera."),
    "distort": ("plates:distort", "Put a render of a camera onto its plate as shot."),
    "overscan": ("distortion:overscan", "Say how much larger than its plate a render must be."),
    "st-map": ("distortion:st_map", "Make ST maps that distort and undistort, and read them."),
    "arrive": ("packages:arrive", "Open a FILE as a package would, with its habits, and print what it sees."),
    "proof": ("packages:proof", "Measure a camera that came back against the one meant."),
    "diagnose": ("packages:diagnose", "Say what happened to a camera on the way."),
    "profile": ("packages:profile", "List, show, check and compare package profiles."),
    "calibrate": ("packages:calibrate", "Calibrate an unknown package."),
    "take-in": ("take_in:take_in", "Keep the cameras of many files in the store that DATABASE_URL names."),
    "plan": ("plan:plan", "What a show owes its packages: show it, set it."),
    "run": ("plan:run", "Deliver what is due of a show's plan."),
    "push": ("remote:push", "Send camera files to a server and keep their cameras."),
    "deliver": ("remote:deliver", "Have a server write and prove a camera of its store."),
    "pull": ("remote:pull", "Fetch the files of a delivery from a server."),
    "runs": ("remote:runs", "What a show's plan owes on a server, and doing it."),
    "show": ("remote:show", "The cameras of a show on a server."),
    "exchange": ("exchange:exchange", "Check whether a package speaks the exchange."),
    "simulate": ("simulate:simulate", "Run a simulated package or hand-held tracker."),
    "profiles": ("profiles:profiles", "List the shipped package profiles."),
    "start": ("start:start", "Run the pages, workers and a database of its own, each started again where it ends."),
    "people": ("people:people", "Who may sign in to the pages, and a new link for one who cannot."),
    "worker": ("worker:worker", "Do long work from the queue; DATABASE_URL names the PostgreSQL that holds it."),
    "serve": ("serve:serve", "Serve the pages; DATABASE_URL names the PostgreSQL to use."),
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
