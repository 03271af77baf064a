"""``tachys schema``."""

from __future__ import annotations

import click


@click.command("schema")
def schema_command() -> None:
    """Print the JSON Schema of model files, so that an editor completes and checks them."""
    from tachys.cli.output import print_json
    from tachys.model.schema import json_schema

    print_json(json_schema())
