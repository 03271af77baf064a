"""``tachys schema``."""

from __future__ import annotations

import click

from tachys.outputs import OUTPUTS


@click.command("schema")
@click.option("--output", type=click.Choice(list(OUTPUTS)), help="Of what a command prints as JSON, in its place.")
def schema_command(output: str | None) -> None:
    """Print the JSON Schema of model files, so that an editor completes and checks them."""
    from tachys.cli.output import print_json
    from tachys.model.keys import described
    from tachys.model.schema import json_schema
    from tachys.outputs import output_schema

    print_json(described(json_schema()) if output is None else output_schema(output))
