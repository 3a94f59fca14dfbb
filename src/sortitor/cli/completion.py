"""`sortitor completion`: the words of a shell that completes commands and options."""

from __future__ import annotations

import click
from click.shell_completion import get_completion_class


@click.command()
@click.argument("shell", type=click.Choice(["bash", "zsh", "fish"]))
def completion(shell: str) -> None:
    """Print what a shell needs to complete commands and options.

    \b
    Examples:
      sortitor completion bash > ~/.local/share/bash-completion/completions/sortitor
      sortitor completion zsh > "${fpath[1]}/_sortitor"
      sortitor completion fish > ~/.config/fish/completions/sortitor.fish
    """
    from sortitor.cli.main import root

    kind = get_completion_class(shell)
    assert kind is not None
    click.echo(kind(root, {}, "sortitor", "_SORTITOR_COMPLETE").source())
