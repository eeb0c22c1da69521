"""The command group: commands in the order of an analyst's day, loaded when used."""

from __future__ import annotations

import importlib
import io
import sys
from typing import Any

import click

from ferocal._version import __version__
from ferocal.cli import ending
from ferocal.errors import FerocalError
from ferocal.terms.signs import hide, visible

# Summaries stand here, so that the overview imports no command.
SECTIONS: dict[str, dict[str, str]] = {
    "Prepare": {
        "demo": "Measure made-up studies on simulated benches",
        "new": "Write a small study file to start from",
        "add-level": "Add a level to a factor, such as tonight's build",
        "inspect": "Show the study as Ferocal understands it",
        "plan": "Show the visits, their duration, and what they can detect",
        "schema": "Print the JSON Schema of the study file or of an output",
    },
    "Measure": {
        "measure": "Take the runs that the plan still needs",
    },
    "Import": {
        "enter": "Record readings taken earlier or elsewhere",
        "load": "Import readings from files",
        "load-trace": "Import captures of a trace",
        "merge": "Import the runs of a copy of this study",
        "combine": "Combine several studies into one",
        "open": "Make a study of a bundle, with identical results",
        "reference": "Place your results among published ones",
        "noise-floor": "Use the noise measured in an earlier study",
    },
    "Review": {
        "runs": "List runs with their readings, in order of time",
        "history": "Show what happened to a study, in order of time",
        "lookup": "Show the runs behind a number, or the answers of a run",
        "note": 'Attach a note, such as "no sound" or "screen flickers"',
        "exclude": "Exclude runs from the results",
        "restore": "Undo an exclusion",
        "correct": "Correct a reading",
        "repair": "Set damaged rows of the ledger aside",
    },
    "Read": {
        "compare": "Show which configuration changes the scores",
        "table": "Show the readings: centre, spread, runs",
        "factors": "Attribute changes to factors",
        "series": "Find the releases that changed the scores",
        "rank": "Rank configurations, with confidence",
        "claims": "Show which claims the readings support or refute",
        "frames": "Compare frame times: average rate, lows, stutters",
        "soak": "Compare soaks: falls, rises, and sessions",
    },
    "Publish": {
        "report": "Write everything into one page",
        "chart": "Draw a chart: overview, effects, bars, readings and more",
        "export": "Write all readings with their context to a file",
        "bundle": "Pack the study for others: readings, report, charts",
    },
}


class _Text(click.ParamType[str]):
    """A text that can be kept and shown: in UTF-8, and not empty."""

    name = "text"

    def convert(self, value: str, param: click.Parameter | None, ctx: click.Context | None) -> str:
        """The text as it is."""
        if any("\ud800" <= sign <= "\udfff" for sign in value):
            self.fail(f"{value!a} is not a text in UTF-8", param, ctx)
        if "\0" in value:
            self.fail(f"{value!a} has a NUL character in it", param, ctx)
        has_own = param is not None and (param.default == value or param.callback is not None)
        if not value.strip() and not has_own:
            self.fail("is empty", param, ctx)
        return value


def _check_texts(command: click.Command) -> None:
    """Have all texts of a call checked, those of subcommands too."""
    for parameter in command.params:
        if parameter.type is click.STRING:
            parameter.type = _Text()
    for part in getattr(command, "commands", {}).values():
        _check_texts(part)


class CommandGroup(click.Group):
    """A group that loads a command's module only when the command is used."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """Names of all commands, in the order of the sections."""
        return [name for section in SECTIONS.values() for name in section]

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """The command of that name, or None."""
        if cmd_name not in self.list_commands(ctx):
            return None
        command: click.Command = importlib.import_module(
            f"ferocal.cli.{cmd_name.replace('-', '_')}"
        ).command
        _check_texts(command)
        return command

    def format_options(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the commands, and the few options in a line, so that all of it fits a screen."""
        formatter.write_paragraph()
        self.format_commands(ctx, formatter)
        formatter.write_text(
            "Options  --version   --debug (tracebacks)   -h, --help (also after a command)"
        )

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the overview, section by section."""
        names = max(len(name) for commands in SECTIONS.values() for name in commands)
        for title, commands in SECTIONS.items():
            for number, (name, text) in enumerate(commands.items()):
                formatter.write(f"{'' if number else title:<9}{name:<{names}}  {text}\n")

    def invoke(self, ctx: click.Context) -> Any:
        """Run a command and turn errors into a message and an exit status."""
        try:
            return super().invoke(ctx)
        except FerocalError as error:
            if ctx.params.get("debug"):
                raise
            _complain(str(error))
            ctx.exit(error.exit_status)
        except KeyboardInterrupt:
            _complain("interrupted")
            ctx.exit(ending.status())


# The exit status of a fault of our own, that of sysexits for software.
FAULT = 70


def _complain(text: str) -> None:
    click.echo(visible(f"ferocal: {text}"), file=sys.stderr)


def run() -> int:
    """Run the command of this process; its exit status."""
    try:
        status = ferocal.main(prog_name="ferocal", standalone_mode=False)
    except click.Abort:
        _complain("interrupted")
        return ending.status()
    except click.ClickException as error:
        written = io.StringIO()
        error.show(written)
        click.echo(visible(written.getvalue()), file=sys.stderr, nl=False)
        return error.exit_code
    except Exception as error:
        if "--debug" in sys.argv:
            raise
        return _explain(error)
    return status if isinstance(status, int) else 0


def _explain(error: Exception) -> int:
    """Say what went wrong that no command foresees; the exit status."""
    if isinstance(error, OSError):
        where = f"{error.filename}: " if error.filename else "the output cannot be written: "
        _complain(f"{where}{error.strerror or error}")
        return 1
    if isinstance(error, MemoryError):
        _complain("not enough memory")
        return 1
    _complain(
        f"a fault of Ferocal itself, {type(error).__name__}: {str(error)[:200]}; please report it "
        "with what `ferocal --debug …` prints"
    )
    return FAULT


@click.group(
    cls=CommandGroup,
    invoke_without_command=True,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
)
@click.version_option(__version__, prog_name="ferocal")
@click.option("--debug", is_flag=True, help="Show tracebacks of errors.")
@click.pass_context
def ferocal(context: click.Context, debug: bool) -> None:
    """Find out which software configuration changes the scores, and by how much."""
    hide(None)
    if context.invoked_subcommand is None:
        click.echo(context.get_help())
